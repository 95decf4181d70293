using System;
using System.IO;
using System.Text;

public static class Scenario
{
    private static ZwTrace trace;

    private static void Picture(double t, long tick, double x, string gait, bool tired, Action rest = null)
    {
        trace.Begin(t, tick);
        trace.Set("dog/fern", "x", x);
        trace.Set("dog/fern", "gait", gait);
        trace.Set("dog/fern", "tired", tired);
        if (rest != null) rest();
        trace.End();
    }

    private static void Sheep()
    {
        trace.Set("sheep/s01", "x", 10.0);
        trace.Set("sheep/s01", "y", 0.5);
    }

    private static void Gate() { trace.Set("gate/n", "label", "say \"hi\"\\\n\u0001 \u00fcber \u7f8a"); }

    private static void Odd()
    {
        Gate();
        trace.Set("sheep/s02", "x", double.PositiveInfinity);
        trace.Set("sheep/s02", "y", double.NegativeInfinity);
    }

    private static void Own()
    {
        trace.Received();
        trace.Set("dog/fern", "x", 0.125);
        trace.Predicted();
        trace.Set("dog/fern", "x", 0.5);
        trace.Set("dog/fern", "tired", false);
    }

    public static void Main()
    {
        trace = new ZwTrace(new StreamWriter(Console.OpenStandardOutput(), new UTF8Encoding(false)));
        trace.Joined(0, "fern", "dog/fern");
        Picture(0, 0, -3.25, "run", false, Sheep);
        Picture(0.05, 1, -2.875, "run", false, Sheep);
        Picture(0.1, 2, -2.875, "run", false, Sheep);
        Picture(0.15, 3, -2.875, "trot", true, Gate);
        trace.Event(0.16, "bark", "81", "dog/fern", "fern", "moss", "{\"loud\":true}");
        trace.Event(0.17, "final");
        trace.Input(0.18, "run", 12);
        trace.Checkpoint(0.19, "touch", "7", "bell/brass", "fern");
        trace.Sent(0.191, "1042", "fern", "\"sheep/s01 is gone\"", 96);
        trace.Got(0.192, "7", "fern");
        trace.Clock(0.2, 0.081, 12.5);
        Picture(0.25, 5, double.NaN, "trot", true, Odd);
        Picture(1, 20, 1234567.891, "trot", true);
        Picture(1.1, -1, 0, "trot", true);
        Picture(1.2, -1, 0, "trot", true, Own);
        Picture(1.3, -1, 0, "trot", true, Own);
        trace.At(25);
        trace.Left(1.5, "fern");
        trace.Refused(1.6, "oak");
    }
}
