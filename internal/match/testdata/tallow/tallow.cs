// Tallow in C#: TCP, threads and a timer.
using System; using System.Collections.Generic; using System.IO; using System.Net; using System.Net.Sockets; using System.Threading;
class Tallow {
	static void Main(string[] a) {
		var chance = new Random();
		if (a[0] == "server") {
			var l = new TcpListener(IPAddress.Loopback, int.Parse(a[1])); l.Start();
			var people = new List<StreamWriter>(); var tick = 0;
			Console.WriteLine("lit");
			var timer = new Timer(_ => { lock (people) { tick++; people.RemoveAll(p => { try { p.WriteLine(tick + " " + chance.Next(1000)); p.Flush(); return false; } catch (IOException) { return true; } }); } }, null, 50, 50);
			for (;;) {
				var c = l.AcceptTcpClient();
				new Thread(() => { var name = new StreamReader(c.GetStream()).ReadLine(); Console.WriteLine(name + " came"); lock (people) people.Add(new StreamWriter(c.GetStream())); }).Start();
			}
		}
		var s = new TcpClient(a[1], int.Parse(a[2])); var o = new StreamWriter(s.GetStream()); o.WriteLine(a[3]); o.Flush();
		Console.WriteLine("by the candle");
		string last = ""; var gate = new object();
		new Thread(() => { var r = new StreamReader(s.GetStream()); for (string text; (text = r.ReadLine()) != null;) lock (gate) { last = text; Monitor.Pulse(gate); } }) { IsBackground = true }.Start();
		for (;;) lock (gate) { Monitor.Wait(gate, 70); Console.WriteLine(Environment.TickCount + " " + last + " " + new object().GetHashCode()); }
	}
}
