package judge

import (
	"fmt"
	"time"

	"zitherwheel/internal/trace"
)

// standing is what the reference says of a player.
type standing struct {
	in    bool
	since time.Duration
	why   string
}

const (
	refusal   = "was refused"
	departure = "left"
)

// announced takes in what the reference said beside its snapshot, when the views
// are judged up to then.
func (j *Judge) announced(r *trace.Record) {
	switch {
	case r.Joined != "":
		j.roster[r.Joined] = &standing{true, r.T, ""}
	case r.Left != "":
		j.roster[r.Left] = &standing{false, r.T, departure}
	case r.Refused != "":
		if s := j.roster[r.Refused]; s == nil || s.in || s.why != refusal {
			j.roster[r.Refused] = &standing{false, r.T, refusal}
		}
	}
	if r.Event != "" {
		j.told(r)
	}
	j.follow(j.views[0], r)
}

// strayAfter is how long a view may believe that it is in without being so.
const strayAfter = 1200 * time.Millisecond

// sweepRoster looks for views that believe to be in the match and are not, as
// far as a reference says at all who is. A client that is the reference may say
// so of itself alone.
func (j *Judge) sweepRoster(t time.Duration) {
	others := len(j.roster)
	if j.roster[j.views[0].name] != nil {
		others--
	}
	if others == 0 {
		return
	}
	for _, v := range j.views[1:] {
		s := j.roster[v.name]
		switch {
		case !v.in || s != nil && s.in:
			v.endStray(t, "the reference letting it in")
		case v.phantom:
		case s == nil && v.own == trace.Nobody: // it only watches, and such are counted by few servers
		default:
			since, why := v.joinedAt, "the reference never let it in"
			if s != nil {
				since = max(since, s.since)
				if s.why == departure { // it may not have heard of that yet
					since = max(since, v.down.firstSince(s.since))
				}
				why = fmt.Sprintf("the reference says that it %s at %.3f s", s.why, s.since.Seconds())
			}
			if t-since < strayAfter {
				continue
			}
			v.phantom = true
			f := &Finding{Kind: RejectedButPlaying, View: v.name, Subject: Subject{About: AboutMembership}, BeganAt: Seconds(since), EndedAt: Seconds(t), Open: true,
				Ended: "still so at the end", Why: "the view believes it is in the match; " + why, settle: strayAfter, Own: true}
			f.Evidence = j.circumstances(v, since, t)
			j.add(f)
			v.stray = f
			v.each(func(k *tracker) { // what it shows is all of the same cause
				k.active, k.apart, k.run.certain = false, false, false
			})
		}
	}
}

func (v *view) endStray(t time.Duration, how string) {
	if v.stray != nil {
		v.stray.EndedAt, v.stray.Open, v.stray.Ended = Seconds(t), false, how
	}
	v.stray, v.phantom = nil, false
}
