package stage

import (
	"time"
	"zitherwheel/audit"
	"zitherwheel/bot"
	"zitherwheel/link"
	"zitherwheel/plan"
	"zitherwheel/runfolder"
	"zitherwheel/trace"
)

// recorder hands what happens in a match to the judge, if it is judged as it goes,
// and to the run folder, if there is one.
type recorder struct {
	names  *trace.Names
	views  []string
	bench  *audit.Bench
	folder *runfolder.Folder
	failed error // the first failure to record
}

// open makes the run folder.
func (m *recorder) open(p *plan.Plan, path string) error {
	text, err := p.YAML()
	if err != nil {
		return err
	}
	about := runfolder.About{Title: p.Title, Seed: p.Seed, Clock: p.Clock, Length: p.Length.Seconds(), Views: m.views}
	m.folder, err = runfolder.Create(path, about, text, m.names)
	return err
}

// say returns what takes in the records of a view.
func (m *recorder) say(view int) func(*trace.Record) {
	return func(r *trace.Record) {
		r.Round()
		if m.bench != nil {
			m.bench.Record(view, r)
		}
		if m.folder != nil {
			m.note(m.folder.Record(view, r))
		}
	}
}

func (m *recorder) packet(view int, d link.Direction, f link.Fate) {
	if m.bench != nil {
		m.bench.Packet(view, d, f)
	}
	if m.folder != nil {
		m.note(m.folder.Packet(view, d, f))
	}
}

func (m *recorder) log(view int, now time.Duration, text string) {
	if m.folder != nil {
		m.note(m.folder.Log(view, now, text))
	}
}

func (m *recorder) note(err error) {
	if m.failed == nil {
		m.failed = err
	}
}

// inputText is how a trace tells what a bot does.
func inputText(a bot.Action) string {
	text := "stand"
	switch {
	case a.Move > 0 && a.Run:
		text = "run"
	case a.Move > 0:
		text = "trot"
	}
	if a.Press != "" {
		text += " " + a.Press
	}
	return text
}
