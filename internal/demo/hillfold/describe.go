package hillfold

import (
	"fmt"
	"strings"
)

const messagesDescribed = 3 // of one packet

// Describe says in words what a packet carries, for people who look for the one that
// mattered. It names the things that the server has told somebody of.
func (s *Server) Describe(data []byte) string {
	r, kind := open(data)
	r.u32() // session
	var parts []string
	switch kind {
	case packetJoin:
		r.u8()
		parts = append(parts, "asks to join as "+r.text())
	case packetInput:
		r.u16()
		if bell := r.u8(); bell > 0 {
			parts = append(parts, fmt.Sprintf("bell request %d", bell))
		}
		r.place()
		first, n := r.u32(), r.u8()
		parts = append(parts, fmt.Sprintf("inputs %d to %d", first, first+uint32(n)-1))
	case packetLeave:
		parts = append(parts, "goodbye")
	case packetPing:
		parts = append(parts, "asks for the time")
	case packetPong:
		parts = append(parts, "tells the time")
	case packetRefused:
		parts = append(parts, "no place is left")
	case packetUpdate:
		tick := r.u32()
		r.u32()
		for range r.u8() {
			parts = append(parts, "said once: "+s.describeMessage(r.take(int(r.u8()))))
		}
		messages := int(r.u8())
		for i := range messages {
			number, data := r.u16(), r.take(int(r.u8()))
			if i < messagesDescribed {
				parts = append(parts, fmt.Sprintf("message %d: %s", number, s.describeMessage(data)))
			}
		}
		if messages > messagesDescribed {
			parts = append(parts, fmt.Sprintf("%d messages more", messages-messagesDescribed))
		}
		parts = append(parts, fmt.Sprintf("snapshot of tick %d", tick))
	}
	if r.bad {
		return "not understood"
	}
	return strings.Join(parts, "; ")
}

func (s *Server) describeMessage(data []byte) string {
	r := reader{b: data}
	kind := r.u8()
	event := ""
	switch kind {
	case messageWelcome:
		return "welcome, your dog is " + s.called[thing(r.u16())]
	case messageAppear:
		return "there is " + s.called[thing(r.u16())]
	case messageGoodbye:
		return s.called[thing(r.u16())] + " is gone"
	case messageGate, messageFlip:
		return s.called[thing(r.u16())] + " opens or shuts"
	case messageStones:
		return "the stones"
	case messageDenied:
		return fmt.Sprintf("bell request %d is denied", r.u8())
	case messageJoined:
		r.u16()
		return r.text() + " joined"
	case messageLeft:
		return r.text() + " left"
	case messageBark:
		event = "bark"
	case messagePicked:
		event = "picked-up"
	case messagePenned:
		event = "penned"
	case messageFinal:
		r.u16()
		return "the round is over, the winner is " + r.text()
	default:
		return "not understood"
	}
	number := r.u16()
	return fmt.Sprintf("%s %d of %s", event, number, s.called[thing(r.u16())])
}
