package hillfold

import (
	"time"

	"zitherwheel/internal/trace"
)

// speak says what this client would show now.
func (c *Client) speak(now time.Duration) {
	tell := &c.tell
	tell.begin(now)
	for _, t := range c.things {
		if c.speakOfWorld(t, now) {
			continue
		}
		p, ok := c.poseOf(t)
		if !ok {
			continue
		}
		p.x, p.y = p.x+t.astray.x, p.y+t.astray.y
		t.shown = true
		tell.number(&t.told, fieldX, p.x)
		tell.number(&t.told, fieldY, p.y)
		if t.species == bell {
			tell.text(&t.told, fieldWearer, t.text)
			continue
		}
		tell.number(&t.told, fieldHeading, p.heading)
		if t.species == dogs {
			tell.number(&t.told, fieldSpeed, p.speed)
			tell.tell(&t.told, fieldGait, tell.gaits[p.gait])
			tell.number(&t.told, fieldStamina, p.stamina)
			tell.number(&t.told, fieldScore, float64(t.detail))
			tell.text(&t.told, fieldPlayer, t.player)
		}
	}
	c.speakOfTufts(now)
	if own := c.byID[c.own]; own != nil && c.newest >= 0 {
		of, p := own.told.entity, c.predicted
		tell.record.Predicted = append(tell.record.Predicted,
			trace.Change{Entity: of, Field: tell.fields[fieldX], Value: trace.Number(p.x)},
			trace.Change{Entity: of, Field: tell.fields[fieldY], Value: trace.Number(p.y)})
		if n := len(own.samples); n > 0 {
			tell.record.Received = append(tell.record.Received,
				trace.Change{Entity: of, Field: tell.fields[fieldX], Value: trace.Number(own.samples[n-1].x)},
				trace.Change{Entity: of, Field: tell.fields[fieldY], Value: trace.Number(own.samples[n-1].y)})
		}
	}
	tell.end()
}

// speakOfWorld says how things are shown that do not walk, and reports whether
// it was about one of those.
func (c *Client) speakOfWorld(t *seen, now time.Duration) bool {
	tell := &c.tell
	switch t.species {
	case round:
		tell.text(&t.told, fieldPhase, phase(t.over))
		tell.number(&t.told, fieldPenned, float64(t.detail))
		tell.text(&t.told, fieldWinner, t.text)
	case gate:
		tell.number(&t.told, fieldX, t.x)
		tell.number(&t.told, fieldY, t.y)
		tell.flag(&t.told, fieldOpen, t.detail == 1)
	case stones:
		if t.text == "" {
			return true
		}
		tell.text(&t.told, fieldCells, t.text)
	case mill:
		tell.number(&t.told, fieldX, t.x)
		tell.number(&t.told, fieldY, t.y)
		if angle, ok := c.clock.arm(c, now); ok {
			tell.number(&t.told, fieldAngle, angle)
		}
	default:
		return false
	}
	t.shown = true
	return true
}

// poseOf is where this client shows a thing, if it can.
func (c *Client) poseOf(t *seen) (pose, bool) {
	if t.id == c.own {
		if c.newest < 0 {
			return pose{}, false
		}
		d := c.predicted
		return pose{x: d.x + c.fading.x, y: d.y + c.fading.y, heading: turned(d.heading, c.fading.heading), speed: d.speed,
			stamina: d.stamina, gait: gaitNumber(d.gait())}, true
	}
	return t.between(c.playback.at)
}

// between interpolates the samples of a thing at a moment of the server's time.
// After the last sample it stays where it was seen last.
func (t *seen) between(moment time.Duration) (pose, bool) {
	n := len(t.samples)
	if n == 0 || moment < t.samples[0].at {
		return pose{}, false
	}
	i := n - 1
	for t.samples[i].at > moment {
		i--
	}
	if i > 0 { // what lies behind is never needed again
		t.samples = append(t.samples[:0], t.samples[i:]...)
		n, i = n-i, 0
	}
	a := t.samples[0]
	if n == 1 {
		return a.pose, true
	}
	b := t.samples[1]
	share := float64(moment-a.at) / float64(b.at-a.at)
	p := a.pose
	p.x += (b.x - a.x) * share
	p.y += (b.y - a.y) * share
	p.heading = turned(a.heading, turnTo(a.heading, b.heading)*share)
	p.speed += (b.speed - a.speed) * share
	p.stamina += (b.stamina - a.stamina) * share
	return p, true
}
