package stage

import (
	"context"
	"time"

	"zitherwheel/audit"
	"zitherwheel/follow"
	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/runfolder"
)

// follow lets the traces be judged while they are written, from the files, and
// returns what ends that.
func (m *real) follow(ctx context.Context) (end func()) {
	m.alerts, m.states = make(chan judge.Alert, 1024), make(chan follow.State, 1)
	run, err := runfolder.Open(m.folder.Path())
	if err != nil {
		m.note(err)
		return func() {}
	}
	traces := follow.Traces{Packets: run.PacketsPath(), Rules: m.plan.Rules, Reference: m.plan.Reference,
		Alert: func(a judge.Alert) {
			select {
			case m.alerts <- a:
			default: // there are more than anybody reads
			}
		},
		Now: func(s follow.State) {
			select {
			case m.states <- s:
			default:
			}
		}}
	for _, view := range run.About.Views {
		traces.Sources = append(traces.Sources, audit.Source{View: view, Path: run.ViewPath(view)})
	}
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, err := follow.Run(ctx, traces)
		_ = err // the traces are judged again when the match has ended, and then it shows
	}()
	return func() { cancel(); <-done }
}

// listen takes in what those say who judge while the match goes on.
func (m *real) listen() {
	if m.alerts == nil {
		return
	}
	for more := true; more; {
		select {
		case a := <-m.alerts:
			m.alert(a)
		case s := <-m.states:
			m.findings = s.Findings
			m.standing = m.standing[:0]
			for _, v := range s.Views {
				m.standing = append(m.standing, v.Now)
			}
		default:
			more = false
		}
	}
	if m.options.Progress == nil || time.Since(m.told) < progressEvery {
		return
	}
	m.told = time.Now()
	p := Progress{At: m.now(), Length: m.plan.Length, Findings: m.findings}
	for _, b := range m.bots {
		one := BotProgress{Name: b.name, In: b.mirror.inside, Up: m.progress[b.view][link.Up], Down: m.progress[b.view][link.Down]}
		if b.view < len(m.standing) {
			one.Now = m.standing[b.view]
		}
		p.Bots = append(p.Bots, one)
	}
	m.options.Progress(p)
}
