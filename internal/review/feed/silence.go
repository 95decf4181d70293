package feed

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// A view has fallen silent if it gives no sign of life for much longer than it ever did
// before, and never again, while its player is in the match and others go on. Signs are
// its trace lines and, where packets are known, those that it sends.
//
// A client whose trace alone falls silent is not silent but frozen, which is a matter
// of the verdict: nobody can tell the two apart by a trace, and whoever looks at its
// screen sees it stand still.
const (
	signsKnown = 20              // signs by which a rhythm is known
	muchLonger = 20              // times the longest pause before
	silentFor  = 3 * time.Second // at least, where packets are known
	quietFor   = 5 * time.Second // at least, where they are not
)

// pulse is the signs of life of one view.
type pulse struct {
	spoke   bool // it told something itself, beside what was told for it
	in      bool
	was     bool // in the match, at some time
	began   time.Duration
	last    time.Duration // the last sign
	lines   time.Duration // the last line
	signs   int
	longest time.Duration // pause between two signs, while it was in
	untold  time.Duration // longest pause between two lines
	sender  bool          // it is known what it sends
	unsent  time.Duration // longest pause between two packets
	changes time.Duration // when it told something new last
}

func (p *pulse) sign(t time.Duration) {
	if p.signs > 0 && p.in {
		p.longest = max(p.longest, t-p.last)
	}
	p.signs++
	p.last = max(p.last, t)
}

// listen takes the pulse of every view, and what is said of packets.
func listen(ctx context.Context, traces Traces, clocks *clocks, cargo *Cargo) ([]*pulse, error) {
	views := make([]*pulse, len(traces.Sources))
	number := map[string]int{}
	for i, s := range traces.Sources {
		p := &pulse{}
		views[i], number[s.View] = p, i
		p.in = i == 0
		news := newNews(traces.Rules)
		clocks.rewind(i)
		err := walk(ctx, s.Path, func(r *trace.Record, names *trace.Names) {
			clocks.bring(i, r)
			cargo.say(s.View, r)
			switch {
			case r.Joined == s.View:
				p.in, p.was = true, true
			case r.Leaves(s.View), r.Refused == s.View:
				p.in = false
			}
			if !r.Told() {
				return
			}
			if !p.spoke {
				p.spoke, p.began = true, r.T
				p.in = p.in || len(r.State) > 0
				p.was = p.was || p.in
			}
			if news.in(r, names) {
				p.changes = max(p.changes, r.T)
			}
			p.sign(r.T)
			p.lines = p.last
		})
		if err != nil {
			return nil, err
		}
	}
	if traces.Packets == "" || clocks != nil {
		return views, nil
	}
	// Packets are a sign of whoever sends them.
	sent := make([][]time.Duration, len(views))
	err := walkPackets(ctx, traces.Packets, func(view []byte, d link.Direction, at time.Duration) {
		i, ok := number[string(view)]
		if ok && d == link.Down {
			i, ok = number[rulebook.Server]
		}
		if ok {
			sent[i] = append(sent[i], at)
		}
	})
	if err != nil {
		return nil, err
	}
	for i, p := range views {
		if len(sent[i]) >= signsKnown {
			slices.Sort(sent[i])
			p.sends(sent[i])
		}
	}
	return views, nil
}

// news tells what a view changes from what it only says again, as far as rules look at it:
// a counter of its own that runs is no sign that a match goes on.
type news struct {
	rules []rulebook.Rule
	now   map[[2]int32]trace.Value // what was told last, of each field of each entity that is watched
	watch map[[2]int32]bool        // which are
}

func newNews(rules rulebook.Rules) *news {
	return &news{rules: rules.Fields, now: map[[2]int32]trace.Value{}, watch: map[[2]int32]bool{}}
}

// in reports whether there is any in a record.
func (n *news) in(r *trace.Record, names *trace.Names) (some bool) {
	for _, c := range r.State {
		key := [2]int32{int32(c.Entity), int32(c.Field)}
		watched, known := n.watch[key]
		if !known {
			field := rulebook.Existence
			if c.Field != trace.Exists {
				field = names.FieldName(c.Field)
			}
			for _, own := range []bool{false, true} {
				i := rulebook.Find(n.rules, names.EntityID(c.Entity), own, field)
				watched = watched || i >= 0 && n.rules[i].Judged()
			}
			n.watch[key] = watched
		}
		if !watched {
			continue
		}
		if v, told := n.now[key]; !told || v != c.Value {
			n.now[key] = c.Value
			some = true
		}
	}
	return some || r.Event != ""
}

// sends adds packets to a pulse. A view that both tells and sends is quiet for no longer
// than either is.
func (p *pulse) sends(at []time.Duration) {
	p.untold = p.longest
	for i := 1; i < len(at); i++ {
		p.unsent = max(p.unsent, at[i]-at[i-1])
	}
	if p.longest = min(p.longest, p.unsent); p.signs < signsKnown {
		p.longest = p.unsent
	}
	p.signs += len(at)
	p.last = max(p.last, at[len(at)-1])
	p.sender = true
}

// silences finds the views that fell silent. until is when the match was over.
func silences(traces Traces, views []*pulse, until time.Duration) (list []ending.Break) {
	reference := 0
	for i, s := range traces.Sources {
		if s.View == traces.Reference {
			reference = i
		}
	}
	// lacks reports whether a view has given no sign since last, though others went on.
	lacks := func(i int, last, wait time.Duration, goesOn func(*pulse) time.Duration) bool {
		for k, other := range views {
			if k != i && other.spoke && other.began < last && (i == reference || k == reference) && goesOn(other)-last >= wait {
				return until-last >= wait
			}
		}
		return false
	}
	told := func(p *pulse) time.Duration { return p.changes } // of what a client has nothing to do with it may say nothing
	for i, p := range views {
		atLeast := silentFor
		switch {
		case !p.in || p.signs < signsKnown:
			continue
		case !p.sender && i != reference:
			continue
		case !p.sender:
			atLeast = quietFor
		}
		goesOn := told
		if p.sender && i == reference {
			goesOn = func(p *pulse) time.Duration { return p.last }
		}
		silent := func(at, longest time.Duration, what string) {
			list = append(list, ending.Break{Kind: ending.Silent, View: traces.Sources[i].View, At: trace.Seconds(at),
				How: fmt.Sprintf("before that it was never quiet for longer than %.3g s%s", longest.Seconds(), what)})
		}
		switch {
		case lacks(i, p.last, max(atLeast, muchLonger*p.longest, 3*p.unsent), goesOn):
			silent(p.last, p.longest, "")
		case p.sender && i == reference && lacks(i, p.lines, max(quietFor, muchLonger*p.untold), told):
			// Its lines were lost on the way: in a buffer that was never flushed, say.
			silent(p.lines, p.untold, ", and it went on sending: does it flush its trace?")
		}
	}
	return list
}

// quiet takes into account who said nothing at all, and who fell silent: nothing is held
// against a reference from when it fell silent or its program ended.
func quiet(traces Traces, how ending.Ending, views []*pulse, until time.Duration) (ending.Ending, time.Duration, error) {
	if traces.Untraced { // what stands in for the traces gives no signs of life
		return how, until, nil
	}
	end := time.Duration(0)
	for i, p := range views {
		end = max(end, p.last)
		if name := traces.Sources[i].View; !p.spoke && name == traces.reference() && traces.MayHush && slices.ContainsFunc(views, func(p *pulse) bool { return p.spoke }) {
			return how, until, &UnusableError{traces.Sources[i].Path, name + " told nothing in its trace, so nothing can be held against it; docs/trace-lines.md says what it has to print"}
		}
	}
	how.Breaks = slices.Clone(how.Breaks)
	for _, b := range silences(traces, views, min(end, until)) {
		if !slices.ContainsFunc(how.Breaks, func(known ending.Break) bool { return known.View == b.View && known.Back == 0 }) {
			if traces.Timing != nil { // real programs, and one that had ended would have been told
				b.How = "its process went on; " + b.How
			}
			how.Breaks = append(how.Breaks, b)
		}
	}
	for _, b := range how.Breaks {
		if b.View == traces.reference() && b.Back == 0 {
			until = min(until, time.Duration(b.At))
		}
	}
	slices.SortStableFunc(how.Breaks, func(a, b ending.Break) int { return cmp.Compare(a.At, b.At) })
	return how, until, nil
}
