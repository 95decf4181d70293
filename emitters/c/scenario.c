#include "zwtrace.h"

static void picture(zw_trace *z, double t, long tick, double x, const char *gait, int tired, void (*rest)(zw_trace *)) {
    zw_begin(z, t, tick);
    zw_number(z, "dog/fern", "x", x);
    zw_text(z, "dog/fern", "gait", gait);
    zw_flag(z, "dog/fern", "tired", tired);
    if (rest) rest(z);
    zw_end(z);
}

static void sheep(zw_trace *z) {
    zw_number(z, "sheep/s01", "x", 10);
    zw_number(z, "sheep/s01", "y", 0.5);
}

static void gate(zw_trace *z) { zw_text(z, "gate/n", "label", "say \"hi\"\\\n\001 \xc3\xbc" "ber \xe7\xbe\x8a"); }

static void odd(zw_trace *z) {
    gate(z);
    zw_number(z, "sheep/s02", "x", HUGE_VAL);
    zw_number(z, "sheep/s02", "y", -HUGE_VAL);
}

static void own(zw_trace *z) {
    zw_received(z);
    zw_number(z, "dog/fern", "x", 0.125);
    zw_predicted(z);
    zw_number(z, "dog/fern", "x", 0.5);
    zw_flag(z, "dog/fern", "tired", 0);
}

int main(void) {
    zw_trace *z = zw_open(stdout);
    double zero = 0;
    if (!z) return 1;
    zw_joined(z, 0, "fern", "dog/fern");
    picture(z, 0, 0, -3.25, "run", 0, sheep);
    picture(z, 0.05, 1, -2.875, "run", 0, sheep);
    picture(z, 0.1, 2, -2.875, "run", 0, sheep);
    picture(z, 0.15, 3, -2.875, "trot", 1, gate);
    zw_event(z, 0.16, "bark", "81", "dog/fern", "fern", "moss", "{\"loud\":true}");
    zw_event(z, 0.17, "final", NULL, NULL, NULL, "", NULL);
    zw_input(z, 0.18, "run", 12);
    zw_checkpoint(z, 0.19, "touch", "7", "bell/brass", "fern", NULL);
    zw_sent(z, 0.191, "1042", "fern", "\"sheep/s01 is gone\"", 96);
    zw_got(z, 0.192, "7", "fern");
    zw_clock(z, 0.2, 0.081, 12.5);
    picture(z, 0.25, 5, zero / zero, "trot", 1, odd);
    picture(z, 1, 20, 1234567.891, "trot", 1, NULL);
    picture(z, 1.1, -1, 0, "trot", 1, NULL);
    picture(z, 1.2, -1, 0, "trot", 1, own);
    picture(z, 1.3, -1, 0, "trot", 1, own);
    zw_at(z, 25);
    zw_left(z, 1.5, "fern");
    zw_refused(z, 1.6, "oak");
    zw_close(z);
    return 0;
}
