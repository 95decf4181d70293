package judge

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cheating is a match in which fern sets its place to 50, 0 at 3 s; both sides show x as given then.
func cheating(server, client func(s float64) float64) *match {
	m := newMatch()
	m.views = m.views[:2]
	m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
	m.every(0, 0, 10, 0.05, func(s float64) string { return position("dog/fern", server(s), 0) })
	m.every(1, 0.02, 10, 0.05, func(s float64) string { return position("dog/fern", client(s), 0) })
	m.say(1, 3.001, `"input":"set place","data":{"to":[50,0]}`)
	return m
}

func TestWhatCameOfACheat(t *testing.T) {
	walks := func(s float64) float64 { return s }
	leaps := func(from, until float64) func(float64) float64 {
		return func(s float64) float64 {
			if s > from && s < until {
				return 50
			}
			return s
		}
	}
	for _, c := range []struct {
		name           string
		server, client func(float64) float64
		want           Came
		after          string
	}{
		{"the client ignores it", walks, walks, NeverTried, ""},
		{"the server takes it", leaps(3.1, 20), leaps(3.01, 20), Taken, ""},
		{"the server corrects it", walks, leaps(3.01, 3.4), Corrected, "0.419 s"},
		{"the client keeps it to itself", walks, leaps(3.01, 20), Kept, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := cheating(c.server, c.client).judge()
			require.Len(t, d.Cheats, 1)
			assert.Equal(t, c.want, d.Cheats[0].Came)
			after := ""
			if d.Cheats[0].After != nil {
				after = d.Cheats[0].After.String()
			}
			assert.Equal(t, c.after, after)
			assert.Equal(t, c.want == NeverTried, slices.ContainsFunc(d.Warnings, func(w Warning) bool {
				return w.Text == "fern set its place at 3.001 s, and its client never showed it: as far as its trace tells, the cheat was never tried"
			}))
		})
	}
}

// Where it is not known what a value was set to, a leap tells, beside how the value changes by itself.
func TestACheatOfUnknownSizeShowsInALeap(t *testing.T) {
	for want, set := range map[Came]float64{Corrected: 60, NeverTried: 1} {
		m := newMatch()
		m.views = m.views[:2]
		m.say(1, 0, `"joined":"fern","entity":"dog/fern"`)
		m.every(0, 0, 10, 0.05, func(s float64) string { return fmt.Sprintf(`"state":{"dog/fern":{"stamina":%.1f}}`, 50-s) })
		m.every(1, 0.02, 10, 0.05, func(s float64) string {
			v := 50 - s
			if s > 3 && s < 3.05 {
				v = 50 - s + set/10
			}
			return fmt.Sprintf(`"state":{"dog/fern":{"stamina":%.1f}}`, v)
		})
		m.say(1, 3.001, `"input":"set stamina"`)
		d := m.judge()
		require.Len(t, d.Cheats, 1)
		assert.Equal(t, want, d.Cheats[0].Came)
	}
}

func TestWhoMustBeRefused(t *testing.T) {
	for _, c := range []struct {
		name           string
		server, client string
		want           []string
	}{
		{"is, and tells so", `"refused":"moss"`, `"refused":"moss"`, []string{}},
		{"is by a server that does not tell whom it refuses", "", `"refused":"moss"`, []string{}},
		{"is, and never shows it", `"refused":"moss"`, `"input":"stand"`, []string{"moss not-refused  membership 1.00-10.00 open"}},
		{"gets in", `"joined":"moss","entity":"dog/moss"`, `"joined":"moss","entity":"dog/moss"`, []string{"moss not-refused  membership 1.10-10.00 open"}},
		{"is not heard of", "", `"input":"stand"`, []string{"moss not-refused  membership 10.00-10.00 open"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := newMatch()
			m.more.Refused = []string{"moss"}
			for view := range 2 {
				m.say(view, 0, `"joined":"fern","entity":"dog/fern"`)
			}
			m.rules = nil
			m.every(0, 0, 10.05, 0.05, func(float64) string { return position("dog/fern", 1, 1) })
			m.every(1, 0.02, 10, 0.05, func(float64) string { return position("dog/fern", 1, 1) })
			if c.server != "" {
				m.say(0, 1, c.server)
			}
			m.say(2, 1.1, c.client)
			assert.Equal(t, c.want, told(m.judge()))
		})
	}
}

// Whoever closes a client's window closes its trace: the reference says that it left, and it says
// nothing more. Only one that goes on telling plays on.
func TestATraceThatEndsDoesNotPlayOn(t *testing.T) {
	for until, want := range map[float64][]string{
		5.1: {},
		9.9: {"moss rejected-but-playing  membership 5.00-10.00 open"},
	} {
		m := newMatch()
		for i, name := range []string{"fern", "moss"} {
			m.say(0, 0, fmt.Sprintf(`"joined":"%s","entity":"dog/%[1]s"`, name))
			m.say(i+1, 0, fmt.Sprintf(`"joined":"%s","entity":"dog/%[1]s"`, name))
		}
		m.every(0, 0, 10.05, 0.05, func(t float64) string { return position("dog/fern", t, 1) })
		m.every(1, 0.02, 10, 0.05, func(t float64) string { return position("dog/fern", t, 1) })
		m.every(2, 0.02, until, 0.05, func(t float64) string { return position("dog/fern", t, 1) })
		m.say(0, 5, `"left":"moss"`)
		assert.Equal(t, want, told(m.judge()), until)
	}
}
