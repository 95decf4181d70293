/** What every emitter is made to say. */
public class Scenario {
    private static final ZwTrace trace = new ZwTrace(System.out);

    private static void picture(double t, long tick, double x, String gait, boolean tired, Runnable rest) {
        trace.begin(t, tick);
        trace.set("dog/fern", "x", x);
        trace.set("dog/fern", "gait", gait);
        trace.set("dog/fern", "tired", tired);
        rest.run();
        trace.end();
    }

    private static void sheep() {
        trace.set("sheep/s01", "x", 10.0);
        trace.set("sheep/s01", "y", 0.5);
    }

    private static void gate() { trace.set("gate/n", "label", "say \"hi\"\\\n\001 \u00fcber \u7f8a"); }

    private static void odd() {
        gate();
        trace.set("sheep/s02", "x", Double.POSITIVE_INFINITY);
        trace.set("sheep/s02", "y", Double.NEGATIVE_INFINITY);
    }

    private static void own() {
        trace.received();
        trace.set("dog/fern", "x", 0.125);
        trace.predicted();
        trace.set("dog/fern", "x", 0.5);
        trace.set("dog/fern", "tired", false);
    }

    public static void main(String[] args) {
        trace.joined(0, "fern", "dog/fern");
        picture(0, 0, -3.25, "run", false, Scenario::sheep);
        picture(0.05, 1, -2.875, "run", false, Scenario::sheep);
        picture(0.1, 2, -2.875, "run", false, Scenario::sheep);
        picture(0.15, 3, -2.875, "trot", true, Scenario::gate);
        trace.event(0.16, "bark", "81", "dog/fern", "fern", "moss", "{\"loud\":true}");
        trace.event(0.17, "final", "", "", "", "", "");
        trace.input(0.18, "run", 12);
        trace.checkpoint(0.19, "touch", "7", "bell/brass", "fern", "");
        trace.sent(0.191, "1042", "fern", "\"sheep/s01 is gone\"", 96);
        trace.got(0.192, "7", "fern");
        trace.clock(0.2, 0.081, 12.5);
        picture(0.25, 5, Double.NaN, "trot", true, Scenario::odd);
        picture(1, 20, 1234567.891, "trot", true, () -> {});
        picture(1.1, -1, 0, "trot", true, () -> {});
        picture(1.2, -1, 0, "trot", true, Scenario::own);
        picture(1.3, -1, 0, "trot", true, Scenario::own);
        trace.at(25);
        trace.left(1.5, "fern");
        trace.refused(1.6, "oak");
    }
}
