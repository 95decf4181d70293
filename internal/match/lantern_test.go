package match

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/game"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// lantern is a second game, as small as one can be: a light that whoever presses
// "toggle" turns on or off.
type lantern struct{}

func init() { game.Register(lantern{}) }

func (lantern) Name() string        { return "lantern" }
func (lantern) Area() game.Area     { return game.Area{} }
func (lantern) Inputs() game.Inputs { return game.Inputs{Press: []string{"toggle"}} }
func (lantern) Faults() []game.Fault {
	return []game.Fault{{Name: "dim", What: "clients never turn it on"}}
}
func (lantern) Rules() []byte                            { return []byte("watch: [{entities: light/*, fields: [lit]}]") }
func (lantern) Fit(*rulebook.Rules, game.Setup)          {}
func (lantern) Programs(game.Setup) (none game.Programs) { return none }
func (lantern) NewServer(_ game.Setup, env game.Env) (game.Server, error) {
	return &lanternServer{env: env, told: -1}, nil
}
func (lantern) NewClient(setup game.Setup, name string, env game.Env) (game.Client, error) {
	return &lanternClient{env: env, name: name, dim: len(setup.Faults) > 0, told: -1}, nil
}

// say tells whether the light is on, when that has changed.
func say(env game.Env, now time.Duration, lit int, told *int) {
	if lit != *told {
		*told = lit
		env.Say(&trace.Record{T: now, State: []trace.Change{{Entity: env.Names.Entity("light/only"), Field: env.Names.Field("lit"), Value: trace.Bool(lit == 1)}}})
	}
}

type lanternServer struct {
	env       game.Env
	next      time.Duration
	players   []game.Address
	lit, told int
}

func (s *lanternServer) Next() time.Duration    { return s.next }
func (s *lanternServer) Malformed() int         { return 0 }
func (s *lanternServer) Describe([]byte) string { return "" }
func (s *lanternServer) Step(now time.Duration, arrived []game.Packet) (out []game.Packet) {
	s.next = now + 50*time.Millisecond
	for _, p := range arrived {
		if p.Data[0] == 'j' {
			s.players = append(s.players, p.Peer)
		} else {
			s.lit = 1 - s.lit
		}
	}
	say(s.env, now, s.lit, &s.told)
	for _, p := range s.players {
		out = append(out, game.Packet{Peer: p, Data: []byte{byte(s.lit)}})
	}
	return out
}

type lanternClient struct {
	env          game.Env
	name         string
	next         time.Duration
	asks, inside bool
	dim          bool
	told         int
}

func (c *lanternClient) Join(time.Duration)                        { c.asks = true }
func (c *lanternClient) Leave(time.Duration)                       { c.asks, c.inside = false, false }
func (c *lanternClient) Next() time.Duration                       { return c.next }
func (c *lanternClient) Cheat(time.Duration, game.Cheat)           {}
func (c *lanternClient) Malformed() int                            { return 0 }
func (c *lanternClient) Idle() bool                                { return !c.asks && !c.inside }
func (c *lanternClient) Refused() bool                             { return false }
func (c *lanternClient) Inside() bool                              { return c.inside }
func (c *lanternClient) Own() (x, y, heading float64, ok bool)     { return 0, 0, 0, true }
func (c *lanternClient) Nearest(string) (x, y float64, found bool) { return 0, 0, false }
func (c *lanternClient) Step(now time.Duration, arrived []game.Packet, in game.Input) (out []game.Packet) {
	c.next = now + 20*time.Millisecond
	if c.asks {
		c.asks, c.inside = false, true
		c.env.Say(&trace.Record{T: now, Joined: c.name})
		out = append(out, game.Packet{Data: []byte("j")})
	}
	if in.Press == "toggle" {
		out = append(out, game.Packet{Data: []byte("t")})
	}
	for _, p := range arrived {
		if lit := int(p.Data[0]); !c.dim {
			say(c.env, now, lit, &c.told)
		} else {
			say(c.env, now, 0, &c.told)
		}
	}
	return out
}

// A game is what package game says, and nothing else: no other package knows more of one.
func TestAnotherGameIsPlayedAndJudged(t *testing.T) {
	play := func(game string) *Result {
		p, err := plan.Parse("lantern.yaml", []byte("duration: 6s\ngame: {name: lantern"+game+"}\nbots:\n  - {name: fern, link: village, steps: [{do: join}, {do: press, input: toggle, at: 1s}, {do: press, input: toggle, at: 4s}]}\n  - {name: moss, link: village}\n"))
		require.NoError(t, err)
		r, err := Run(context.Background(), p, Options{})
		require.NoError(t, err)
		return r
	}
	healthy := play("")
	assert.Empty(t, healthy.Verdict.Findings)
	assert.Equal(t, 6, healthy.Verdict.Comparisons, "three values in two views")

	dim := play(", faults: [dim]")
	require.NotEmpty(t, dim.Verdict.Findings)
	assert.Contains(t, []judge.Kind{judge.NeverArrived, judge.Frozen, judge.Inverted}, dim.Verdict.Incidents[0].Kind)
}

func TestAnotherGamesInputsAndFaultsAreItsOwn(t *testing.T) {
	for text, says := range map[string]string{
		"game: {name: lantern}\nbots: [{name: fern, steps: [{do: join}, {do: press, input: bark}]}]": `input: lantern has no "bark" to press; it has toggle`,
		"game: {name: lantern, faults: [lost-goodbye]}\nbots: [{name: fern}]":                        `faults: lantern has no fault "lost-goodbye"; there are dim`,
		"game: {name: candle}\nbots: [{name: fern}]":                                                 `"candle" is no demo game`,
	} {
		_, err := plan.Parse("lantern.yaml", []byte(text))
		assert.ErrorContains(t, err, says)
	}
}
