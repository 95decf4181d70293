package match

import (
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/review/live"
)

// judgeLive lets the match be judged while it goes on, from what is recorded, as it is
// recorded. The verdict is made from the whole traces when it has ended.
func (m *buildMatch) judgeLive() {
	m.live = live.NewLive(m.names, m.views, m.plan.Watched(), feed.Setting{Reference: m.plan.Reference, Ticks: m.plan.Align == feed.Tick, Outcomes: true, Alert: m.alert})
}

// liveEvery is how often what has come is judged.
const liveEvery = 50 * time.Millisecond

// listen judges what has come, and says how far the match is.
func (m *buildMatch) listen() {
	now := m.now()
	if m.live == nil || now-m.listened < liveEvery {
		return
	}
	m.listened = now
	m.live.Judge(now - live.Hold)
	if m.options.Progress == nil || time.Since(m.told) < progressEvery {
		return
	}
	m.told = time.Now()
	state := m.live.State()
	p := Progress{At: now, Length: m.plan.Duration, Findings: state.Findings}
	for _, b := range m.bots {
		one := BotProgress{Name: b.name, In: b.mirror.inside, Up: m.progress[b.view][link.Up], Down: m.progress[b.view][link.Down]}
		one.Now = state.Views[b.view].Now
		p.Bots = append(p.Bots, one)
	}
	m.options.Progress(p)
}
