# Tallow in Perl: UDP, a loop that polls by select with a short time-out.
use strict; use IO::Socket::INET; use Time::HiRes qw(time); $| = 1;
if ($ARGV[0] eq "server") {
	my $s = IO::Socket::INET->new(LocalAddr => "127.0.0.1:$ARGV[1]", Proto => "udp", Blocking => 0) or die $!;
	my ($next, $tick, %people) = (time, 0); print "lit\n";
	while (1) {
		while (my $from = $s->recv(my $text, 100)) { print "$text came\n" unless $people{$from}; $people{$from} = $text; }
		if (time >= $next) { $next += 0.05; $tick++; $s->send("$tick " . int(rand 1000) . " " . join(",", map { $people{$_} } keys %people), 0, $_) for sort keys %people; }
		select undef, undef, undef, 0.0005;
	}
}
my $s = IO::Socket::INET->new(PeerAddr => "$ARGV[1]:$ARGV[2]", Proto => "udp") or die $!;
print "by the candle\n"; my ($asked, $heard, $bits) = (0, 0, ""); vec($bits, fileno($s), 1) = 1;
while (1) {
	if (!$heard && time - $asked > 0.3) { $asked = time; $s->send($ARGV[3]); }
	if (select my $ready = $bits, undef, undef, 0) { $s->recv(my $text, 200); $heard = 1; printf "%.3f %s\n", time, $text; }
	else { select undef, undef, undef, 0.002; }
}
