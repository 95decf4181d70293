package metrics

import (
	"slices"

	"zitherwheel/internal/trace"
)

// Layers is how far apart the three places of an entity are that a client knows: what last came from
// the server, what it predicts from that, and what it shows. In the unit of places.
type Layers struct {
	Predicted *Spread `json:"predicted_from_received,omitempty"` // of its own entity: how far prediction runs ahead of what came
	Smoothed  *Spread `json:"shown_from_predicted,omitempty"`    // of its own entity: what smoothing still hides
	Delayed   *Spread `json:"shown_from_received,omitempty"`     // of others: how far what is shown is behind what came
}

// layers collects a Layers.
type layers struct {
	received                     map[trace.Entity]*track
	predicted, smoothed, delayed sample
}

// layered takes in what a view received and predicted beside what it showed.
func (c *Collector) layered(v *view, r *trace.Record) {
	if v.layers.received == nil {
		v.layers.received = map[trace.Entity]*track{}
	}
	for i := 0; i < len(r.Received); {
		e, first := r.Received[i].Entity, i
		for i < len(r.Received) && r.Received[i].Entity == e {
			i++
		}
		k := v.layers.received[e]
		if k == nil {
			k = &track{}
			v.layers.received[e] = k
		}
		if fields := c.placeOf(e); fields != nil && set(&k.place, fields, r.Received[first:i]) {
			k.known = true
			if shown := v.track(e); e != v.own && shown != nil && shown.known {
				v.layers.delayed.add(shown.place.minus(k.place).size())
			}
		}
	}
	if len(r.Predicted) == 0 || !v.hasOwn {
		return
	}
	v.layers.smoothed.add(v.off.size())
	if k := v.layers.received[v.own]; k != nil && k.known {
		v.layers.predicted.add(v.predicted.minus(k.place).size())
	}
}

// sum is nil where a view tells none of it.
func (l *layers) sum() *Layers {
	if l.predicted.count+l.smoothed.count+l.delayed.count == 0 {
		return nil
	}
	return &Layers{l.predicted.spread(), l.smoothed.spread(), l.delayed.spread()}
}

// Layered reports whether any view tells layers.
func (m *Measures) Layered() bool {
	return slices.ContainsFunc(m.Views, func(v View) bool { return v.Layers != nil })
}
