package replay

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"zitherwheel/internal/campaign/played"
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
	r, err := s.lab.play(ctx, played.Variant{Plan: p}, match.Options{Packet: func(packet match.Packet) { out.tell(p, packet) }})
	if err != nil {
		return err
	}
	f := s.target.In(r.Verdict)
	if p.Clock == plan.Wall {
		if err := s.verify(ctx, out, p); err != nil {
			return err
		}
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
	out.larger()
	if f != nil {
		out.Story = append(out.Story, fmt.Sprintf("At %.3f s it shows: %s, %s %s, as %s sees it.", time.Duration(f.BeganAt).Seconds(), f.Kind, f.Entity, f.Subject, f.View))
	}
	return nil
}

// verify plays the smallest plan as often as the recording was, to know how often it shows there.
func (s *shrinker) verify(ctx context.Context, out *Shrunk, p *plan.Plan) error {
	base := s.lab.repeats
	verified, err := s.lab.repeat(ctx, played.Variant{Plan: p}, s.target)
	s.lab.repeats = base
	if err != nil {
		return err
	}
	out.Verified = &verified
	if verified.Shown == 0 {
		out.Left = append(out.Left, fmt.Sprintf("it is not verified: none of %d matches of this plan showed it, though it did while it was made smaller", verified.Of))
	}
	return nil
}

// larger says in what a plan has become larger than what it was made of.
func (out *Shrunk) larger() {
	if out.After.Bots > out.Before.Bots {
		out.Left = append(out.Left, fmt.Sprintf("it has more bots than the recording, %d and not %d", out.After.Bots, out.Before.Bots))
	}
	if out.After.Length > out.Before.Length {
		out.Left = append(out.Left, fmt.Sprintf("it is longer than the recording, %.1f s and not %.1f s", time.Duration(out.After.Length).Seconds(), time.Duration(out.Before.Length).Seconds()))
	}
	if out.After.Inputs > out.Before.Inputs {
		out.Left = append(out.Left, fmt.Sprintf("it has more inputs than the recording, %d and not %d", out.After.Inputs, out.Before.Inputs))
	}
	if out.After.Outcomes > out.Before.Outcomes {
		out.Left = append(out.Left, fmt.Sprintf("it says of more packets how they fare than were lost, late or damaged in the recording, of %d and not %d", out.After.Outcomes, out.Before.Outcomes))
	}
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
func (s *shrinker) number(ctx context.Context, v *played.Variant) error {
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
	numbered := func(set []int) played.Variant {
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
			return s.lab.first(ctx, len(sets), func(i int) played.Variant { return numbered(sets[i]) }, s.target)
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
	if out.Repeats != nil {
		line("On the wall clock: the recording showed it in %s repeats, this plan in %s.", out.Repeats, out.Verified)
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
	Repeats   *Repeats `json:"repeats,omitempty"`  // on the wall clock: in how many repeats of the recorded match it showed
	Verified  *Repeats `json:"verified,omitempty"` // and in how many of the smallest
}

// Summary sums up what was reached; path is where the plan was written to.
func (out *Shrunk) Summary(path string) ShrunkSummary {
	return ShrunkSummary{out.Signature, path, out.Before, out.After, out.Story, out.Left, out.Replays, out.Stopped, out.Repeats, out.Verified}
}
