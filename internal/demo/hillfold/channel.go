package hillfold

import "time"

// resendAfter is how long a message waits for its acknowledgement before it
// rides on another datagram: it rides on every one until it is acknowledged.
const resendAfter = 25 * time.Millisecond

// patientResend is the same for a sender that saves bytes and leaves the order
// to the receiver.
const patientResend = 150 * time.Millisecond

// outChannel is the sending half of the reliable channel: messages are numbered
// from 0, ride on the snapshots, and are sent again until acknowledged. Numbers
// wrap at 16 bits.
type outChannel struct {
	first   uint16 // number of waiting[0]
	wait    time.Duration
	waiting []message
}

type message struct {
	data []byte
	sent time.Duration
	ever bool
}

func (c *outChannel) say(data []byte) { c.waiting = append(c.waiting, message{data: data}) }

// acknowledge drops what the other side has: everything before next.
func (c *outChannel) acknowledge(next uint16) {
	if n := int(int16(next - c.first)); n > 0 && n <= len(c.waiting) {
		c.waiting = c.waiting[n:]
		c.first = next
	}
}

// write adds the messages that are due, as many as there is room for.
func (c *outChannel) write(w *writer, now time.Duration, room int) {
	count := len(w.b)
	w.u8(0)
	for i := range c.waiting {
		m := &c.waiting[i]
		if m.ever && now-m.sent < max(c.wait, resendAfter) {
			continue
		}
		if room -= 3 + len(m.data); room < 0 || w.b[count] == 255 {
			return
		}
		m.sent, m.ever = now, true
		w.u16(c.first + uint16(i))
		w.u8(uint8(len(m.data)))
		w.b = append(w.b, m.data...)
		w.b[count]++
	}
}

// inChannel is the receiving half: it hands on every message once, in order.
type inChannel struct {
	next   uint16
	early  map[uint16][]byte
	faults Faults
	twice  int // messages that were handed on again
	astray int // messages that were handed on before an earlier one
}

const mostEarly = 256

// read takes the messages of a datagram and calls deliver for those whose turn
// has come.
func (c *inChannel) read(r *reader, deliver func(data []byte)) {
	for range r.u8() {
		number, data := r.u16(), r.take(int(r.u8()))
		if r.bad {
			return
		}
		ahead := int16(number - c.next)
		switch {
		case ahead < 0 && c.faults.Has(ToldTwice):
			c.twice++
			deliver(data)
		case ahead > 0 && c.faults.Has(WrongOrder):
			if c.early == nil {
				c.early = map[uint16][]byte{}
			}
			if _, had := c.early[number]; !had && ahead < mostEarly {
				c.early[number] = nil // only so that it is not applied again
				c.astray++
				deliver(data)
			}
		case ahead == 0:
			c.next++
			deliver(data)
			for {
				data, ok := c.early[c.next]
				if !ok {
					break
				}
				delete(c.early, c.next)
				c.next++
				if data != nil {
					deliver(data)
				}
			}
		case ahead > 0 && ahead < mostEarly:
			if c.early == nil {
				c.early = map[uint16][]byte{}
			}
			c.early[number] = append([]byte(nil), data...)
		}
	}
}
