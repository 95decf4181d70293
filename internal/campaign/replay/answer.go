package replay

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/verdict/judge"
)

// Answer is what one match shows about a finding. That the finding does not appear under its own name does not prove
// that it is gone: the same value may be wrong under another name, or the match may not have been judged that far.
type Answer string

const (
	Inconclusive Answer = "inconclusive"    // the match was not played, or not judged where the finding would be
	Gone         Answer = "gone"            // what the finding is about was judged there, and is right
	There        Answer = "there"           // the finding shows
	Otherwise    Answer = "wrong otherwise" // what it is about is wrong, under another name
)

// Told is what a match says of the finding.
type Told struct {
	Answer Answer  `json:"answer"`
	Began  float64 `json:"began_s,omitempty"` // where it shows
}

// Target is the finding that is looked for. What is left empty may be anything.
type Target struct {
	Signature    string
	View, Entity string
	Subject      string // what of the entity
	Began        time.Duration
	Near         time.Duration // how far from Began it may begin; 0 means anywhere
}

// targetOf is a finding at about the time at which it was found.
func targetOf(f *judge.Finding) Target {
	return Target{f.Signature, f.View, f.Entity, f.Subject.String(), time.Duration(f.BeganAt), findingNear}
}

// In is the finding in a verdict, or nil.
func (t Target) In(v *judge.Verdict) *judge.Finding {
	if v == nil {
		return nil
	}
	for i, shown := range played.TriedOf(v).Shown {
		if t.is(shown) {
			return v.Findings[i]
		}
	}
	return nil
}

// is reports whether a finding is the one that is looked for.
func (t Target) is(f played.Shown) bool {
	return f.Signature == t.Signature && t.of(f) && (t.Near <= 0 || f.Began >= t.Began-t.Near && f.Began <= t.Began+t.Near)
}

// of reports whether a finding is in the view and about the entity that are looked for.
func (t Target) of(f played.Shown) bool {
	return (t.View == "" || f.View == t.View) && (t.Entity == "" || f.Entity == t.Entity)
}

// same reports whether a finding is about the same, whatever it is called, in the stretch in which it is looked for.
func (t Target) same(f played.Shown) bool {
	return t.of(f) && f.Subject == t.Subject && (t.Near <= 0 || f.Began <= t.Began+t.Near && f.Ended >= t.Began-t.Near)
}

// told is the answer of a match, and why it is inconclusive if it is.
func (t Target) told(m played.Tried) (told Told, why string) {
	told.Answer = Inconclusive
	first := func(is func(played.Shown) bool, answer Answer) bool {
		i := slices.IndexFunc(m.Shown, is)
		if i >= 0 {
			told = Told{answer, m.Shown[i].Began.Seconds()}
		}
		return i >= 0
	}
	switch {
	case m.Inconclusive != "":
		return told, m.Inconclusive
	case first(t.is, There), first(t.same, Otherwise):
		return told, ""
	case slices.ContainsFunc(m.Aside, t.same):
		return told, "it was set aside there, because the machine stood still"
	case m.Cut != "" && (t.Near <= 0 || m.Judged < t.Began+t.Near):
		return told, m.Cut
	case !t.stayed(m):
		return told, fmt.Sprintf("%s was not in the match then", t.View)
	}
	return Told{Answer: Gone}, ""
}

// stayed reports whether the view was in the match at that time. A view whose stays are not known, like the reference,
// counts as in.
func (t Target) stayed(m played.Tried) bool {
	known := false
	for _, s := range m.Stays {
		if s.View != t.View {
			continue
		}
		if known = true; t.Near <= 0 || s.From <= t.Began+t.Near && s.Until >= t.Began-t.Near {
			return true
		}
	}
	return !known
}
