package feed

import (
	"context"
	"fmt"
	"slices"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/verdict/judge"
)

// wire is what a record of packets tells before anything is judged by it: whether it can be relied on, and whose
// packets went over their links at all.
type wire struct {
	sent map[string]*[2]int // packets, by link and direction
	torn bool               // it does not tell of all packets
	flaw string             // why nothing can be excused by this record, or ""
}

// wire reads the record of packets.
func (t *Traces) wire(ctx context.Context) (*wire, error) {
	w := &wire{sent: map[string]*[2]int{}}
	if t.Packets == "" {
		return w, nil
	}
	file, err := open(t.Packets)
	if err != nil {
		w.torn, w.flaw = true, err.Error()
		return w, nil
	}
	defer file.Close()
	in := &input{path: t.Packets, packets: run.NewPacketReader(file)}
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if ok, err := in.read(); err != nil {
			return nil, err
		} else if !ok {
			break
		}
		ways := w.sent[in.link]
		if ways == nil {
			ways = &[2]int{}
			w.sent[in.link] = ways
		}
		ways[in.packet.Direction]++
	}
	torn := 0
	if t.Ending.CutOff() { // its last line may have been torn then
		torn = 1
	}
	w.torn = in.cut != "" || in.packets.Bad > torn
	switch {
	case in.cut != "" && !t.Ending.CutOff():
		w.flaw = "their record breaks off: " + in.cut
	case in.packets.Bad > torn:
		w.flaw = fmt.Sprintf("%d lines of their record cannot be read", in.packets.Bad)
	case len(w.sent) == 0 && len(t.Linked) > 0:
		w.flaw = "their record holds none"
	}
	return w, nil
}

// distrust leaves a record of packets out that cannot be relied on: then nothing is excused by what links did.
func (t *Traces) distrust(w *wire) (warnings []judge.Warning) {
	warnings = []judge.Warning{}
	if w.flaw == "" {
		return warnings
	}
	t.Packets = ""
	return append(warnings, judge.Warning{Text: "packets unknown, so nothing is excused by what the links did: " + w.flaw})
}

// bypassed are the views that told something, and whose packets did not go over their links: how they fared says
// nothing of these links.
func (w *wire) bypassed(t *Traces, views []*pulse) (list []ending.Break) {
	if t.Packets == "" && w.flaw == "" || w.torn {
		return nil
	}
	for i, s := range t.Sources {
		if !slices.Contains(t.Linked, s.View) || !views[i].was {
			continue
		}
		ways := w.sent[s.View]
		if ways == nil {
			ways = &[2]int{}
		}
		if up, down := ways[link.Up], ways[link.Down]; up == 0 || down == 0 {
			list = append(list, ending.Break{Kind: ending.Bypassed, View: s.View,
				How: fmt.Sprintf("%d up and %d down; does its client use the address that it is given? zwheel preflight tries it", up, down)})
		}
	}
	return list
}
