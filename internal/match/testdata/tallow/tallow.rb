# Tallow in Ruby: UDP, threads that sleep, random numbers.
require "socket"
$stdout.sync = true
if ARGV[0] == "server"
  s = UDPSocket.new
  s.bind("127.0.0.1", ARGV[1].to_i)
  people, lock = {}, Mutex.new
  puts "lit"
  Thread.new do
    (1..).each do |tick|
      sleep 0.05
      lock.synchronize { people.each { |port, name| s.send("#{tick} #{rand(1000)} #{name.hash % 1000}", 0, "127.0.0.1", port) } }
    end
  end
  loop do
    text, from = s.recvfrom(100)
    lock.synchronize { puts "#{text} came" unless people[from[1]]; people[from[1]] = text }
  end
end
s = UDPSocket.new
s.connect(ARGV[1], ARGV[2].to_i)
puts "by the candle"
heard = Queue.new
Thread.new { loop { heard << s.recv(200) } }
s.send(ARGV[3], 0)
loop do
  sleep 0.2
  s.send(ARGV[3], 0) if heard.empty?
  puts "#{(Process.clock_gettime(Process::CLOCK_MONOTONIC) * 1000).to_i} #{heard.size} #{heard.empty? ? "" : heard.pop} #{Object.new.object_id}"
end
