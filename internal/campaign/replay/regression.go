package replay

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/match"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/plan"
)

// write makes a plan of the smallest sketch, and tells its story.
func (s *shrinker) write(ctx context.Context, out *Shrunk) error {
	v := s.variant(s.now)
	if err := s.number(ctx, &v); err != nil {
		return err
	}
	p := v.Plan
	if !s.now.tied {
		out.Left = append(out.Left, fmt.Sprintf("the plan is %.1f s long, because what goes wrong depends on how long the round is; it shows after %.1f s", p.Duration.Seconds(), s.now.until.Seconds()))
	}
	p.Title = "shrunk, " + s.target.Signature
	tidy(p)
	r, err := s.lab.play(ctx, Variant{Plan: p}, match.Options{Packet: func(packet match.Packet) { out.tell(p, packet) }})
	if err != nil {
		return err
	}
	f := s.target.In(r.Verdict)
	if f == nil && p.Clock == plan.Wall {
		out.Left = append(out.Left, "it did not show in the last match, as it need not each time on the wall clock")
	} else if f == nil {
		return fmt.Errorf("the smallest plan no longer shows %q when it is played to its end; this is a bug in zwheel", s.target.Signature)
	}
	out.Plan = p
	out.After = s.now.size()
	out.After.Inputs, out.After.Outcomes = 0, 0
	for _, b := range p.Bots {
		out.After.Inputs += len(b.Steps)
		l := p.LinkOf(b)
		out.After.Outcomes += len(l.Up.Given) + len(l.Down.Given) + len(l.Up.Outages) + len(l.Down.Outages)
	}
	if f != nil {
		out.Story = append(out.Story, fmt.Sprintf("At %.3f s it shows: %s, %s %s, as %s sees it.", time.Duration(f.BeganAt).Seconds(), f.Kind, f.Entity, f.Subject, f.View))
	}
	return nil
}

const storyPackets = 5 // are told in full

// tell adds a packet to the story that fares other than the rest.
func (out *Shrunk) tell(p *plan.Plan, packet match.Packet) {
	if packet.Copies == 1 && packet.Flipped == 0 && packet.Resent == 0 {
		return
	}
	if len(out.Story) == storyPackets {
		out.Story = append(out.Story, "More packets are lost, late or damaged; see the links.")
	}
	if len(out.Story) > storyPackets {
		return
	}
	c := Culprit{Packet: packet.Number, Link: packet.Link, Direction: packet.Direction.String(), Sent: packet.Sent.Seconds(), Bytes: packet.Size}
	if packet.Describe != nil {
		c.Carries = packet.Describe()
	}
	text := c.String()
	out.Story = append(out.Story, strings.ToUpper(text[:1])+text[1:]+": "+outcomeText(packet.Outcome, 0)+".")
}

// number gives the packets that are lost their numbers, where that shows it too, and
// leaves out those that only happened to be lost with them.
func (s *shrinker) number(ctx context.Context, v *Variant) error {
	if len(s.now.losses) == 0 {
		return nil
	}
	type lost struct {
		Way
		link.Given
	}
	var all []lost
	if _, err := s.lab.play(ctx, *v, match.Options{Silent: true, Packet: func(p match.Packet) {
		if p.Dropped == link.Outage {
			all = append(all, lost{Way{p.Link, p.Direction}, link.Given{Number: p.Number, Dropped: link.Lost}})
		}
	}}); err != nil {
		return err
	}
	numbered := func(set []int) Variant {
		n := *v
		n.Plan = ownLinks(v.Plan)
		for _, way := range ways(n.Plan) {
			courseOf(n.Plan, way).Outages = nil
		}
		for _, i := range set {
			c := courseOf(n.Plan, all[i].Way)
			c.Given = append(slices.Clone(c.Given), all[i].Given)
		}
		return n
	}
	set := make([]int, len(all))
	for i := range set {
		set[i] = i
	}
	there, err := s.lab.shows(ctx, numbered(set), s.target)
	if err != nil || !there {
		return err
	}
	if len(all) <= mostNumbered && s.lab.Replays() < s.most {
		set, err = minimise(len(all), func(sets [][]int) (int, error) {
			return s.lab.first(ctx, len(sets), func(i int) Variant { return numbered(sets[i]) }, s.target)
		})
	}
	*v = numbered(set)
	return err
}

const mostNumbered = 16 // packets of which it is worth the matches to ask for each

// tidy leaves links out that are perfect, and shares those that are alike.
func tidy(p *plan.Plan) {
	var links []link.Pair
	for i := range p.Bots {
		b := &p.Bots[i]
		l := p.LinkOf(*b)
		if perfect(l) {
			b.Link = ""
			continue
		}
		b.Link = l.Name
		links = append(links, l)
	}
	p.Links = links
	if p.Game.Host != "" && !slices.ContainsFunc(p.Bots, func(b plan.Bot) bool { return b.Name == p.Game.Host }) {
		p.Game.Host = ""
	}
}

func perfect(l link.Pair) bool {
	still := func(c link.Course) bool {
		return c.Conditions == (link.Conditions{}) && c.Changes == nil && c.Outages == nil && c.Given == nil
	}
	return still(l.Up) && still(l.Down) && l.Moves == nil && l.Resets == nil
}

// Text is the plan as a file to keep, with its story as a comment.
func (out *Shrunk) Text(from, folder string) ([]byte, error) {
	var b strings.Builder
	line := func(format string, args ...any) {
		text := ansi.Wordwrap(fmt.Sprintf(format, args...), 94, "")
		fmt.Fprintf(&b, "# %s\n", strings.ReplaceAll(text, "\n", "\n#   "))
	}
	line("The smallest plan found that still shows: %s.", out.Signature)
	line("Shrunk from %s: %d bots, %.1f s, %d packets that were lost, late or damaged.", from, out.Before.Bots, time.Duration(out.Before.Length).Seconds(), out.Before.Outcomes)
	for _, s := range out.Story {
		line("%s", s)
	}
	switch {
	case out.Of > 1:
		line("On the wall clock; each step was played %d times, and had to show it in %d.", out.Of, out.Needed)
	case out.Of == 1:
		line("On the wall clock, where each step was played only once: it may show only now and then.")
	}
	for _, s := range out.Left {
		line("Note: %s.", s)
	}
	text, err := out.Plan.SeenFrom(folder).Brief()
	return append([]byte(b.String()), text...), err
}

// ShrunkSummary is what was reached, as zwheel shrink --json prints it.
type ShrunkSummary struct {
	Signature string   `json:"signature"`
	Plan      string   `json:"plan"` // where it was written to
	Before    Size     `json:"before"`
	After     Size     `json:"after"`
	Story     []string `json:"story"`
	Left      []string `json:"left"`
	Replays   int      `json:"replays"`
	Stopped   bool     `json:"stopped"`
}

// Summary sums up what was reached; path is where the plan was written to.
func (out *Shrunk) Summary(path string) ShrunkSummary {
	return ShrunkSummary{out.Signature, path, out.Before, out.After, out.Story, out.Left, out.Replays, out.Stopped}
}
