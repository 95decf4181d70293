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

// roster asks whether views believe to be in the match that are not.
type roster struct {
	match *Judge
	says  map[string]*standing // of each player, by the reference
}

func newRoster(j *Judge) *roster { return &roster{match: j, says: map[string]*standing{}} }

// take takes in what the reference says of who is in.
func (s *roster) take(v *view, r *trace.Record) {
	switch {
	case v.number > 0:
	case r.Joined != "":
		s.says[r.Joined] = &standing{true, r.T, ""}
	case r.Left != "":
		s.says[r.Left] = &standing{false, r.T, departure}
	case r.Refused != "":
		if was := s.says[r.Refused]; was == nil || was.in || was.why != refusal {
			s.says[r.Refused] = &standing{false, r.T, refusal}
		}
	}
}

// refused reports whether the reference refused a player last.
func (s *roster) refused(name string) bool { return s.says[name] != nil && s.says[name].why == refusal }

func (s *roster) end(time.Duration) {}

// strayAfter is how long a view may believe that it is in without being so.
const strayAfter = 1200 * time.Millisecond

// come looks for views that believe to be in the match and are not, as
// far as a reference says at all who is. A client that is the reference may say
// so of itself alone.
func (s *roster) come(t time.Duration) {
	j := s.match
	others := len(s.says)
	if s.says[j.views[0].name] != nil {
		others--
	}
	if others == 0 {
		return
	}
	for _, v := range j.views[1:] {
		said := s.says[v.name]
		switch {
		case !v.in || said != nil && said.in:
			v.endStray(t, "the reference letting it in")
		case v.phantom:
		case said == nil && v.own == trace.Nobody: // it only watches, and such are counted by few servers
		default:
			since, why := v.joinedAt, "the reference never let it in"
			if said != nil {
				since = max(since, said.since)
				if said.why == departure { // it may not have heard of that yet
					since = max(since, v.down.firstSince(said.since))
				}
				why = fmt.Sprintf("the reference says that it %s at %.3f s", said.why, said.since.Seconds())
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
