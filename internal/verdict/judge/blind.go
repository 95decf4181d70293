package judge

import (
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/verdict/rulebook"
)

// seenFrom is how long something must be wrong by a rule, and how late, to be a finding: what is
// shorter is not seen with such a rule, and with a reference that tells its state so often.
func (j *Judge) seenFrom(rule *rulebook.Rule) (wrongFor, lateBy Seconds) {
	wrong := rule.MinDuration
	if j.rhythm.speaks(rule.Compare) {
		wrong += min(time.Duration(j.rhythm.beat), longestBeat)
	}
	wrong = wrong.Round(time.Millisecond)
	if rule.TimeDriven {
		return Seconds(wrong), Seconds(wrong)
	}
	return Seconds(wrong), Seconds(wrong + rule.MaxDelay)
}

// sends is how often the server sends something to a view: what it sends at one time counts once.
type sends struct {
	first, last time.Duration
	count       int
}

const (
	sentTogether = 5 * time.Millisecond
	sendsFrom    = 50  // how many times show how often it sends
	tellsSeldom  = 1.7 // how many times as rarely as it sends a reference tells its state, to be told so
)

func (s *sends) send(t time.Duration) {
	switch {
	case s.count == 0:
		s.first = t
	case t-s.last < sentTogether:
		return
	}
	s.last = t
	s.count++
}

// every is the time from one to the next, on average.
func (s *sends) every() time.Duration {
	if s.count < sendsFrom {
		return 0
	}
	return (s.last - s.first) / time.Duration(s.count-1)
}

// warnOfRareRecords warns of a reference that tells its state more rarely than it sends to the views: what
// moves in between cannot be judged as exactly as it could.
func (j *Judge) warnOfRareRecords() []Warning {
	beat := time.Duration(j.rhythm.beat)
	if j.rhythm.records < sendsFrom || j.rhythm.uneven > j.rhythm.beat/3 || j.ticks != nil {
		return nil
	}
	for _, v := range j.views[1:] {
		if every := v.sends.every(); every > 0 && float64(beat) > tellsSeldom*float64(every) {
			ms := func(d time.Duration) string { return d.Round(time.Millisecond).String() }
			return []Warning{{Text: fmt.Sprintf("%s sends to %s every %s and tells its state every %s; let it tell its state each time that it sends, or what moves in between is judged less exactly",
				j.views[0].name, v.name, ms(every), ms(beat))}}
		}
	}
	return nil
}

const (
	neglected     = 5                      // how many times as seldom as to others a reference sends to a view, to be told so
	neglectedFrom = 400 * time.Millisecond // if that is so seldom
	neglectedFor  = 8 * time.Second        // and the view was in for so long
)

// warnOfNeglect warns of a view to which the reference sends far more seldom than to the others: what it shows may be as old
// as that, and is excused by it.
func (j *Judge) warnOfNeglect() (list []Warning) {
	var all []time.Duration
	between := map[*view]time.Duration{}
	for _, v := range j.views[1:] {
		if v.down.known && v.inFor >= neglectedFor && v.sends.count > 0 {
			between[v] = v.inFor / time.Duration(v.sends.count)
			all = append(all, between[v])
		}
	}
	if len(all) < 2 {
		return nil
	}
	slices.Sort(all)
	usual := all[(len(all)-1)/2]
	for _, v := range j.views[1:] {
		if d := between[v]; d >= neglectedFrom && d > neglected*usual {
			list = append(list, Warning{View: v.name, Text: fmt.Sprintf("%s sends to %s every %.2f s on average, and to others every %.2f s; what %s shows may be as old as that, and is not found to be late",
				j.views[0].name, v.name, d.Seconds(), usual.Seconds(), v.name)})
		}
	}
	return list
}
