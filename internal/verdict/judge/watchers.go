package judge

import "slices"

// watchers say which trackers of an entity each field concerns, by their places among them. All views that
// track the same of it share them: a view that has thousands of entities would touch as many lists else.
type watchers struct{ byField [][]uint16 }

var nobodyWatches = &watchers{}

// watchers are those of an entity in a view whose own it is, or not.
func (t *entity) watchers(own bool) *watchers {
	list, known := t.otherRule, &t.watched[0]
	if own {
		list, known = t.ownRule, &t.watched[1]
	}
	if *known != nil {
		return *known
	}
	w := &watchers{}
	for i, rp := range list {
		for _, f := range rp.path.fields {
			for len(w.byField) <= int(f) {
				w.byField = append(w.byField, nil)
			}
			w.byField[f] = append(w.byField[f], uint16(i))
		}
	}
	*known = w
	return w
}

// marked is places in the order in which they were marked, each once. The zero value has none.
type marked struct {
	list []uint16
	bits uint64 // the first 64
}

func (m *marked) mark(i uint16) {
	if i < 64 {
		if m.bits&(1<<i) != 0 {
			return
		}
		m.bits |= 1 << i
	} else if slices.Contains(m.list, i) {
		return
	}
	m.list = append(m.list, i)
}

func (m *marked) clear() { m.list, m.bits = m.list[:0], 0 }
