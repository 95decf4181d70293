package replay

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

const ms = time.Millisecond

func made(script map[string][]bot.Moment, losses []loss, until time.Duration) sketch {
	return sketch{plan: &plan.Plan{Bots: []plan.Bot{{Name: "fern"}}}, script: script, losses: losses, until: until}
}

func TestTimeIsCutOutOfAMatch(t *testing.T) {
	down := Way{"fern", link.Down}
	k := made(map[string][]bot.Moment{"fern": {
		{At: 0, Action: bot.Action{Join: true}},
		{At: 1500 * ms, Action: bot.Action{Move: 1}},
		{At: 2500 * ms, Action: bot.Action{Move: 1, Press: "bark"}},
		{At: 3500 * ms, Action: bot.Action{Move: 1, Turn: 1}},
		{At: 3900 * ms, Action: bot.Action{Leave: true}},
	}}, []loss{{down, link.Window{From: 1200 * ms, Until: 1300 * ms}}, {down, link.Window{From: 3100 * ms, Until: 3200 * ms}}}, 4*time.Second)
	cut := (&shrinker{}).cut(k, 4, []int{0, 3}) // the second and the third second go
	assert.Equal(t, 2*time.Second, cut.until)
	assert.Equal(t, []bot.Moment{
		{At: 0, Action: bot.Action{Join: true}},
		{At: time.Second, Action: bot.Action{Move: 1}}, // goes on behind the cut; its bark is cut out
		{At: 1500 * ms, Action: bot.Action{Move: 1, Turn: 1}},
		{At: 1900 * ms, Action: bot.Action{Leave: true}},
	}, cut.script["fern"])
	assert.Equal(t, []loss{{down, link.Window{From: 1100 * ms, Until: 1200 * ms}}}, cut.losses)

	none := (&shrinker{}).cut(k, 4, []int{2, 3}) // also the joining
	assert.True(t, none.script["fern"][0].Join, "who is in must have joined")
	assert.Zero(t, none.script["fern"][0].At)
}

// However time is cut out, everybody joins and leaves as often as before and in the same
// order, and nothing happens after the end.
func TestCuttingTimeKeepsTheOrderOfThings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		until := time.Duration(rapid.IntRange(1000, 20000).Draw(t, "until")) * ms
		var moments []bot.Moment
		at := time.Duration(0)
		for range rapid.IntRange(1, 30).Draw(t, "moments") {
			at += time.Duration(rapid.IntRange(0, 900).Draw(t, "apart")) * ms
			if at > until {
				break
			}
			moments = append(moments, bot.Moment{At: at, Action: bot.Action{Join: rapid.Bool().Draw(t, "join"), Leave: rapid.Bool().Draw(t, "leave"), Move: float64(rapid.IntRange(0, 1).Draw(t, "move"))}})
		}
		parts := rapid.IntRange(1, 8).Draw(t, "parts")
		kept := rapid.SliceOfNDistinct(rapid.IntRange(0, parts-1), 1, parts, rapid.ID).Draw(t, "kept")
		slices.Sort(kept)
		cut := (&shrinker{}).cut(made(map[string][]bot.Moment{"fern": moments}, nil, until), parts, kept)
		list := cut.script["fern"]
		assert.True(t, slices.IsSortedFunc(list, func(a, b bot.Moment) int { return int(a.At - b.At) }))
		assert.InDelta(t, float64(until)*float64(len(kept))/float64(parts), float64(cut.until), float64(2*time.Microsecond))
		count := func(list []bot.Moment, is func(bot.Moment) bool) (n int) {
			for _, m := range list {
				if is(m) {
					n++
				}
			}
			return n
		}
		joins, leaves := func(m bot.Moment) bool { return m.Join }, func(m bot.Moment) bool { return m.Leave }
		assert.Equal(t, count(moments, joins), count(list, joins))
		assert.Equal(t, count(moments, leaves), count(list, leaves))
		for _, m := range list {
			assert.LessOrEqual(t, m.At, cut.until+time.Microsecond)
		}
		if len(kept) == parts {
			assert.Equal(t, len(moments), len(list), "nothing was cut out")
		}
	})
}

func TestEveryMomentIsLostInOneOfTheTwoHalves(t *testing.T) {
	way := Way{"fern", link.Up}
	for _, length := range []time.Duration{50 * ms, 500 * ms} {
		even, odd := halves(way, 4*time.Second, length, false), halves(way, 4*time.Second, length, true)
		in := func(list []loss, at time.Duration) bool {
			return slices.ContainsFunc(list, func(l loss) bool { return at >= l.From && at < l.Until })
		}
		for at := time.Duration(0); at < 4*time.Second; at += 7 * ms {
			assert.NotEqual(t, in(even, at), in(odd, at), "%v", at)
		}
	}
}

func TestKeysInsteadOfASteadyHand(t *testing.T) {
	moments := []bot.Moment{
		{At: 101 * ms, Action: bot.Action{Move: 0.4, Turn: 0.83}},
		{At: 118 * ms, Action: bot.Action{Move: 1, Turn: 0.77}},
		{At: 134 * ms, Action: bot.Action{Move: 1, Turn: 0.31}},
		{At: 151 * ms, Action: bot.Action{Move: 1, Turn: 0.02, Press: "bark"}},
	}
	assert.Equal(t, []bot.Moment{
		{At: 100 * ms, Action: bot.Action{Move: 1, Turn: 1}},
		{At: 130 * ms, Action: bot.Action{Move: 1}},
		{At: 150 * ms, Action: bot.Action{Move: 1, Press: "bark"}},
	}, keysOnly(moments, true), "what says the same again is left out")
	assert.Equal(t, 0.8, keysOnly(moments, false)[0].Turn)
}

func TestWhoJoinsAtTheStartAndDoesNothing(t *testing.T) {
	moments := []bot.Moment{{At: 8 * time.Second, Action: bot.Action{Join: true}}, {At: 9 * time.Second, Action: bot.Action{Move: 1}}, {At: 12 * time.Second, Action: bot.Action{Leave: true}}}
	early := joinAtStart(moments)
	assert.Equal(t, bot.Moment{Action: bot.Action{Join: true}}, early[0])
	assert.Equal(t, 1, len(slices.DeleteFunc(slices.Clone(early), func(m bot.Moment) bool { return !m.Join })), "only once")
	assert.True(t, moments[0].Join, "the recording stays as it was")
	assert.Equal(t, []bot.Moment{{At: 8 * time.Second, Action: bot.Action{Join: true}}, {At: 12 * time.Second, Action: bot.Action{Leave: true}}}, standing(moments))
}

func TestWhatBecameOfAPacketInWords(t *testing.T) {
	for text, f := range map[string]link.Outcome{
		"lost-in-row":                           {Dropped: link.LostInRow},
		"outage":                                {Dropped: link.Outage},
		"damaged":                               {Copies: 1, Flipped: 3},
		"arrived twice":                         {Copies: 2},
		"held up for 340 ms":                    {Copies: 1, Resent: 1, Sent: time.Second, Arrives: [2]time.Duration{1340 * ms}},
		"arrived after 190 ms instead of 80 ms": {Copies: 1, Sent: time.Second, Arrives: [2]time.Duration{1190 * ms}},
	} {
		assert.Equal(t, text, outcomeText(f, 80*ms))
	}
}

func TestTheSentenceSaysNoMoreThanWasProved(t *testing.T) {
	bell := Culprit{Packet: 57, Link: "fern", Direction: "down", Sent: 2.417, Bytes: 84, Outcome: "lost", Carries: "said once: picked-up 3 of dog/moss; snapshot of tick 70"}
	late := Culprit{Packet: 9, Link: "moss", Direction: "up", Sent: 1, Bytes: 40, Outcome: "arrived after 190 ms instead of 80 ms"}
	for _, row := range []struct {
		w    Why
		want string
	}{
		{Why{Packets: []Culprit{bell}, Gone: true, There: true, Beside: besideNothing},
			"With packet 57 down to fern (said once: picked-up 3 of dog/moss, 2.417 s) delivered, the finding is gone; with only that packet lost, it is there."},
		{Why{Packets: []Culprit{bell}, Gone: true, There: true, Beside: besideUp},
			"With packet 57 down to fern (said once: picked-up 3 of dog/moss, 2.417 s) delivered, the finding is gone; with only that packet lost and all others to clients delivered, it is there."},
		{Why{Packets: []Culprit{bell}, Gone: true},
			"With packet 57 down to fern (said once: picked-up 3 of dog/moss, 2.417 s) delivered, the finding is gone."},
		{Why{Packets: []Culprit{bell}, There: true, Beside: besideNothing},
			"With only that packet of all packets lost, packet 57 down to fern (said once: picked-up 3 of dog/moss, 2.417 s), the finding is there; with all as they were but those delivered it is there too."},
		{Why{Packets: []Culprit{late, bell}, Gone: true, There: true, Beside: besideNothing},
			"With packet 9 up from moss (40 bytes, 1.000 s) and packet 57 down to fern (said once: picked-up 3 of dog/moss, 2.417 s) delivered after the usual time, the finding is gone; with only those as recorded, it is there."},
	} {
		assert.Equal(t, row.want, sentence(&row.w))
	}
}

// The text of a smallest plan says what a reader must know, in rows that are not too long,
// and is a plan all the same.
func TestTheTextOfASmallestPlan(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte("title: small\nduration: 2s\nbots: [{name: fern}]\n"))
	require.NoError(t, err)
	s := Shrunk{Signature: "ghost: sheep (other player's view)", Plan: p, Before: Size{Bots: 8, Length: judge.Seconds(time.Minute), Outcomes: 200},
		Story: []string{"Packet 58 down to fern (said once: sheep/s06 is gone, and a good many other things that take the row beyond its end, 2.400 s): lost."},
		Left:  []string{"it is what it is"}}
	for _, row := range []struct {
		repeats, verified *Repeats
		says, not         string
	}{
		{nil, nil, "# Note: it is what it is.\n", "wall clock"},
		{&Repeats{3, 8}, &Repeats{3, 4}, "# On the wall clock: the recording showed it in 3 of 8 repeats, this plan in 3 of 4.\n", "nil"},
	} {
		s.Repeats, s.Verified = row.repeats, row.verified
		text, err := s.Text("runs/one", ".")
		require.NoError(t, err)
		assert.Contains(t, string(text), "# Shrunk from runs/one: 8 bots, 60.0 s, 200 packets that were lost, late or damaged.\n")
		assert.Contains(t, string(text), row.says)
		assert.NotContains(t, string(text), row.not)
		for _, line := range strings.Split(string(text), "\n") {
			assert.LessOrEqual(t, len(line), 100, line)
		}
		again, err := plan.Parse("small.yaml", text)
		require.NoError(t, err)
		assert.Equal(t, "small", again.Title)
	}
	assert.Equal(t, ShrunkSummary{Signature: s.Signature, Plan: "x.yaml", Before: s.Before, Story: s.Story, Left: s.Left, Repeats: s.Repeats, Verified: s.Verified}, s.Summary("x.yaml"))
}

func TestWhatIsLargerThanTheRecordingIsSaid(t *testing.T) {
	s := Shrunk{Before: Size{Bots: 3, Length: judge.Seconds(20 * time.Second), Inputs: 9, Outcomes: 2}, After: Size{Bots: 3, Length: judge.Seconds(22 * time.Second), Inputs: 12, Outcomes: 2}}
	s.larger()
	assert.Equal(t, []string{"it is longer than the recording, 22.0 s and not 20.0 s", "it has more inputs than the recording, 12 and not 9"}, s.Left)
}

func TestASentenceHoldsTheBeginningOfWhatAPacketCarried(t *testing.T) {
	long := Culprit{Packet: 250, Link: "fern", Direction: "down", Sent: 16.683, Carries: strings.Repeat("reed/19 is cut, ", 9)}
	assert.Equal(t, "packet 250 down to fern (reed/19 is cut, reed/19 is cut, reed/19 is cut, reed/19 is c ..., 16.683 s)", long.String())
}
