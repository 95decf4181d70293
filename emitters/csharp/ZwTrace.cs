// Writes trace lines for zwheel: one file without dependencies, to be copied into a
// game (C# 6 and later). Say everything that a view believes each time; the lines
// have only what has changed, and a full snapshot about once a second.
//
//   var trace = new ZwTrace(Console.Out);
//   trace.Joined(t, "fern", "dog/fern");
//   trace.Begin(t, tick);                  // tick -1: the game has none
//   trace.Set("dog/fern", "x", 1.5);       // numbers, flags and text; an entity's in a row
//   trace.Predicted();                     // optional: what follows is what the client predicts,
//   trace.Set("dog/fern", "x", 1.7);       // or after Received() what last came for it
//   trace.End();                           // what was not named is despawned
//
// Times are seconds on any clock that does not run backwards. Every line is
// flushed. Not safe for use by several threads at once.

using System;
using System.Collections.Generic;
using System.Globalization;
using System.IO;
using System.Text;

public sealed class ZwTrace
{
    private sealed class Said
    {
        public string Entity;
        public readonly List<KeyValuePair<string, string>> Fields = new List<KeyValuePair<string, string>>();
    }

    private readonly TextWriter output;
    private readonly List<Said> now = new List<Said>();
    private readonly List<Said>[] beside = { new List<Said>(), new List<Said>() }; // received, predicted
    private readonly string[] told = { "", "" }; // these, as they were written last
    private List<Said> saying; // now, or one of beside
    private readonly Dictionary<string, Dictionary<string, string>> before = new Dictionary<string, Dictionary<string, string>>();
    private List<string> names = new List<string>(); // of before, in order
    private double t, fullAt = double.NegativeInfinity;
    private long tick = -1;

    public ZwTrace(TextWriter output)
    {
        this.output = output;
    }

    /// <summary>Begins a snapshot of the world at a time.</summary>
    public void Begin(double t, long tick = -1)
    {
        this.t = t;
        this.tick = tick;
        now.Clear();
        beside[0].Clear();
        beside[1].Clear();
        saying = now;
    }

    /// <summary>Says of which tick the events, joins and leaves are that follow, up to the next
    /// snapshot, which says its own; -1: of none.</summary>
    public void At(long tick) { this.tick = tick; }

    /// <summary>What is set from here to the end of the snapshot is what last came for it.</summary>
    public void Received() { saying = beside[0]; }

    /// <summary>What is set from here to the end of the snapshot is what the client predicts.</summary>
    public void Predicted() { saying = beside[1]; }

    public void Set(string entity, string field, double value) { Say(entity, field, Number(value)); }

    public void Set(string entity, string field, bool value) { Say(entity, field, value ? "true" : "false"); }

    public void Set(string entity, string field, string value) { Say(entity, field, Quote(value)); }

    private void Say(string entity, string field, string value)
    {
        if (saying.Count == 0 || saying[saying.Count - 1].Entity != entity) saying.Add(new Said { Entity = entity });
        saying[saying.Count - 1].Fields.Add(new KeyValuePair<string, string>(field, value));
    }

    /// <summary>Writes the snapshot: what has changed in it, and its tick if it has one.</summary>
    public void End()
    {
        bool full = t >= fullAt;
        var state = new List<string>();
        var despawned = new List<string>();
        var there = new HashSet<string>();
        foreach (var said in now)
        {
            there.Add(said.Entity);
            Dictionary<string, string> known;
            if (!before.TryGetValue(said.Entity, out known))
            {
                known = new Dictionary<string, string>();
                before[said.Entity] = known;
                names.Add(said.Entity);
            }
            var fields = new List<string>();
            foreach (var f in said.Fields)
            {
                string last;
                if (full || !known.TryGetValue(f.Key, out last) || last != f.Value) fields.Add(Quote(f.Key) + ":" + f.Value);
                known[f.Key] = f.Value;
            }
            if (fields.Count > 0) state.Add(Quote(said.Entity) + ":{" + string.Join(",", fields) + "}");
        }
        var kept = new List<string>();
        foreach (var name in names)
        {
            if (there.Contains(name))
            {
                kept.Add(name);
                continue;
            }
            despawned.Add(Quote(name));
            before.Remove(name);
        }
        names = kept;
        string more = "";
        for (int i = 0; i < 2; i++)
        {
            var things = new List<string>();
            foreach (var said in beside[i])
            {
                var fields = new List<string>();
                foreach (var f in said.Fields) fields.Add(Quote(f.Key) + ":" + f.Value);
                things.Add(Quote(said.Entity) + ":{" + string.Join(",", fields) + "}");
            }
            string text = string.Join(",", things);
            if (text != "" && (full || text != told[i])) more += (i == 0 ? ",\"received\":{" : ",\"predicted\":{") + text + "}";
            told[i] = text;
        }
        if (tick < 0 && !full && state.Count == 0 && more == "" && despawned.Count == 0) return;
        var line = new StringBuilder(Ticked());
        if (full)
        {
            fullAt = t + 1;
            line.Append(",\"full\":true");
        }
        if (full || state.Count > 0) line.Append(",\"state\":{").Append(string.Join(",", state)).Append("}");
        line.Append(more);
        if (!full && despawned.Count > 0) line.Append(",\"despawned\":[").Append(string.Join(",", despawned)).Append("]");
        Line(t, line.ToString());
    }

    /// <summary>Says a one-off; id, entity, by, to and data, as JSON text, where they are
    /// known.</summary>
    public void Event(double t, string name, string id = "", string entity = "", string by = "", string to = "", string data = "")
    {
        Line(t, Ticked() + Key("event", name) + Key("id", id) + Key("entity", entity) + Key("by", by) + Key("to", to) + Json(data));
    }

    /// <summary>Says what the player does from now on.</summary>
    public void Input(double t, string what, long seq)
    {
        Line(t, Key("input", what) + ",\"seq\":" + seq.ToString(CultureInfo.InvariantCulture));
    }

    /// <summary>Says that the code has passed a checkpoint.</summary>
    public void Checkpoint(double t, string name, string id = "", string entity = "", string by = "", string data = "")
    {
        Line(t, Key("checkpoint", name) + Key("id", id) + Key("entity", entity) + Key("by", by) + Json(data));
    }

    /// <summary>Says that a packet was handed to the network: its number, or a hash of it; to whom,
    /// where a server says it; what is in it, as JSON; and how many bytes it has.</summary>
    public void Sent(double t, string packet, string to = "", string data = "", int size = 0)
    {
        string bytes = size > 0 ? ",\"bytes\":" + size.ToString(CultureInfo.InvariantCulture) : "";
        Line(t, Key("sent", packet) + Key("to", to) + Json(data) + bytes);
    }

    /// <summary>Says that a packet was taken in, and from whom, where a server says it.</summary>
    public void Got(double t, string packet, string by = "") { Line(t, Key("got", packet) + Key("by", by)); }

    /// <summary>Says a clock exchange: the round trip, and what the server's clock showed
    /// when it answered, in seconds.</summary>
    public void Clock(double t, double ping, double serverT)
    {
        Line(t, ",\"ping\":" + Seconds(ping) + ",\"server_t\":" + Seconds(serverT));
    }

    /// <summary>Says that a player is in, and which entity is theirs.</summary>
    public void Joined(double t, string name, string entity) { Line(t, Ticked() + Key("joined", name) + Key("entity", entity)); }

    public void Left(double t, string name) { Line(t, Ticked() + Key("left", name)); }

    /// <summary>Says that a player was not let in.</summary>
    public void Refused(double t, string name) { Line(t, Ticked() + Key("refused", name)); }

    private string Ticked() { return tick < 0 ? "" : ",\"tick\":" + tick.ToString(CultureInfo.InvariantCulture); }

    private void Line(double t, string rest)
    {
        output.Write("{\"t\":" + Seconds(t) + rest + "}\n");
        output.Flush();
    }

    private static string Key(string name, string value)
    {
        return string.IsNullOrEmpty(value) ? "" : ",\"" + name + "\":" + Quote(value);
    }

    private static string Json(string data) { return string.IsNullOrEmpty(data) ? "" : ",\"data\":" + data; }

    private static string Seconds(double v) { return v.ToString("F6", CultureInfo.InvariantCulture); }

    private static string Number(double v)
    {
        if (double.IsNaN(v)) return "\"NaN\"";
        if (double.IsInfinity(v)) return v > 0 ? "\"Infinity\"" : "\"-Infinity\"";
        return v.ToString("F3", CultureInfo.InvariantCulture);
    }

    private static string Quote(string text)
    {
        var b = new StringBuilder("\"");
        foreach (char c in text)
        {
            if (c == '"' || c == '\\') b.Append('\\').Append(c);
            else if (c == '\n') b.Append("\\n");
            else if (c < 0x20) b.Append("\\u").Append(((int)c).ToString("x4", CultureInfo.InvariantCulture));
            else b.Append(c);
        }
        return b.Append('"').ToString();
    }
}
