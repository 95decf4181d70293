package replay

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/campaign/played"
)

// That a finding does not show by its name is not yet that it is gone.
func TestWhatAMatchSaysOfAFinding(t *testing.T) {
	const s = time.Second
	target := Target{Signature: "ghost: boat (other player's view)", View: "fern", Entity: "boat/1", Subject: "existence", Began: 5 * s, Near: 2 * s}
	ghost := played.Shown{Signature: target.Signature, View: "fern", Entity: "boat/1", Subject: "existence", Began: 5 * s, Ended: 8 * s}
	with := func(change func(f *played.Shown)) []played.Shown {
		f := ghost
		change(&f)
		return []played.Shown{f}
	}
	was := []played.Stay{{View: "fern", From: 0, Until: 10 * s}}
	for name, c := range map[string]struct {
		played played.Tried
		want   Answer
	}{
		"it shows":       {played.Tried{Shown: []played.Shown{ghost}, Judged: 10 * s, Stays: was}, There},
		"a little later": {played.Tried{Shown: with(func(f *played.Shown) { f.Began += 2 * s }), Judged: 10 * s, Stays: was}, There},
		"much later, and it was right until then": {played.Tried{Shown: with(func(f *played.Shown) { f.Began, f.Ended = 9*s, 10*s }), Judged: 10 * s, Stays: was}, Gone},
		"by another name":                         {played.Tried{Shown: with(func(f *played.Shown) { f.Signature = "late: boat (other player's view)" }), Judged: 10 * s, Stays: was}, Otherwise},
		"by another name that began long before":  {played.Tried{Shown: with(func(f *played.Shown) { f.Signature, f.Began = "frozen: boat", s }), Judged: 10 * s, Stays: was}, Otherwise},
		"another field of it":                     {played.Tried{Shown: with(func(f *played.Shown) { f.Signature, f.Subject = "offset: boat x", "x" }), Judged: 10 * s, Stays: was}, Gone},
		"somebody else sees it":                   {played.Tried{Shown: with(func(f *played.Shown) { f.View = "moss" }), Judged: 10 * s, Stays: was}, Gone},
		"nothing shows":                           {played.Tried{Judged: 10 * s, Stays: was}, Gone},
		"it was not judged":                       {played.Tried{Inconclusive: "it was not judged"}, Inconclusive},
		"it may go otherwise, though it shows":    {played.Tried{Shown: []played.Shown{ghost}, Inconclusive: "this match may not repeat"}, Inconclusive},
		"it was cut off before":                   {played.Tried{Judged: 4 * s, Stays: was, Cut: "the server ended by itself"}, Inconclusive},
		"it was cut off after":                    {played.Tried{Judged: 9 * s, Stays: was, Cut: "the server ended by itself"}, Gone},
		"it was cut off, and shows":               {played.Tried{Shown: []played.Shown{ghost}, Judged: 6 * s, Cut: "the server ended by itself"}, There},
		"it was set aside":                        {played.Tried{Aside: []played.Shown{ghost}, Judged: 10 * s, Stays: was}, Inconclusive},
		"its view was not in the match":           {played.Tried{Judged: 10 * s, Stays: []played.Stay{{View: "fern", From: 0, Until: 2 * s}}}, Inconclusive},
		"a view whose stays are not known":        {played.Tried{Judged: 10 * s, Stays: []played.Stay{{View: "moss", Until: s}}}, Gone},
	} {
		told, why := target.told(c.played)
		assert.Equal(t, c.want, told.Answer, name)
		assert.Equal(t, c.want == Inconclusive, why != "", name)
	}
}

// unplayed is a crew whose matches cannot be played.
type unplayed struct{ played.Here }

func (unplayed) Try(context.Context, played.Variant, int) (played.Tried, error) {
	return played.Tried{Cut: "it could not be played: the server was not ready"}, nil
}

func TestNothingIsProvedByMatchesThatWereNotPlayed(t *testing.T) {
	r := record(t, lostBark)
	w, err := r.Why(context.Background(), &Lab{Crew: unplayed{}}, head(t, r))
	require.NoError(t, err)
	assert.Equal(t, "Nothing is proved: the match with every packet delivered is inconclusive: it could not be played: the server was not ready.", w.Proved)
	assert.Empty(t, w.Packets)
	assert.False(t, w.Gone)
	assert.Positive(t, w.Inconclusive)
}
