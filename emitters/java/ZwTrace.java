import java.io.PrintStream;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;

/**
 * Writes trace lines for zwheel: one file without dependencies, to be copied into a
 * game. Say everything that a view believes each time; the lines have only what has
 * changed, and a full snapshot about once a second.
 *
 * <pre>
 * ZwTrace trace = new ZwTrace(System.out);
 * trace.joined(t, "fern", "dog/fern");
 * trace.begin(t, tick);                  // tick -1: the game has none
 * trace.set("dog/fern", "x", x);         // the fields of an entity in a row:
 * trace.set("dog/fern", "gait", "run");  // numbers, texts and flags
 * trace.predicted();                     // optional: what follows is what the client predicts,
 * trace.set("dog/fern", "x", p);         // or after received() what last came for it
 * trace.end();                           // what was not named is despawned
 * </pre>
 *
 * Times are seconds on any clock that does not run backwards. Not safe for several threads.
 * Java 8 and later.
 */
public final class ZwTrace {
    private final PrintStream out;
    private double t;
    private long tick = -1;
    private final List<Map<String, List<String[]>>> said = new ArrayList<>(); // since begin: the state, received, predicted
    private int part; // which of them is said now
    private final String[] told = {"", ""}; // the last two, as they were written last
    private final Map<String, Map<String, String>> before = new LinkedHashMap<>(); // what was said last
    private double full; // when a full snapshot is due
    private boolean started;

    /** A trace that is written to out, one write a line. */
    public ZwTrace(PrintStream out) {
        this.out = out;
        for (int i = 0; i < 3; i++) said.add(new LinkedHashMap<>());
    }

    /** Begins a snapshot of the world at a time. */
    public void begin(double t, long tick) {
        this.t = t;
        this.tick = tick;
        part = 0;
        for (Map<String, List<String[]>> things : said) things.clear();
    }

    /** Says of which tick the events, joins and leaves are that follow, up to the next snapshot, which says its own; -1: of none. */
    public void at(long tick) { this.tick = tick; }

    /** What is said from here to the end of the snapshot is what last came for it. */
    public void received() { part = 1; }

    /** What is said from here to the end of the snapshot is what the client predicts. */
    public void predicted() { part = 2; }

    /** Says a field that is a number. */
    public void set(String entity, String field, double v) { say(entity, field, number(v)); }

    /** Says a field that is true or false. */
    public void set(String entity, String field, boolean v) { say(entity, field, String.valueOf(v)); }

    /** Says a field that is text. */
    public void set(String entity, String field, String v) { say(entity, field, quote(v)); }

    private void say(String entity, String field, String value) {
        said.get(part).computeIfAbsent(entity, e -> new ArrayList<>()).add(new String[] {field, value});
    }

    /** Writes the snapshot: what has changed in it, and its tick if it has one. */
    public void end() {
        boolean whole = !started || t >= full;
        List<String> state = new ArrayList<>();
        for (Map.Entry<String, List<String[]>> e : said.get(0).entrySet()) {
            Map<String, String> known = before.computeIfAbsent(e.getKey(), k -> new HashMap<>());
            List<String[]> changed = new ArrayList<>();
            for (String[] f : e.getValue()) {
                if (whole || !f[1].equals(known.get(f[0]))) changed.add(f);
                known.put(f[0], f[1]);
            }
            if (!changed.isEmpty()) state.add(thing(e.getKey(), changed));
        }
        List<String> despawned = new ArrayList<>();
        before.keySet().removeIf(name -> {
            boolean gone = !said.get(0).containsKey(name);
            if (gone) despawned.add(quote(name));
            return gone;
        });
        StringBuilder beside = new StringBuilder();
        String[] parts = {"received", "predicted"};
        for (int i = 0; i < 2; i++) {
            List<String> things = new ArrayList<>();
            for (Map.Entry<String, List<String[]>> e : said.get(i + 1).entrySet()) things.add(thing(e.getKey(), e.getValue()));
            String text = String.join(",", things);
            if (!text.isEmpty() && (whole || !text.equals(told[i]))) beside.append(",\"").append(parts[i]).append("\":{").append(text).append('}');
            told[i] = text;
        }
        if (tick < 0 && !whole && state.isEmpty() && beside.length() == 0 && despawned.isEmpty()) return;
        StringBuilder line = new StringBuilder(ticked());
        if (whole) {
            started = true;
            full = t + 1;
            line.append(",\"full\":true");
        }
        if (whole || !state.isEmpty()) line.append(",\"state\":{").append(String.join(",", state)).append('}');
        line.append(beside);
        if (!whole && !despawned.isEmpty()) line.append(",\"despawned\":[").append(String.join(",", despawned)).append(']');
        line(t, line.toString());
    }

    /** Says a one-off, with data that is JSON text. What is "" is left out. */
    public void event(double t, String name, String id, String entity, String by, String to, String data) {
        line(t, ticked() + key("event", name) + key("id", id) + key("entity", entity) + key("by", by) + key("to", to) + json(data));
    }

    /** Says what the player does from now on. */
    public void input(double t, String what, long seq) { line(t, key("input", what) + ",\"seq\":" + seq); }

    /** Says that the code has passed a checkpoint. What is "" is left out. */
    public void checkpoint(double t, String name, String id, String entity, String by, String data) {
        line(t, key("checkpoint", name) + key("id", id) + key("entity", entity) + key("by", by) + json(data));
    }

    /**
     * Says that a packet was handed to the network: its number, or a hash of it; to whom, where a server says it;
     * what is in it, as JSON; and how many bytes it has. What is "" or 0 is left out.
     */
    public void sent(double t, String packet, String to, String data, int size) {
        line(t, key("sent", packet) + key("to", to) + json(data) + (size > 0 ? ",\"bytes\":" + size : ""));
    }

    /** Says that a packet was taken in, and from whom, where a server says it. */
    public void got(double t, String packet, String by) { line(t, key("got", packet) + key("by", by)); }

    /** Says a clock exchange: the round trip, and what the server's clock showed when it answered, in seconds. */
    public void clock(double t, double ping, double serverT) { line(t, String.format(Locale.ROOT, ",\"ping\":%.6f,\"server_t\":%.6f", ping, serverT)); }

    /** Says that a player is in, and which entity is theirs. */
    public void joined(double t, String name, String entity) { line(t, ticked() + key("joined", name) + key("entity", entity)); }

    /** Says that a player has left. */
    public void left(double t, String name) { line(t, ticked() + key("left", name)); }

    /** Says that a player was not let in. */
    public void refused(double t, String name) { line(t, ticked() + key("refused", name)); }

    private String ticked() { return tick < 0 ? "" : ",\"tick\":" + tick; }

    private void line(double t, String rest) {
        byte[] line = (String.format(Locale.ROOT, "{\"t\":%.6f", t) + rest + "}\n").getBytes(StandardCharsets.UTF_8);
        out.write(line, 0, line.length); // a PrintStream that cannot be written throws nothing: it must not stop the game
        out.flush();
    }

    private static String thing(String entity, List<String[]> fields) {
        List<String> list = new ArrayList<>();
        for (String[] f : fields) list.add(quote(f[0]) + ":" + f[1]);
        return quote(entity) + ":{" + String.join(",", list) + "}";
    }

    private static String key(String name, String value) { return value.isEmpty() ? "" : ",\"" + name + "\":" + quote(value); }

    private static String json(String data) { return data.isEmpty() ? "" : ",\"data\":" + data; }

    private static String number(double v) {
        if (Double.isNaN(v)) return "\"NaN\"";
        if (Double.isInfinite(v)) return v > 0 ? "\"Infinity\"" : "\"-Infinity\"";
        return String.format(Locale.ROOT, "%.3f", v);
    }

    private static String quote(String s) {
        StringBuilder b = new StringBuilder("\"");
        for (int i = 0; i < s.length(); i++) {
            char c = s.charAt(i);
            if (c == '"' || c == '\\') b.append('\\').append(c);
            else if (c == '\n') b.append("\\n");
            else if (c < 0x20) b.append(String.format("\\u%04x", (int) c));
            else b.append(c);
        }
        return b.append('"').toString();
    }
}
