/* Writes trace lines for zwheel: one file without dependencies beside the standard
 * library, to be copied into a game; C99, or C++11. Say everything that a view
 * believes each time; the lines have only what has changed, and a full snapshot
 * about once a second.
 *
 *   zw_trace *trace = zw_open(stdout);
 *   zw_joined(trace, t, "fern", "dog/fern");
 *   zw_begin(trace, t, tick);                   // tick -1: the game has none
 *   zw_number(trace, "dog/fern", "x", 1.5);     // the fields of an entity in a row
 *   zw_text(trace, "dog/fern", "gait", "run");
 *   zw_flag(trace, "dog/fern", "tired", 0);
 *   zw_predicted(trace);                        // optional: what follows is what the client predicts,
 *   zw_number(trace, "dog/fern", "x", 1.7);     // or after zw_received what last came for it
 *   zw_end(trace);                              // what was not named is despawned
 *   zw_close(trace);                            // does not close the stream
 *
 * Times are seconds on any clock that does not run backwards. Texts are UTF-8.
 * Every line is flushed. Not safe for use by several threads at once. If memory
 * runs out, the trace falls silent and the game goes on. The decimal point must be
 * that of the "C" locale, which is the one a program starts with.
 */
#ifndef ZWTRACE_H
#define ZWTRACE_H

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef struct { char *at; size_t size, room; } zw_buffer;

typedef struct { char *name, *value; int fresh; } zw_field;

typedef struct {
    char *name;
    zw_field *fields;
    size_t count, room, next; /* next: where the next field is looked for first */
    long said;                /* the number of the snapshot it was said in last */
} zw_thing;

typedef struct {
    FILE *out;
    int failed;
    double t, full_at;
    long tick, snapshot;
    int started;
    zw_thing *things;      /* in the order in which they appeared */
    size_t count, room;
    size_t *order;         /* of this snapshot: numbers of things */
    size_t said, order_room;
    size_t *index;         /* hash table of numbers of things + 1 */
    size_t index_room;
    zw_buffer line;
    zw_buffer beside[2], told[2]; /* received and predicted: of this snapshot, and as written last */
    char *last;                   /* the entity that was named last in what is said beside */
    int part;                     /* what is said now: the state, or beside[part - 1] */
} zw_trace;

static void zw_append(zw_trace *z, zw_buffer *b, const char *s, size_t n) {
    if (b->size + n + 1 > b->room) {
        size_t room = (b->size + n + 1) * 2;
        char *more = (char *)realloc(b->at, room);
        if (!more) { z->failed = 1; return; }
        b->at = more;
        b->room = room;
    }
    memcpy(b->at + b->size, s, n);
    b->size += n;
    b->at[b->size] = 0;
}

static void zw_add(zw_trace *z, const char *s, size_t n) { zw_append(z, &z->line, s, n); }

static void zw_puts(zw_trace *z, const char *s) { zw_add(z, s, strlen(s)); }

static void zw_printf(zw_trace *z, const char *format, ...) {
    char text[400]; /* the longest number with three decimals has 314 */
    va_list args;
    va_start(args, format);
    vsnprintf(text, sizeof text, format, args);
    va_end(args);
    zw_puts(z, text);
}

static void zw_quote(zw_trace *z, const char *s) {
    zw_puts(z, "\"");
    for (; *s; s++) {
        unsigned char c = (unsigned char)*s;
        if (c == '"' || c == '\\') { zw_add(z, "\\", 1); zw_add(z, s, 1); }
        else if (c == '\n') zw_puts(z, "\\n");
        else if (c < 0x20) zw_printf(z, "\\u%04x", c);
        else zw_add(z, s, 1);
    }
    zw_puts(z, "\"");
}

static void zw_key(zw_trace *z, const char *name, const char *value) {
    if (!value || !*value) return;
    zw_printf(z, ",\"%s\":", name);
    zw_quote(z, value);
}

static void zw_start_line(zw_trace *z, double t) {
    z->line.size = 0;
    zw_printf(z, "{\"t\":%.6f", t);
}

static void zw_end_line(zw_trace *z) {
    zw_puts(z, "}\n");
    if (z->failed) return;
    fwrite(z->line.at, 1, z->line.size, z->out); /* a trace that cannot be written must not stop the game */
    fflush(z->out);
}

static char *zw_copy(zw_trace *z, const char *s) {
    char *copy = (char *)malloc(strlen(s) + 1);
    if (copy) strcpy(copy, s);
    else z->failed = 1;
    return copy;
}

static size_t zw_hash(const char *s) {
    size_t h = 2166136261u;
    for (; *s; s++) h = (h ^ (unsigned char)*s) * 16777619u;
    return h;
}

static int zw_reindex(zw_trace *z) {
    size_t room = 64, i, at;
    size_t *index;
    while (room < 2 * z->room) room *= 2;
    index = (size_t *)calloc(room, sizeof *index);
    if (!index) { z->failed = 1; return 0; }
    free(z->index);
    z->index = index;
    z->index_room = room;
    for (i = 0; i < z->count; i++) {
        for (at = zw_hash(z->things[i].name) & (room - 1); index[at]; at = (at + 1) & (room - 1)) {}
        index[at] = i + 1;
    }
    return 1;
}

/* The number of a thing, which may be new; (size_t)-1 without memory. */
static size_t zw_find(zw_trace *z, const char *entity) {
    size_t at;
    zw_thing *t;
    if (z->index)
        for (at = zw_hash(entity) & (z->index_room - 1); z->index[at]; at = (at + 1) & (z->index_room - 1))
            if (!strcmp(z->things[z->index[at] - 1].name, entity)) return z->index[at] - 1;
    if (z->count == z->room) {
        size_t room = z->room ? 2 * z->room : 32;
        zw_thing *more = (zw_thing *)realloc(z->things, room * sizeof *more);
        if (!more) { z->failed = 1; return (size_t)-1; }
        z->things = more;
        z->room = room;
    }
    t = &z->things[z->count];
    memset(t, 0, sizeof *t);
    t->said = -1;
    if (!(t->name = zw_copy(z, entity))) return (size_t)-1;
    z->count++;
    return zw_reindex(z) ? z->count - 1 : (size_t)-1;
}

/* Says a field of what was received or predicted: it is written as it comes. */
static void zw_aside(zw_trace *z, const char *entity, const char *field, const char *value) {
    zw_buffer *b = &z->beside[z->part - 1];
    int again = b->size && z->last && !strcmp(z->last, entity);
    z->line.size = 0;
    if (!again) {
        zw_puts(z, b->size ? "},": "");
        zw_quote(z, entity);
        zw_puts(z, ":{");
        free(z->last);
        z->last = zw_copy(z, entity);
    } else zw_puts(z, ",");
    zw_quote(z, field);
    zw_puts(z, ":");
    zw_puts(z, value);
    if (!z->failed) zw_append(z, b, z->line.at, z->line.size);
}

static void zw_say(zw_trace *z, const char *entity, const char *field, const char *value) {
    size_t number, i;
    zw_thing *t;
    zw_field *f = NULL;
    if (z->failed) return;
    if (z->part) {
        zw_aside(z, entity, field, value);
        return;
    }
    if (z->said && !strcmp(z->things[z->order[z->said - 1]].name, entity)) number = z->order[z->said - 1];
    else if ((number = zw_find(z, entity)) == (size_t)-1) return;
    t = &z->things[number];
    if (t->said != z->snapshot) {
        t->said = z->snapshot;
        t->next = 0;
        if (z->said == z->order_room) {
            size_t room = z->order_room ? 2 * z->order_room : 32;
            size_t *more = (size_t *)realloc(z->order, room * sizeof *more);
            if (!more) { z->failed = 1; return; }
            z->order = more;
            z->order_room = room;
        }
        z->order[z->said++] = number;
    }
    for (i = 0; i < t->count && !f; i++) {
        zw_field *guess = &t->fields[(t->next + i) % t->count];
        if (!strcmp(guess->name, field)) f = guess;
    }
    if (!f) {
        if (t->count == t->room) {
            size_t room = t->room ? 2 * t->room : 8;
            zw_field *more = (zw_field *)realloc(t->fields, room * sizeof *more);
            if (!more) { z->failed = 1; return; }
            t->fields = more;
            t->room = room;
        }
        f = &t->fields[t->count];
        memset(f, 0, sizeof *f);
        if (!(f->name = zw_copy(z, field))) return;
        t->count++;
    }
    t->next = (size_t)(f - t->fields) + 1;
    if (!f->value || strcmp(f->value, value)) {
        char *copy = zw_copy(z, value);
        if (!copy) return;
        free(f->value);
        f->value = copy;
        f->fresh = 1;
    }
}

/* Opens a trace that is written to a stream; NULL without memory. */
static zw_trace *zw_open(FILE *out) {
    zw_trace *z = (zw_trace *)calloc(1, sizeof *z);
    if (z) { z->out = out; z->tick = -1; }
    return z;
}

static void zw_drop(zw_thing *t) {
    size_t i;
    for (i = 0; i < t->count; i++) { free(t->fields[i].name); free(t->fields[i].value); }
    free(t->fields);
    free(t->name);
}

static void zw_close(zw_trace *z) {
    size_t i;
    for (i = 0; i < z->count; i++) zw_drop(&z->things[i]);
    free(z->things);
    free(z->order);
    free(z->index);
    free(z->line.at);
    for (i = 0; i < 2; i++) { free(z->beside[i].at); free(z->told[i].at); }
    free(z->last);
    free(z);
}

/* Begins a snapshot of the world at a time. */
static void zw_begin(zw_trace *z, double t, long tick) {
    z->t = t;
    z->tick = tick;
    z->snapshot++;
    z->said = 0;
    z->part = 0;
    z->beside[0].size = z->beside[1].size = 0;
}

/* Says of which tick the events, joins and leaves are that follow, up to the next snapshot,
 * which says its own; -1: of none. */
static void zw_at(zw_trace *z, long tick) { z->tick = tick; }

/* What is said from here to the end of the snapshot is what last came for it. */
static void zw_received(zw_trace *z) { z->part = 1; }

/* What is said from here to the end of the snapshot is what the client predicts. */
static void zw_predicted(zw_trace *z) { z->part = 2; }

/* Says a field that is a number. */
static void zw_number(zw_trace *z, const char *entity, const char *field, double v) {
    char text[400];
    if (v != v) strcpy(text, "\"NaN\"");
    else if (v - v != 0) strcpy(text, v > 0 ? "\"Infinity\"" : "\"-Infinity\"");
    else snprintf(text, sizeof text, "%.3f", v);
    zw_say(z, entity, field, text);
}

/* Says a field that is true or false. */
static void zw_flag(zw_trace *z, const char *entity, const char *field, int v) { zw_say(z, entity, field, v ? "true" : "false"); }

/* Says a field that is text. */
static void zw_text(zw_trace *z, const char *entity, const char *field, const char *v) {
    z->line.size = 0;
    zw_quote(z, v);
    if (!z->failed) {
        char *text = zw_copy(z, z->line.at);
        if (text) zw_say(z, entity, field, text);
        free(text);
    }
}

static void zw_ticked(zw_trace *z) {
    if (z->tick >= 0) zw_printf(z, ",\"tick\":%ld", z->tick);
}

/* Writes the snapshot: what has changed in it, and its tick if it has one. */
static void zw_end(zw_trace *z) {
    size_t i, j, kept = 0;
    int full = !z->started || z->t >= z->full_at, some = 0, aside = 0, despawned = 0;
    if (z->failed) return;
    zw_start_line(z, z->t);
    zw_ticked(z);
    if (full) {
        z->started = 1;
        z->full_at = z->t + 1;
        zw_puts(z, ",\"full\":true,\"state\":{");
    }
    for (i = 0; i < z->said; i++) {
        zw_thing *t = &z->things[z->order[i]];
        int named = 0;
        for (j = 0; j < t->count; j++) {
            zw_field *f = &t->fields[j];
            if (!full && !f->fresh) continue;
            f->fresh = 0;
            if (!named) {
                if (!some && !full) zw_puts(z, ",\"state\":{");
                if (some) zw_puts(z, ",");
                zw_quote(z, t->name);
                zw_puts(z, ":{");
            } else zw_puts(z, ",");
            named = some = 1;
            zw_quote(z, f->name);
            zw_puts(z, ":");
            zw_puts(z, f->value);
        }
        if (named) zw_puts(z, "}");
    }
    if (some || full) zw_puts(z, "}");
    for (i = 0; i < 2; i++) {
        zw_buffer *b = &z->beside[i], before = z->told[i];
        int changed = b->size != before.size || (b->size && memcmp(b->at, before.at, b->size));
        if (b->size && (full || changed)) {
            zw_puts(z, i ? ",\"predicted\":{" : ",\"received\":{");
            zw_add(z, b->at, b->size);
            zw_puts(z, "}}");
            aside = 1;
        }
        z->told[i] = *b;
        *b = before;
    }
    for (i = 0; i < z->count; i++) {
        zw_thing *t = &z->things[i];
        if (t->said == z->snapshot) {
            z->things[kept++] = *t;
            continue;
        }
        if (!full) {
            zw_puts(z, despawned ? "," : ",\"despawned\":[");
            zw_quote(z, t->name);
        }
        despawned = 1;
        zw_drop(t);
    }
    if (despawned) {
        if (!full) zw_puts(z, "]");
        z->count = kept;
        z->said = 0; /* numbers have moved */
        zw_reindex(z);
    }
    if (z->tick >= 0 || full || some || aside || despawned) zw_end_line(z);
}

static void zw_json(zw_trace *z, const char *data) {
    if (!data || !*data) return;
    zw_puts(z, ",\"data\":");
    zw_puts(z, data);
}

/* Says a one-off; data is JSON text. What is NULL or "" is left out. */
static void zw_event(zw_trace *z, double t, const char *name, const char *id, const char *entity, const char *by, const char *to, const char *data) {
    zw_start_line(z, t);
    zw_ticked(z);
    zw_key(z, "event", name);
    zw_key(z, "id", id);
    zw_key(z, "entity", entity);
    zw_key(z, "by", by);
    zw_key(z, "to", to);
    zw_json(z, data);
    zw_end_line(z);
}

/* Says what the player does from now on. */
static void zw_input(zw_trace *z, double t, const char *what, long seq) {
    zw_start_line(z, t);
    zw_key(z, "input", what);
    zw_printf(z, ",\"seq\":%ld", seq);
    zw_end_line(z);
}

/* Says that the code has passed a checkpoint. What is NULL or "" is left out. */
static void zw_checkpoint(zw_trace *z, double t, const char *name, const char *id, const char *entity, const char *by, const char *data) {
    zw_start_line(z, t);
    zw_key(z, "checkpoint", name);
    zw_key(z, "id", id);
    zw_key(z, "entity", entity);
    zw_key(z, "by", by);
    zw_json(z, data);
    zw_end_line(z);
}

/* Says that a packet was handed to the network: its number, or a hash of it; to whom, where
 * a server says it; what is in it, as JSON; and how many bytes it has. What is NULL, "" or 0
 * is left out. */
static void zw_sent(zw_trace *z, double t, const char *packet, const char *to, const char *data, int size) {
    zw_start_line(z, t);
    zw_key(z, "sent", packet);
    zw_key(z, "to", to);
    zw_json(z, data);
    if (size > 0) {
        zw_printf(z, ",\"bytes\":%d", size);
    }
    zw_end_line(z);
}

/* Says that a packet was taken in, and from whom, where a server says it. */
static void zw_got(zw_trace *z, double t, const char *packet, const char *by) {
    zw_start_line(z, t);
    zw_key(z, "got", packet);
    zw_key(z, "by", by);
    zw_end_line(z);
}

/* Says a clock exchange: the round trip, and what the server's clock showed when it
 * answered, in seconds. */
static void zw_clock(zw_trace *z, double t, double ping, double server_t) {
    zw_start_line(z, t);
    zw_printf(z, ",\"ping\":%.6f,\"server_t\":%.6f", ping, server_t);
    zw_end_line(z);
}

/* Says that a player is in, and which entity is theirs. */
static void zw_joined(zw_trace *z, double t, const char *name, const char *entity) {
    zw_start_line(z, t);
    zw_ticked(z);
    zw_key(z, "joined", name);
    zw_key(z, "entity", entity);
    zw_end_line(z);
}

static void zw_left(zw_trace *z, double t, const char *name) {
    zw_start_line(z, t);
    zw_ticked(z);
    zw_key(z, "left", name);
    zw_end_line(z);
}

/* Says that a player was not let in. */
static void zw_refused(zw_trace *z, double t, const char *name) {
    zw_start_line(z, t);
    zw_ticked(z);
    zw_key(z, "refused", name);
    zw_end_line(z);
}

#endif
