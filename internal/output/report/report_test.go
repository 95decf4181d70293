package report

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zitherwheel/internal/campaign/selftest"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/metrics"
)

func s(seconds float64) judge.Seconds { return judge.Seconds(seconds * float64(time.Second)) }

func text(write func(*Text)) string {
	var b bytes.Buffer
	write(NewText(&b))
	return b.String()
}

func TestEveryKindHasASentence(t *testing.T) {
	for _, c := range []struct {
		f    judge.Finding
		want string
	}{
		{judge.Finding{Kind: judge.Ghost, View: "oak", Entity: "dog/ash", BeganAt: s(20.5), EndedAt: s(40), Open: true, Ended: "still so at the end"},
			"oak shows dog/ash, which is gone: 20.500 s to 40.000 s (still so at the end)"},
		{judge.Finding{Kind: judge.Missing, View: "oak", Entity: "dog/ash", BeganAt: s(1), EndedAt: s(2)}, "oak does not show dog/ash, which is there: 1.000 s to 2.000 s"},
		{judge.Finding{Kind: judge.Frozen, View: "oak", Entity: "dog/oak", Own: true, Subject: judge.ParseSubject("x, y"), BeganAt: s(1), EndedAt: s(2)}, "oak shows dog/oak (its own) with a wrong x, y: 1.000 s to 2.000 s"},
		{judge.Finding{Kind: judge.EventLost, View: "oak", Entity: "dog/ash", Subject: judge.ParseSubject("event bark"), BeganAt: s(1), EndedAt: s(2)}, "oak, event bark: 1.000 s to 2.000 s"},
		{judge.Finding{Kind: judge.Broken, View: "oak", Entity: "fern", Subject: judge.ParseSubject("sequence bell"), BeganAt: s(1)}, "sequence bell, begun by fern at 1.000 s, did not complete"},
		{judge.Finding{Kind: judge.DuplicateEntity, View: "server", Entity: "dog/ash-2", Subject: judge.ParseSubject("unique player"), Invariant: true, BeganAt: s(1), EndedAt: s(2)}, "dog/ash-2 breaks the rule unique player, in the view of server: 1.000 s to 2.000 s"},
		{judge.Finding{Kind: judge.RejectedButPlaying, View: "oak", BeganAt: s(1), EndedAt: s(2)}, "oak plays on without being in the match: 1.000 s to 2.000 s"},
		{judge.Finding{Kind: judge.Jerky, View: "oak", Why: "unevenness is 9, the limit is 6"}, "oak, over the whole match: unevenness is 9, the limit is 6"},
		{judge.Finding{Kind: judge.Frozen, View: "oak", Subject: judge.ParseSubject("ticks"), Ticks: true, Tick: 20, BeganAt: s(1), EndedAt: s(2), Open: true, Ended: "still so at the end"}, "oak tells no tick after 20 (1.000 s): still so at the end"},
		{judge.Finding{Kind: judge.Drift, View: "oak", Entity: "dog/ash", Subject: judge.ParseSubject("x, y"), Ticks: true, Tick: 20, LastTick: 40, BeganAt: s(1), EndedAt: s(2)}, "oak shows dog/ash with a wrong x, y: tick 20 (1.000 s) to tick 40"},
	} {
		assert.Equal(t, c.want, Sentence(&c.f))
	}
}

// verdict is one with two incidents of the same signature.
func verdict() *judge.Verdict {
	age, gap := s(0.42), 1.25
	finding := func(id, view string, began float64) *judge.Finding {
		return &judge.Finding{ID: id, Kind: judge.Frozen, Signature: "frozen: dog x, y (other player's view)", View: view, Entity: "dog/ash", Subject: judge.ParseSubject("x, y"),
			BeganAt: s(began), EndedAt: s(began + 2), Ended: "the view's next change", Apart: s(1.5), Why: "the view kept an old value", Linked: true,
			Evidence: judge.Evidence{Since: s(began - 0.25), Lost: 2, Late: 1,
				Values: []judge.ValueRow{{At: s(began), View: "1, 2", Reference: "1, 2", Age: &age}, {At: s(began + 0.1), View: "1, 2", Reference: "3, 2", Gap: &gap}},
				Packets: []judge.PacketRow{{Direction: "down", Number: 57, Sent: s(began - 0.1), Size: 312, Outcome: "lost"}, {Direction: "down", Number: 58, Outcome: "lost-in-row"},
					{Direction: "up", Number: 9, Outcome: "late", Delay: s(0.3), Usual: s(0.08)}},
				Around: []judge.MemberRow{{At: s(began - 1), Said: "server", What: "ash left"}}}}
	}
	return &judge.Verdict{Outcome: judge.OutOfSync, Alignment: "shared", Reference: "server", Packets: true, Comparisons: 1234567, Excused: 1, Doubtful: 1,
		Views:     []judge.ViewReport{{Name: "fern", Judged: s(39.9), Entities: 28, Comparisons: 1234567, Findings: 2}},
		To:        s(40),
		Ending:    ending.Ending{How: ending.Failed, Why: "the server ended by itself", Breaks: []ending.Break{{Kind: ending.Silent, View: "fern", At: s(9), How: "its process is stopped"}}},
		Warnings:  []judge.Warning{{Rule: "x of boat/* (any)", Text: "the watch rule for x of boat/* (any) met nothing"}},
		Rules:     []judge.RuleReport{{Entities: "boat/*", Of: "any", Fields: "x", Judged: true}, {Entities: "tuft/*", Of: "any", Fields: "x"}},
		Events:    []*judge.EventReport{{Event: "bark", Sent: 3, Views: []judge.EventViewCount{{View: "fern", Expected: 3, Seen: 2, Lost: 1, Repeated: 4}}}},
		Findings:  []*judge.Finding{finding("F1", "fern", 5), finding("F2", "moss", 5.5), finding("F3", "fern", 20)},
		Incidents: []judge.Incident{{ID: "I1", Kind: judge.Frozen, Head: "F1", Findings: []string{"F1", "F2"}, Views: []string{"fern", "moss"}, Entities: []string{"dog/ash"}}, {ID: "I2", Kind: judge.Frozen, Head: "F3", BeganAt: s(20), Findings: []string{"F3"}}},
	}
}

func TestAVerdictIsToldWithItsEvidence(t *testing.T) {
	got := text(func(t *Text) { t.Verdict(verdict()) })
	for _, line := range []string{
		"OUT OF SYNC   2 incidents, 3 findings",
		"I1  frozen  fern shows dog/ash with a wrong x, y: 5.000 s to 7.000 s",
		"    in all 2 findings, views fern, moss and entity dog/ash",
		"    F1: the view kept an old value\n      lasted 1.5 s; ended by the view's next change",
		"      5.000 s   1, 2         1, 2            explained: the reference had it 420 ms before",
		"      5.100 s   1, 2         3, 2            unexplained, 1.25 away",
		"    On the link of fern from 4.750 s to 5.000 s: 2 packets lost, 1 late",
		"      down 57   sent 4.900 s   312 bytes   lost",
		"      up 9      sent 0.000 s   0 bytes     late: 300 ms on the way, usually 80 ms",
		"    At 4.000 s server said: ash left",
		"      F2   frozen   moss   dog/ash   x, y   5.500 s to 7.500 s",
		`I2  frozen: 1 more incident with the signature "frozen: dog x, y (other player's view)", the first at 20.000 s`,
		"Compared with server (shared clock): 1,234,567 values; 1 value explained only by what the link held back",
		"  bark       3   2/3 +4 !1",
		"OUT OF SYNC   2 incidents, 3 findings\n  note: ended early, at 40.000 s: the server ended by itself\n  note: fern fell silent at 9.000 s (its process is stopped)\n  note: the watch rule for x of boat/* (any) met nothing\n",
		"When the match ended, 1 value differed that had not done so for long enough to count",
	} {
		assert.Contains(t, got, line)
	}
	assert.NotContains(t, got, "\x1b", "no colour where there is no terminal")
	for line := range strings.Lines(got) {
		assert.Equal(t, strings.TrimRight(line, " \n")+"\n", line, "no blanks at the end of a line")
	}
}

func TestOtherVerdicts(t *testing.T) {
	assert.Contains(t, text(func(t *Text) { t.Verdict(&judge.Verdict{Outcome: judge.NothingCompared}) }), "NOTHING COMPARED   no value of any client")
	v := &judge.Verdict{Outcome: judge.InSync, Reference: "none", Comparisons: 5, Views: []judge.ViewReport{{Name: "a", Comparisons: 3}, {Name: "b", Comparisons: 2}, {Name: "c"}}}
	got := text(func(t *Text) { t.Verdict(v) })
	assert.Contains(t, got, "IN SYNC   2 of 3 clients agreed with each other in all 5 comparisons")
	assert.Contains(t, got, "packets unknown, so lateness is judged by max-delay alone")
	side := text(func(t *Text) {
		t.SideBySide([2]string{"healthy", "broken"}, [2]*judge.Verdict{{Outcome: judge.InSync}, verdict()})
	})
	assert.Contains(t, side, "IN SYNC   OUT OF SYNC")
	assert.Regexp(t, `kinds +- +frozen`, side)
}

func TestMeasuresAndTrialsAreTables(t *testing.T) {
	m := &metrics.Measures{Server: metrics.View{Name: "server", Sent: map[string]*metrics.Traffic{"snapshots": {BytesPerSecond: 4321.9}}},
		Views: []metrics.View{{Name: "fern", Age: &metrics.Spread{Count: 9, Median: 98.4, P95: 120, Max: 301}, Corrections: &metrics.Spread{Count: 3, Median: 0.1, P95: 0.5, Max: 1.25}, CorrectionsPerMinute: 4.5, Up: metrics.Traffic{BytesPerSecond: 1500}}}}
	got := text(func(t *Text) { t.Measures(m) })
	assert.Regexp(t, `fern +98/120/301 +0\.10/0\.50/1\.25 +4\.5`, got)
	assert.Contains(t, got, "sent by server: snapshots 4,321 B/s")
	assert.Empty(t, text(func(t *Text) { t.Measures(&metrics.Measures{}) }))

	rows := []selftest.Row{{Fault: "healthy", Matches: 1200, Alarms: 1, Oddities: []selftest.Oddity{{Link: "village", Seed: 3, What: "flagged: x"}}},
		{Fault: "told-twice", Expected: []judge.Kind{"event-repeated"}, Matches: 60, Showed: 40, Found: 40, Named: 39, First: 30, Unshown: 2}}
	got = text(func(t *Text) { t.Selftest(rows) })
	assert.Regexp(t, `healthy +1,200 +- +- +- +- +- +- +1\n`, got)
	assert.Regexp(t, `told-twice +60 +40 +100% +97\.5% +75% +0 +2 +-\n`, got)
	assert.Regexp(t, `in all +1,260 +40 +100% +97\.5% +75% +[\d.]+ +2 +1\n`, got)
	assert.Contains(t, got, "  healthy, village, seed 3: flagged: x")
}

func TestSpansAndNumbers(t *testing.T) {
	for d, want := range map[time.Duration]string{80 * time.Millisecond: "80 ms", 1250 * time.Millisecond: "1.25 s", 40 * time.Second: "40 s", 999 * time.Microsecond: "1 ms"} {
		assert.Equal(t, want, Span(d))
	}
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567"} {
		assert.Equal(t, want, Number(n))
	}
}
