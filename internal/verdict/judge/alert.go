package judge

import "time"

// Alert tells of a finding at the moment at which it has become certain: while it
// goes on, and before the verdict. Its kind is as it looks by then.
type Alert struct {
	At      time.Duration // when it became certain
	Began   time.Duration
	Kind    Kind
	View    string
	Entity  string
	Subject Subject
}

// alert hands on that a finding has become certain.
func (j *Judge) alert(a Alert) {
	j.certain++
	if j.config.Alert != nil {
		a.At = j.now
		j.config.Alert(a)
	}
}

// alertOf tells of an episode.
func (j *Judge) alertOf(v *view, k *tracker) {
	a := Alert{Began: k.run.began, View: v.name, Entity: k.mirror.known.name, Subject: Subject{Name: k.rule.Label()}}
	if j.config.Alert != nil {
		a.Kind = j.kindOf(k, v, true).kind
	}
	j.alert(a)
}

// Standing is how a view stands while the match goes on.
type Standing struct {
	Age   time.Duration // of what it last showed of a moving entity; 0 is not known
	Apart int           // fields that disagree at the moment, not all of them for long enough to count
	Gap   float64       // the largest disagreement of those, in their own unit
}

// Standing is how a view stands now.
func (j *Judge) Standing(view int) (s Standing) {
	v := j.views[view]
	s.Age = v.age
	v.each(func(k *tracker) {
		if k.active && k.apart {
			s.Apart++
			s.Gap = max(s.Gap, k.run.worst)
		}
	})
	return s
}

// Certain is how many findings have become certain so far.
func (j *Judge) Certain() int { return j.certain }
