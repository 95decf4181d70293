package judge

import (
	"time"

	"zitherwheel/internal/trace"
)

// fields asks whether what the views show agrees with what the reference has: every entity's
// existence, and every value that a rule compares. A tracker follows each.
type fields struct{ match *Judge }

// take takes in what a view shows.
func (f *fields) take(v *view, r *trace.Record) {
	j, t := f.match, r.T
	if v.number == 0 || !r.Pictures() {
		return
	}
	j.stamp++
	var last *mirror
	repeats := false
	for i := range r.State {
		c := &r.State[i]
		if last == nil || last.entity != c.Entity {
			j.settleMirror(v, last, t)
			last = v.mirror(c.Entity)
			last.stamp = j.stamp
			if !last.isThere {
				last.isThere = true
				j.meet(v, last, t)
			}
		}
		if c.Field != trace.Exists {
			repeats = !last.set(c.Field, c.Value) || repeats
		}
	}
	j.settleMirror(v, last, t)
	for _, e := range r.Despawned {
		if m := v.mirrorOf(e); m != nil {
			j.part(v, m, t)
		}
	}
	if r.Full {
		for _, m := range v.mirrors {
			if m != nil && m.isThere && m.stamp != j.stamp {
				j.part(v, m, t)
			}
		}
		if v.in && v.whole == never && j.hasAll(v) {
			v.whole = t
		}
	}
	v.rhythm.tell(t, repeats) // last: until now it held what it had told before as long as anybody can say
}

// hasAll reports whether a view has everything that the reference has.
func (j *Judge) hasAll(v *view) bool {
	for _, e := range j.known {
		if m := v.mirrorOf(e.id); e.isThere && (m == nil || !m.isThere) {
			return false
		}
	}
	return true
}

// come looks at everything that nobody spoke about lately, up to t.
func (f *fields) come(t time.Duration) {
	j := f.match
	for _, v := range j.views[1:] {
		if !v.in {
			continue
		}
		for _, m := range v.mirrors {
			if m != nil && m.known != nil && !m.sleeps(t) {
				j.expect(v, m, t)
				if m.existence != nil {
					m.existence.advance(j, v, t)
				}
				for _, k := range m.trackers {
					k.advance(j, v, t)
					if k.rule.EveryValue && k.active {
						k.askBack(j, v, t)
					}
				}
			}
		}
	}
}

// end leaves open whatever is still going on.
func (f *fields) end(t time.Duration) {
	for _, v := range f.match.views[1:] {
		v.each(func(k *tracker) {
			if k.active {
				k.advance(f.match, v, t)
				open := k.run.last >= v.heldUntil(k.rule, t)
				// Of the last moments nobody can say; whatever was wrong up to them is so still.
				k.close(v, k.run.last, open || k.run.certain && !k.run.healed.ok)
			}
		})
	}
}
