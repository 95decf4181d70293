// Tallow in Java: UDP, a pool of threads, random numbers.
import java.net.*;
import java.util.*;
import java.util.concurrent.*;

public class Tallow {
	public static void main(String[] a) throws Exception {
		boolean server = a[0].equals("server");
		DatagramSocket s = server ? new DatagramSocket(Integer.parseInt(a[1]), InetAddress.getLoopbackAddress()) : new DatagramSocket();
		ScheduledExecutorService pool = Executors.newScheduledThreadPool(3);
		Random chance = new Random();
		Map<SocketAddress, String> people = new ConcurrentSkipListMap<>(Comparator.comparing(SocketAddress::toString));
		System.out.println(server ? "lit" : "by the candle");
		InetSocketAddress to = server ? null : new InetSocketAddress(a[1], Integer.parseInt(a[2]));
		int[] tick = {0}; boolean[] heard = {false};
		if (server)
			pool.scheduleAtFixedRate(() -> {
				byte[] text = (++tick[0] + " " + chance.nextInt(1000)).getBytes();
				for (SocketAddress p : people.keySet()) try { s.send(new DatagramPacket(text, text.length, p)); } catch (Exception e) { System.out.println(e); }
			}, 50, 50, TimeUnit.MILLISECONDS);
		else
			pool.scheduleAtFixedRate(() -> {
				if (!heard[0]) try { s.send(new DatagramPacket(a[3].getBytes(), a[3].length(), to)); } catch (Exception e) { System.out.println(e); }
			}, 0, 300, TimeUnit.MILLISECONDS);
		for (byte[] buffer = new byte[300];;) {
			DatagramPacket p = new DatagramPacket(buffer, buffer.length);
			s.receive(p);
			String text = new String(buffer, 0, p.getLength());
			if (server) { if (people.put(p.getSocketAddress(), text) == null) System.out.println(text + " came"); continue; }
			heard[0] = true;
			pool.submit(() -> System.out.println(System.nanoTime() / 1000 % 1000000000 + " " + text + " " + new Object().hashCode()));
		}
	}
}
