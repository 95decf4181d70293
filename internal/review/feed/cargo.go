package feed

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Cargo is what packets carried and whether they were taken in, by what the programs say of them
// themselves: their lines with `sent` and `got`. The zero value knows of none.
//
// A program numbers its packets as it likes, and the link counts those that pass. Which is which
// follows from their order, their times and, where a line says it, their size. A stream of bytes
// carries several messages in one packet, so several lines may be of one.
type Cargo struct {
	said map[cargoWay][]saying
	got  map[cargoWay]map[string][]time.Duration // when a packet was said to be taken in, by its name
	last map[cargoWay]time.Duration              // when one was last
	sent map[cargoWay][]link.Packet

	blocks  map[cargoWay][][]saying // what was said of each packet, as far as somebody asked; nil where nobody did
	ignored map[cargoWay]ignored
}

// cargoWay is one direction of a link. Of what a server sends to whom it does not say, the link is "".
type cargoWay struct {
	link      string
	direction link.Direction
}

// saying is what a program says of a packet that it sends.
type saying struct {
	at   time.Duration
	name string
	text string // what is in it
	size int
}

// Carried reads what the programs of a run say of their packets. A trace that cannot be read says
// nothing of them.
func Carried(ctx context.Context, run *run.Run, p *plan.Plan) (*Cargo, error) {
	c := &Cargo{}
	err := c.read(ctx, Run(run, p))
	var unusable *UnusableError
	if errors.As(err, &unusable) {
		err = nil
	}
	return c, err
}

func (c *Cargo) read(ctx context.Context, traces Traces) error {
	clocks, err := study(ctx, traces)
	if err != nil {
		return err
	}
	for i, s := range traces.Sources {
		clocks.rewind(i)
		err := walk(ctx, s.Path, func(r *trace.Record, _ *trace.Names) {
			clocks.bring(i, r)
			c.say(s.View, r)
		})
		if err != nil {
			return err
		}
	}
	return c.load(ctx, traces)
}

// say takes in a line of a view.
func (c *Cargo) say(view string, r *trace.Record) {
	if r.Sent != "" {
		if c.said == nil {
			c.said = map[cargoWay][]saying{}
		}
		w := cargoWay{view, link.Up}
		if view == rulebook.Server {
			w = cargoWay{r.To, link.Down}
		}
		c.said[w] = append(c.said[w], saying{r.T, r.Sent, legible(r.Data), int(r.Bytes)})
	}
	if r.Got != "" {
		if c.got == nil {
			c.got, c.last = map[cargoWay]map[string][]time.Duration{}, map[cargoWay]time.Duration{}
		}
		w := cargoWay{view, link.Down}
		if view == rulebook.Server {
			w = cargoWay{r.By, link.Up}
		}
		if c.got[w] == nil {
			c.got[w] = map[string][]time.Duration{}
		}
		c.got[w][r.Got] = append(c.got[w][r.Got], r.T)
		c.last[w] = max(c.last[w], r.T)
	}
}

// legible is data as it is told: a text without its quotes.
func legible(data string) string {
	var text string
	if json.Unmarshal([]byte(data), &text) != nil {
		text = data
	}
	return cut(strings.Join(strings.Fields(text), " "), cargoText)
}

// cut is a text of so many characters at most.
func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + " ..."
	}
	return text
}

const (
	cargoText  = 160 // characters
	remarkText = 60
)

// load reads the packets of which something may have been said.
func (c *Cargo) load(ctx context.Context, traces Traces) error {
	if c.said == nil || traces.Packets == "" {
		return nil
	}
	file, err := open(traces.Packets)
	if err != nil {
		return err
	}
	defer file.Close()
	c.sent, c.blocks, c.ignored = map[cargoWay][]link.Packet{}, map[cargoWay][][]saying{}, map[cargoWay]ignored{}
	reader := run.NewPacketReader(file)
	for steps := 0; ; steps++ {
		if steps%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		view, p, err := reader.Next()
		if err != nil { // its end; and where it breaks off, what could be read counts
			return nil
		}
		w := cargoWay{view, p.Direction}
		c.sent[w] = append(c.sent[w], p)
	}
}

// Of is what was said of a packet by whoever sent it: the name it has in the game, and what is in it.
// It is "" where nothing was. A nil Cargo knows of nothing.
func (c *Cargo) Of(view string, d link.Direction, number uint64) string {
	if c == nil {
		return ""
	}
	var parts []string
	for _, s := range c.of(cargoWay{view, d}, number) {
		if s.text == "" {
			parts = append(parts, s.name)
		} else {
			parts = append(parts, s.name+": "+s.text)
		}
	}
	return strings.Join(parts, "; ")
}

// of is what was said of a packet. Packets are aligned with lines by the block, when one is asked about.
func (c *Cargo) of(w cargoWay, number uint64) []saying {
	packets := c.sent[w]
	i := sort.Search(len(packets), func(i int) bool { return packets[i].Number >= number })
	if i == len(packets) || packets[i].Number != number {
		return nil
	}
	of, known := c.blocks[w]
	if !known {
		of = make([][]saying, len(packets))
		c.blocks[w] = of
	}
	from := i - i%block
	until := min(from+block, len(packets))
	if of[from] == nil {
		c.align(w, from, until)
	}
	return of[i]
}

// align aligns packets of a way with the lines around them, and notes for each what was said of it.
func (c *Cargo) align(w cargoWay, from, until int) {
	packets, of := c.sent[w], c.blocks[w]
	first, last := from, until // those beside them have lines of their own
	for first > 0 && packets[from].Sent-packets[first-1].Sent <= aroundPacket {
		first--
	}
	for last < len(packets) && packets[last].Sent-packets[until-1].Sent <= aroundPacket {
		last++
	}
	var lines []saying
	for _, w := range []cargoWay{w, {"", w.direction}} {
		said := c.said[w]
		for _, s := range said[sort.Search(len(said), func(i int) bool { return said[i].at >= packets[first].Sent-farthest }):] {
			if s.at > packets[last-1].Sent+farthest {
				break
			}
			lines = append(lines, s)
		}
	}
	slices.SortStableFunc(lines, func(a, b saying) int { return cmp.Compare(a.at, b.at) })
	for i := from; i < until; i++ {
		of[i] = []saying{}
	}
	for k, j := range aligned(lines, packets[first:last]) {
		if i := first + j; j >= 0 && i >= from && i < until {
			of[i] = append(of[i], lines[k])
		}
	}
}

// What an alignment of lines with packets costs, in time that they are apart. Each line belongs to the
// packet nearest to it, but one line each is better than two lines of one, and a packet of which nothing
// is said; and a line may be of none, as of a packet that never came to the link.
const (
	block        = 64                     // packets that are aligned in one go
	aroundPacket = 300 * time.Millisecond // beside them, as much is looked at
	farthest     = 50 * time.Millisecond  // that a line and its packet are apart
	shared       = 2 * time.Millisecond   // a further line of a packet
	unsaid       = 2 * time.Millisecond   // a packet without a line
	otherSize    = 20 * time.Millisecond
)

// aligned says of which packet each line is, or -1: what costs least, by dynamic programming.
func aligned(lines []saying, packets []link.Packet) []int {
	const never = time.Duration(math.MaxInt64 / 4)
	type cell struct {
		cost    time.Duration // of so many lines and packets
		held    time.Duration // likewise, where the last line is of the last packet
		further bool          // and so is the one before
	}
	width := len(packets) + 1
	table := make([]cell, (len(lines)+1)*width)
	for j := range width {
		table[j] = cell{cost: time.Duration(j) * unsaid, held: never}
	}
	for i, line := range lines {
		above, row := table[i*width:(i+1)*width], table[(i+1)*width:(i+2)*width]
		row[0] = cell{cost: above[0].cost + farthest, held: never}
		for j, p := range packets {
			c := cell{held: never}
			apart := (line.at - p.Sent).Abs()
			if line.size > 0 && line.size != p.Size {
				apart += otherSize
			}
			if apart < farthest {
				c.further = above[j+1].held+shared < above[j].cost
				c.held = apart + min(above[j].cost, above[j+1].held+shared)
			}
			c.cost = min(c.held, above[j+1].cost+farthest, row[j].cost+unsaid)
			row[j+1] = c
		}
	}
	list := make([]int, len(lines))
	for i, j, further := len(lines), len(packets), false; i > 0; {
		switch c := table[i*width+j]; {
		case further || j > 0 && c.cost == c.held:
			i--
			list[i] = j - 1
			if further = c.further; !further {
				j--
			}
		case j > 0 && c.cost == table[i*width+j-1].cost+unsaid:
			j--
		default:
			i--
			list[i] = -1
		}
	}
	return list
}

// takenIn says of a packet that arrived whether its receiver said that it took it in; told is false
// where nobody can say: where it does not tell that of any, or not any more.
func (c *Cargo) takenIn(w cargoWay, p link.Packet) (taken, told bool) {
	lines := c.of(w, p.Number)
	if len(lines) == 0 || p.Copies == 0 {
		return false, false
	}
	for _, w := range []cargoWay{w, {"", w.direction}} {
		if c.last[w] < p.Arrives[0]+takesInBy {
			continue
		}
		told = true
		for _, s := range lines {
			for _, at := range c.got[w][s.name] {
				taken = taken || (at-p.Arrives[0]).Abs() < takesInBy
			}
		}
	}
	return taken, told
}

// takesInBy is how long a packet may lie until it is taken in. A name may come again after that.
const takesInBy = 2 * time.Second

// tell adds to the evidence of findings what the packets carried, and those that arrived and were not
// taken in.
func (c *Cargo) tell(v *judge.Verdict) {
	for _, f := range v.Findings {
		e := &f.Evidence
		for i := range e.Packets {
			row := &e.Packets[i]
			d := link.Down
			if row.Direction == link.Up.String() {
				d = link.Up
			}
			row.Carried = c.Of(cmp.Or(row.Link, f.View), d, row.Number)
		}
		var rows []judge.PacketRow
		for _, p := range c.NotTakenIn(f.View) {
			if p.Sent >= time.Duration(e.Since) && p.Sent <= time.Duration(f.BeganAt) {
				rows = append(rows, judge.PacketRow{Direction: p.Direction.String(), Number: p.Number, Sent: judge.Seconds(p.Sent), Size: p.Size,
					Outcome: judge.NotTakenIn, Delay: judge.Seconds(p.Delay()), Carried: c.Of(f.View, p.Direction, p.Number)})
			}
		}
		e.NotTakenIn = len(rows)
		if len(rows) > notTakenRows { // those that speak of what is wrong rather than others
			about := func(row judge.PacketRow) int {
				if f.Entity != "" && strings.Contains(row.Carried, f.Entity) {
					return 0
				}
				return 1
			}
			slices.SortStableFunc(rows, func(a, b judge.PacketRow) int { return about(a) - about(b) })
			rows = rows[:notTakenRows]
			slices.SortStableFunc(rows, func(a, b judge.PacketRow) int { return cmp.Compare(a.Sent, b.Sent) })
		}
		e.Packets = append(e.Packets, rows...)
	}
}

const notTakenRows = 6

// NotTakenIn are the packets of a view's link that arrived and were not taken in.
func (c *Cargo) NotTakenIn(view string) []link.Packet {
	if c == nil {
		return nil
	}
	up, _ := c.notTakenIn(cargoWay{view, link.Up})
	down, _ := c.notTakenIn(cargoWay{view, link.Down})
	return slices.Concat(up, down)
}

// notTakenIn are the packets of a way that arrived and were not taken in, and how many arrived of which that
// can be said.
func (c *Cargo) notTakenIn(w cargoWay) (list []link.Packet, of int) {
	if known, ok := c.ignored[w]; ok {
		return known.list, known.of
	}
	for _, p := range c.sent[w] {
		taken, told := c.takenIn(w, p)
		if told {
			of++
		}
		if told && !taken {
			list = append(list, p)
		}
	}
	if c.sent != nil {
		c.ignored[w] = ignored{list, of}
	}
	return list, of
}

type ignored struct {
	list []link.Packet
	of   int
}

// remarks tells of every way on which packets arrived that were not taken in.
func (c *Cargo) remarks() (list []Remark) {
	for _, w := range slices.SortedFunc(maps.Keys(c.sent), func(a, b cargoWay) int {
		return cmp.Or(cmp.Compare(a.link, b.link), cmp.Compare(a.direction, b.direction))
	}) {
		left, of := c.notTakenIn(w)
		if len(left) == 0 {
			continue
		}
		who, which := w.link, "that reached it"
		if w.direction == link.Up {
			who, which = "the server", "of "+w.link+" that reached it"
		}
		list = append(list, Remark{View: w.link, Text: fmt.Sprintf("%s did not take in %d of %d packets %s, by what it says of them; the first was sent at %.3f s: %s", who, len(left), of, which,
			left[0].Sent.Seconds(), cut(c.Of(w.link, w.direction, left[0].Number), remarkText))})
	}
	return list
}
