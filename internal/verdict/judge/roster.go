package judge

import (
	"fmt"
	"slices"
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
	match  *Judge
	says   map[string]*standing     // of each player, by the reference
	turned map[string]time.Duration // when the reference first refused a player
	heard  map[string]time.Duration // when a view first told that it was refused
}

func newRoster(j *Judge) *roster {
	return &roster{match: j, says: map[string]*standing{}, turned: map[string]time.Duration{}, heard: map[string]time.Duration{}}
}

// take takes in what the reference says of who is in.
func (s *roster) take(v *view, r *trace.Record) {
	if by := map[bool]map[string]time.Duration{true: s.turned, false: s.heard}[v.number == 0]; r.Refused != "" {
		if _, before := by[r.Refused]; !before {
			by[r.Refused] = r.T
		}
	}
	switch {
	case v.number > 0:
	case r.Joined != "":
		s.says[r.Joined] = &standing{true, r.T, ""}
		s.drop(r.Joined, false)
	case r.Left != "":
		s.says[r.Left] = &standing{false, r.T, departure}
		s.drop(r.Left, true)
	case r.Refused != "":
		if was := s.says[r.Refused]; was == nil || was.in || was.why != refusal {
			s.says[r.Refused] = &standing{false, r.T, refusal}
		}
	}
}

// drop notes whether the reference says that a view is out: what it shows then is no longer compared.
func (s *roster) drop(name string, out bool) {
	for _, v := range s.match.views[1:] {
		if v.name == name {
			v.dropped = out
		}
	}
}

// refused reports whether the reference refused a player last.
func (s *roster) refused(name string) bool { return s.says[name] != nil && s.says[name].why == refusal }

// end looks whether those were refused who must be, and know it.
func (s *roster) end(t time.Duration) {
	for _, v := range s.match.views[1:] {
		if !slices.Contains(s.match.config.Rules.Refused, v.name) {
			continue
		}
		at, turned := s.turned[v.name]
		_, heard := s.heard[v.name]
		why := ""
		switch {
		case !turned && !heard && v.everJoined:
			at, why = v.joinedAt, "it must be refused, and joined"
		case !turned && !heard:
			at, why = t, "it must be refused, and neither the reference nor its client tells that it was"
		case !heard && v.down.firstSince(at)+refusalHeard < t:
			why = fmt.Sprintf("the reference refused it at %.3f s, and its client never tells of it", at.Seconds())
		}
		if why == "" {
			continue
		}
		f := &Finding{Kind: NotRefused, View: v.name, Subject: Subject{About: AboutMembership}, BeganAt: Seconds(at), EndedAt: Seconds(t), Open: true,
			Ended: "still so at the end", Why: why, settle: strayAfter, Own: true}
		f.Evidence = s.match.circumstances(v, at, t)
		s.match.add(f)
	}
}

// refusalHeard is how long a client has to tell that it was refused.
const refusalHeard = 2 * time.Second

// strayAfter is how long a view may believe that it is in without being so.
const strayAfter = 1200 * time.Millisecond

// noticesWithin is how long a view may take to notice by itself that it is told nothing any more.
const noticesWithin = 9 * time.Second

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
		case v.phantom && v.stray != nil:
		case said == nil && v.own == trace.Nobody: // it only watches, and such are counted by few servers
		default:
			since, why := v.joinedAt, "the reference never let it in"
			if said != nil {
				since = max(since, said.since)
				why = fmt.Sprintf("the reference says that it %s at %.3f s", said.why, said.since.Seconds())
				if said.why == departure { // it may not have heard of that yet
					since = max(since, v.down.firstSince(said.since))
					if v.toldNothingSince(said.since) {
						since += noticesWithin
						why += ", and has sent it nothing since"
					}
				}
			}
			if t-since < strayAfter {
				continue
			}
			if !v.phantom {
				v.phantom = true
				v.each(func(k *tracker) { // what it shows is all of the same cause
					k.active, k.apart, k.run.certain = false, false, false
				})
			}
			if said != nil && said.why == departure && v.to <= since+strayAfter {
				continue // it has told nothing since: its trace may have ended with it
			}
			f := &Finding{Kind: RejectedButPlaying, View: v.name, Subject: Subject{About: AboutMembership}, BeganAt: Seconds(since), EndedAt: Seconds(t), Open: true,
				Ended: "still so at the end", Why: "the view believes it is in the match; " + why, settle: strayAfter, Own: true}
			f.Evidence = j.circumstances(v, since, t)
			j.add(f)
			v.stray = f
		}
	}
}

func (v *view) endStray(t time.Duration, how string) {
	if v.stray != nil {
		v.stray.EndedAt, v.stray.Open, v.stray.Ended = Seconds(t), false, how
	}
	v.stray, v.phantom = nil, false
}
