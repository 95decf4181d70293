package sweep

import (
	"context"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

func TestAxes(t *testing.T) {
	for _, row := range []struct {
		text   string
		values []string // or
		wrong  string
	}{
		{text: "latency=0..40ms/10ms", values: []string{"0ms", "10ms", "20ms", "30ms", "40ms"}},
		{text: "loss=0..2%/0.5%", values: []string{"0%", "0.5%", "1%", "1.5%", "2%"}},
		{text: "bots=2..5", values: []string{"2", "3", "4", "5"}},
		{text: "game.rates.send=10,20,30", values: []string{"10", "20", "30"}},
		{text: "links.hill.spread=normal,uniform", values: []string{"normal", "uniform"}},
		{text: "latency", wrong: "says nothing to vary"},
		{text: "latency=5ms", wrong: "one value is not varied"},
		{text: "latency=0ms..40%", wrong: "write two numbers with the same unit"},
		{text: "latency=40ms..0ms", wrong: "does not go up"},
		{text: "latency=0..40ms/10%", wrong: "is no step"},
		{text: "latency=0..1000ms/1ms", wrong: "take larger steps"},
	} {
		a, err := ParseAxis(row.text)
		if row.wrong != "" {
			assert.ErrorContains(t, err, row.wrong, row.text)
			continue
		}
		require.NoError(t, err, row.text)
		assert.Equal(t, row.values, a.Values, row.text)
	}
	for text, last := range map[string]int{"latency=0..400ms": 21, "loss=0..20%": 21, "jitter=0..7.3ms": 15, "bots=1..200": 20} {
		a, err := ParseAxis(text)
		require.NoError(t, err)
		assert.Len(t, a.Values, last, "%s: at most 20 round steps: %v", text, a.Values)
	}
}

// told is a game that applies messages twice that are sent again: where the way there and
// back takes longer than the wait for an acknowledgement.
const told = `
duration: 5s
game: {faults: [told-twice], population: 2}
bots: [{name: fern}, {name: moss, steps: [{do: join}, {do: press, at: 2s, input: bark}]}]
`

func swept(t *testing.T, o Options, axes ...string) *Result {
	t.Helper()
	p, err := plan.Parse("p.yaml", []byte(told))
	require.NoError(t, err)
	o.Plan = p
	for _, text := range axes {
		a, err := ParseAxis(text)
		require.NoError(t, err)
		o.Axes = append(o.Axes, a)
	}
	r, err := Run(context.Background(), o)
	require.NoError(t, err)
	return r
}

func marks(r *Result) (list []Mark) {
	for _, p := range r.Points {
		list = append(list, p.Mark)
	}
	return list
}

func TestTheBorderIsFoundWithFewPointsAndIsThatOfTheWholeGrid(t *testing.T) {
	axes := []string{"latency=0..40ms/2ms", "jitter=0..4ms/1ms"}
	few, all := swept(t, Options{}, axes...), swept(t, Options{Full: true}, axes...)
	assert.Equal(t, marks(all), marks(few))
	assert.Equal(t, 21*5, all.Played)
	assert.Less(t, few.Played, 2*all.Played/3)
	assert.Contains(t, marks(all), Holds)
	assert.Contains(t, marks(all), Fails)
	inferred := 0
	for _, p := range few.Points {
		assert.Equal(t, p.Inferred, p.Matches == 0)
		if p.Inferred {
			inferred++
		}
		if p.Mark == Fails && !p.Inferred {
			assert.GreaterOrEqual(t, p.Failed, 2, "one match that goes wrong is no certainty")
		}
	}
	assert.Equal(t, 21*5, few.Played+inferred)
	border := few.Border()
	require.Len(t, border, 21)
	assert.NotEmpty(t, border[0].Holds, "a near link holds")
	assert.Equal(t, "", border[20].Holds, "a far one always is")
	assert.Contains(t, all.Points[len(all.Points)-1].First, "event-repeated")
}

func TestASweepOfOneAxisOrOfAnyValue(t *testing.T) {
	r := swept(t, Options{}, "latency=0..40ms/2ms")
	assert.Nil(t, r.Border())
	assert.Equal(t, Holds, r.Points[0].Mark)
	assert.Equal(t, Fails, r.Points[20].Mark)
	r = swept(t, Options{}, "game.rates.send=5,10,15,20,30")
	assert.Equal(t, 5, r.Played, "of a list every value is played")
	r = swept(t, Options{}, "game.faults=told-twice,coarse-grid", "bots=2..3")
	assert.Equal(t, []Mark{Holds, Holds, Fails, Fails}, marks(r))
}

func TestAValueThatThePlanCannotHaveIsAnErrorBeforeAnythingIsPlayed(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte(told))
	require.NoError(t, err)
	for path, wrong := range map[string]string{"game.rates.sned": "there is no key", "latency": "latency=x: latency: \"x\" is not a time span", "bots": "not a whole number"} {
		_, err = Run(context.Background(), Options{Plan: p, Axes: []Axis{{Path: path, Values: []string{"x", "y"}}}})
		assert.ErrorContains(t, err, wrong)
	}
}

func TestAGridThatNobodyCouldSweepIsAnError(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte(told))
	require.NoError(t, err)
	var axes []Axis
	for _, text := range []string{"latency=0..400ms/1ms", "jitter=0..400ms/1ms", "loss=0..40%/1%"} {
		a, err := ParseAxis(text)
		require.NoError(t, err)
		axes = append(axes, a)
	}
	_, err = Run(context.Background(), Options{Plan: p, Axes: axes})
	require.ErrorIs(t, err, ErrValue)
	assert.ErrorContains(t, err, "the grid has 6592841 points")
}

func TestAnInterruptedSweepKeepsWhatItHas(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte(told))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	a, err := ParseAxis("latency=0..40ms/2ms")
	require.NoError(t, err)
	r, err := Run(ctx, Options{Plan: p, Axes: []Axis{a}, Crew: played.Here{Workers: 1}, Progress: func(points, _ int) {
		if points == 2 {
			cancel()
		}
	}})
	require.NoError(t, err)
	assert.True(t, r.Stopped)
	assert.Equal(t, 2, r.Played)
	assert.Len(t, r.Points, 21)
	assert.NoError(t, r.Err())
}

// What is not decided is neither held nor failed.
func TestABorderSaysWhatIsNotDecided(t *testing.T) {
	axes := []Axis{{Path: "latency", Values: []string{"0ms"}}, {Path: "loss", Values: []string{"0", "1%", "2%", "3%"}}}
	for want, marks := range map[string][]Mark{
		"2%":                     {Holds, Holds, Holds, Fails},
		"nowhere":                {Fails, Fails, Holds, Fails},
		"undecided up to 3%":     {Between, Between, Between, Between},
		"0, undecided up to 2%":  {Holds, Between, Between, Fails},
		"undecided up to 2%":     {Between, Holds, Unknown, Fails},
		"1%, undecided up to 3%": {Holds, Holds, Between, Holds},
	} {
		r := &Result{Axes: axes}
		for _, m := range marks {
			r.Points = append(r.Points, Point{Mark: m})
		}
		assert.Equal(t, want, r.Border()[0].String())
	}
	assert.Equal(t, 2, (&Result{Points: []Point{{Mark: Between}, {Mark: Between}, {Mark: Holds}}}).Undecided())
}

// Nothing changes with a link that nobody is on, and a table of equals would be misread.
func TestALinkThatNobodyIsOnIsNotSwept(t *testing.T) {
	p, err := plan.Parse("p.yaml", []byte("duration: 1s\nbots: [{name: fern, link: village}]\n"))
	require.NoError(t, err)
	for _, c := range []struct {
		wrong string
		axes  []string
	}{
		{"links.hill-farm.loss: no bot is on the link hill-farm", []string{"links.hill-farm.loss=0%,4%"}},
		{"", []string{"links.village.loss=0%,4%"}},
		{"", []string{"links.hill-farm.loss=0%,4%", "bots.fern.link=village,hill-farm"}},
	} {
		o := Options{Plan: p, Most: 15}
		for _, text := range c.axes {
			a, err := ParseAxis(text)
			require.NoError(t, err)
			o.Axes = append(o.Axes, a)
		}
		_, err := Run(context.Background(), o)
		if c.wrong == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorIs(t, err, ErrValue)
		assert.ErrorContains(t, err, c.wrong)
	}
}

// With so few matches it could never be said of any point that the game holds there.
func TestALimitThatCanNeverBeDecidedIsRefused(t *testing.T) {
	axis, err := ParseAxis("links.village.loss=0%,4%")
	require.NoError(t, err)
	_, err = Run(context.Background(), Options{Plan: parse(t, "duration: 2s\nbots: [{name: fern, link: village}]\n"), Axes: []Axis{axis}, Tolerate: 0.02, Most: 60})
	assert.ErrorIs(t, err, ErrLimit)
	assert.ErrorContains(t, err, "that no more than 2% go wrong takes 80 matches at a point")
}

// unlucky is a crew of which every third match, and later all, cannot be played.
type unlucky struct {
	played.Here
	n     *atomic.Int64
	until int64
}

func (u unlucky) Play(_ context.Context, p *plan.Plan) (played.Match, error) {
	if n := u.n.Add(1); n%3 == 0 || n > u.until {
		return played.Match{Seed: p.Seed, Verdict: played.Failed, Why: "no server"}, nil
	}
	return played.Match{Seed: p.Seed, Verdict: string(judge.InSync)}, nil
}

func TestAPointIsGivenUpAfterSoManyInARow(t *testing.T) {
	axis, err := ParseAxis("links.village.loss=0%,1%")
	require.NoError(t, err)
	for until, mark := range map[int64]Mark{1000: Holds, 0: Failed} {
		r, err := Run(context.Background(), Options{Plan: parse(t, "duration: 2s\nbots: [{name: fern, link: village}]\n"), Axes: []Axis{axis}, Crew: unlucky{n: &atomic.Int64{}, until: until}})
		require.NoError(t, err)
		assert.Equal(t, mark, r.Points[0].Mark, "%d", until)
	}
}

func parse(t *testing.T, text string) *plan.Plan {
	t.Helper()
	p, err := plan.Parse(filepath.Join(t.TempDir(), "plan.yaml"), []byte(text))
	require.NoError(t, err)
	return p
}
