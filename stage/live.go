package stage

import (
	"time"

	"zitherwheel/audit"
	"zitherwheel/follow"
	"zitherwheel/link"
)

// judgeLive lets the match be judged while it goes on, from what is recorded, as it is
// recorded. The verdict is made from the whole traces when it has ended.
func (m *real) judgeLive() {
	m.live = follow.NewLive(m.names, m.views, m.plan.Rules, audit.Setting{Reference: m.plan.Reference, Fates: true, Alert: m.alert})
}

// liveEvery is how often what has come is judged.
const liveEvery = 50 * time.Millisecond

// listen judges what has come, and says how far the match is.
func (m *real) listen() {
	now := m.now()
	if m.live == nil || now-m.listened < liveEvery {
		return
	}
	m.listened = now
	m.live.Judge(now - follow.Hold)
	if m.options.Progress == nil || time.Since(m.told) < progressEvery {
		return
	}
	m.told = time.Now()
	state := m.live.State()
	p := Progress{At: now, Length: m.plan.Length, Findings: state.Findings}
	for _, b := range m.bots {
		one := BotProgress{Name: b.name, In: b.mirror.inside, Up: m.progress[b.view][link.Up], Down: m.progress[b.view][link.Down]}
		one.Now = state.Views[b.view].Now
		p.Bots = append(p.Bots, one)
	}
	m.options.Progress(p)
}
