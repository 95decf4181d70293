package match

import (
	"errors"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/live"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
)

// recorder hands what happens in a match to the judge, if it is judged as it goes,
// and to the run folder, if there is one.
type recorder struct {
	names  *trace.Names
	views  []string
	bench  *feed.Bench
	hands  *feed.Hands // that have the bench and the folder hear beside; or nil
	kept   *keeping    // the folder then
	live   *live.Live  // instead, where what is recorded must be put in order first
	folder *run.Folder
	failed error // the first failure to record

	alert    func(judge.Alert)
	stalled  func(view string, at time.Duration) bool // whether what begins then may be set aside; nil if never
	sign     run.Sign
	observe  func(Packet)
	describe func(data []byte, d link.Direction) string // nil if nobody knows what packets carry
	progress []([2]LinkProgress)                        // by view
	stopAt   time.Duration                              // the match is to end then; 0 means at its length
}

// namesOf are the names of a match, as many as its plan allows.
func namesOf(p *plan.Plan) *trace.Names {
	names := trace.NewNames()
	names.Most = p.MaxEntities
	return names
}

// prepare takes what a match is asked for beside being played.
func (m *recorder) prepare(o Options, now func() time.Duration) {
	m.progress = make([][2]LinkProgress, len(m.views))
	m.observe, m.sign = o.Packet, o.Sign
	m.alert = func(a judge.Alert) {
		if o.StopAtFirst && m.stopAt == 0 && (m.stalled == nil || !m.stalled(a.View, a.Began)) {
			m.stopAt = now() + Aftermath
		}
		if o.Alert != nil {
			o.Alert(a)
		}
	}
}

// over reports whether a match has lasted long enough, and if it was stopped early.
func (m *recorder) ended(now, length time.Duration) (ended, early bool) {
	if m.stopAt > 0 && now >= m.stopAt && now < length {
		return true, true
	}
	return now >= length, false
}

// open makes the run folder.
func (m *recorder) open(p *plan.Plan, path string) error {
	text, err := p.SeenFrom(path).YAML()
	if err != nil {
		return err
	}
	about := run.About{Title: p.Title, Seed: p.Seed, Clock: p.Clock, Length: p.Duration.Seconds(), Views: m.views}
	if m.folder, err = run.Create(path, about, text, m.names); err != nil {
		return err
	}
	return m.folder.SealWith(OriginOf(p), m.sign)
}

// abandon keeps in the folder why the match could not be played or recorded, and returns
// the reason.
func (m *recorder) abandon(err error) error {
	if m.folder == nil || err == nil {
		return err
	}
	return errors.Join(err, m.folder.Abandon(ending.Ending{How: ending.Failed, Why: err.Error()}))
}

// say returns what takes in the records of a view.
func (m *recorder) say(view int) func(*trace.Record) {
	return func(r *trace.Record) {
		r.Round()
		if m.hands != nil {
			m.hands.Record(view, r)
			return
		}
		if m.bench != nil {
			m.bench.Record(view, r)
		}
		if m.live != nil {
			m.live.Record(view, r)
		}
		if m.folder != nil {
			m.note(m.folder.Record(view, r))
		}
	}
}

func (m *recorder) packet(view int, p link.Packet, data []byte) {
	if m.observe != nil {
		observed := Packet{Link: m.views[view], Packet: p}
		if m.describe != nil {
			observed.Describe = func() string { return m.describe(data, p.Direction) }
		}
		m.observe(observed)
	}
	way := &m.progress[view][p.Direction]
	if way.Packets++; p.Copies == 0 {
		way.Lost++
	} else {
		way.Delay = p.Delay()
	}
	if m.hands != nil {
		m.hands.Packet(view, p)
		return
	}
	if m.bench != nil {
		m.bench.Packet(view, p)
	}
	if m.live != nil {
		m.live.Packet(view, p)
	}
	if m.folder != nil {
		m.note(m.folder.Packet(view, p))
	}
}

func (m *recorder) log(view int, now time.Duration, text string) {
	m.hands.Wait()
	if m.bench != nil {
		m.bench.Log(m.views[view], now, text)
	}
	if m.folder != nil {
		m.note(m.folder.Log(view, now, text))
	}
}

// beside has what follows judged and recorded beside the match, if processors are idle.
func (m *recorder) beside() {
	var others []feed.Listener
	if m.bench != nil {
		others = m.bench.Parts()
	}
	if m.folder != nil {
		m.kept = &keeping{folder: m.folder}
		others = append(others, m.kept)
	}
	m.hands = feed.Beside(others...)
}

// heard waits until all that was said is judged and recorded.
func (m *recorder) heard() {
	m.hands.End()
	if m.hands != nil && m.kept != nil {
		m.note(m.kept.failed)
	}
	m.hands = nil
}

// keeping records beside a match.
type keeping struct {
	folder *run.Folder
	failed error // the first failure
}

func (k *keeping) Record(view int, r *trace.Record) { k.note(k.folder.Record(view, r)) }
func (k *keeping) Packet(view int, p link.Packet)   { k.note(k.folder.Packet(view, p)) }

func (k *keeping) note(err error) {
	if k.failed == nil {
		k.failed = err
	}
}

func (m *recorder) note(err error) {
	if m.failed == nil {
		m.failed = err
	}
}
