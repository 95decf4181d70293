package selftest

import "zitherwheel/internal/verdict/judge"

// expected is what each fault of the demo game may be reported as. The game itself knows
// nothing of kinds of findings; a control is expected to be reported as nothing.
var expected = map[string][]judge.Kind{
	"lost-goodbye":         {judge.Ghost},
	"kept-to-itself":       {judge.NeverSent},
	"narrow-numbers":       {judge.Overflow},
	"only-here":            {judge.NeverArrived},
	"counted-twice":        {judge.Doubled},
	"told-twice":           {judge.EventRepeated},
	"once-unreliable":      {judge.EventLost},
	"late-and-blind":       {judge.Missing, judge.LeftBehind},
	"twin-on-return":       {judge.DuplicateEntity},
	"two-masters":          {judge.SplitOwner},
	"any-hand-steers":      {judge.InputLeak},
	"believes-anything":    {judge.Unvalidated},
	"half-a-trip":          {judge.ClockShift},
	"own-start-clock":      {judge.ClockShift},
	"empty-board":          {judge.LeftBehind, judge.Skipped},
	"loose-sheep":          {judge.Drift},
	"each-decides":         {judge.NeverSent, judge.Offset, judge.NoRelation},
	"frame-paced":          {judge.Rate},
	"coarse-grid":          {judge.Quantised},
	"flip-not-value":       {judge.Inverted},
	"forgets-what-it-left": {judge.Frozen},
	"same-spot":            {judge.InvariantBroken},
	"shut-door":            {judge.RejectedButPlaying},
	"different-endings":    {judge.OutcomeDiffer},
	"wrong-order":          {judge.EventMisorder, judge.OutOfOrder},
	"swapped-axes":         {judge.Swapped},
	"stuck-chase":          {judge.Jerky},
}

// Expected is what a fault of the demo game may be reported as; nothing for a control.
func Expected(fault string) []judge.Kind { return expected[fault] }
