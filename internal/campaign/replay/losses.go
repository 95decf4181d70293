package replay

import (
	"context"
	"time"

	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
)

// losses leaves only those losses that matter: stretches, then packets.
func (s *shrinker) losses(ctx context.Context) error {
	if len(s.now.losses) == 0 {
		return nil
	}
	was := s.fixed
	s.fixed = true
	defer func() { s.fixed = was }()
	fewer := func() error {
		all := s.now
		return s.minimise(ctx, len(all.losses), func(kept []int) sketch {
			k := all
			k.losses = nil
			for _, i := range kept {
				k.losses = append(k.losses, all.losses[i])
			}
			return k
		})
	}
	if err := fewer(); err != nil {
		return err
	}
	k := s.now
	k.losses = nil
	for _, l := range s.now.losses {
		whole := s.now
		whole.losses = nil
		sent, err := s.sent(ctx, whole, l)
		if err != nil {
			return err
		}
		for _, at := range sent {
			k.losses = append(k.losses, loss{l.Way, link.Window{From: at - time.Millisecond, Until: at + time.Millisecond}})
		}
	}
	if i, err := s.exactly(ctx, k); err != nil || i < 0 {
		return err
	}
	return fewer()
}

// lost are the losses of one way in the recording, by the time at which they were sent.
func (s *shrinker) lost(way Way) (list []loss) {
	for _, f := range s.Outcomes[way] {
		if f.Copies == 0 && f.Sent < s.until {
			list = append(list, loss{way, link.Window{From: max(0, f.Sent-time.Millisecond), Until: f.Sent + time.Millisecond}})
		}
	}
	return list
}

// sent is when packets are sent within a stretch.
func (s *shrinker) sent(ctx context.Context, k sketch, in loss) (list []time.Duration, err error) {
	_, err = s.lab.play(ctx, s.variant(k), match.Options{Silent: true, Packet: func(p match.Packet) {
		if p.Link == in.Link && p.Direction == in.Direction && p.Sent >= in.From && p.Sent < in.Until {
			list = append(list, p.Sent)
		}
	}})
	return list, err
}
