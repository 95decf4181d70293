package judge

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/trace"
	"zitherwheel/internal/verdict/rulebook"
)

// tally asks whether events and checkpoints come as often as they must: in all, of each player, in
// each view. Agreement alone would pass a match in which nothing happens, or everything twice on
// both sides.
type tally struct {
	match *Judge
	rules []*counted // those that ask how often
}

// counted is how often what one rule is about was told.
type counted struct {
	rule *rulebook.EventRule
	told int            // by the reference
	by   map[string]int // likewise, of each player
	seen []seen         // by view number
}

// seen is how often a view told of it.
type seen struct {
	all int
	by  map[string]int
}

// CountReport is how often what a rule counts was told: by the reference and in each view, of each
// player.
type CountReport struct {
	Of      string        `json:"of"` // the rule's pattern
	Told    int           `json:"told"`
	Senders []SenderCount `json:"senders,omitempty"`
	Views   []ViewCount   `json:"views,omitempty"`
}

// SenderCount is what the reference told of one player.
type SenderCount struct {
	By   string `json:"by"`
	Told int    `json:"told"`
}

// ViewCount is what one view told: in all, and of each player in the order of the senders.
type ViewCount struct {
	View string `json:"view"`
	Told int    `json:"told"`
	Of   []int  `json:"of,omitempty"`
}

func newTally(j *Judge) *tally {
	t := &tally{match: j}
	for i := range j.config.Rules.Events {
		if rule := &j.config.Rules.Events[i]; rule.Counts() {
			t.rules = append(t.rules, &counted{rule: rule, by: map[string]int{}, seen: make([]seen, len(j.config.Views))})
		}
	}
	return t
}

func (t *tally) take(v *view, r *trace.Record) {
	if len(t.rules) == 0 {
		return
	}
	rules := t.match.config.Rules.Events
	for _, rule := range []*rulebook.EventRule{rulebook.FindEvent(rules, r.Event), rulebook.FindCheckpoint(rules, r.OwnCheckpoint())} {
		i := slices.IndexFunc(t.rules, func(c *counted) bool { return c.rule == rule })
		switch {
		case i < 0:
		case v.number == 0:
			t.rules[i].told++
			t.rules[i].by[r.By]++
		default:
			s := &t.rules[i].seen[v.number]
			if s.by == nil {
				s.by = map[string]int{}
			}
			s.all++
			s.by[r.By]++
		}
	}
}

func (t *tally) come(time.Duration) {}

// end looks whether everything was told as often as it must.
func (t *tally) end(at time.Duration) {
	for _, c := range t.rules {
		about := Subject{AboutEvent, c.rule.Label()}
		if c.rule.Checkpoint != "" {
			about.About = AboutCheckpoint
		}
		t.match.often(about, c.rule.Told, c.told, "was told", "was never told", at)
		server := t.match.views[0]
		t.breaches(about, server, "was told", c.rule.PerSender, t.players(), func(p string) int { return c.by[p] }, at)
		for _, v := range t.match.views[1:] {
			if !v.everJoined {
				continue
			}
			t.breaches(about, v, "came", c.rule.PerPlayer, []string{""}, func(string) int { return c.seen[v.number].all }, at)
			t.breaches(about, v, "came", c.rule.PerPair, t.players(), func(p string) int { return c.seen[v.number].by[p] }, at)
		}
	}
}

// players are all that were ever in the match.
func (t *tally) players() (list []string) {
	for _, v := range t.match.views[1:] {
		if v.everJoined {
			list = append(list, v.name)
		}
	}
	slices.Sort(list)
	return list
}

// breaches makes one finding of all players of whom a view told too often or too seldom.
func (t *tally) breaches(about Subject, v *view, did string, must rulebook.Often, players []string, times func(player string) int, at time.Duration) {
	var wrong []string
	breach := ""
	for _, p := range players {
		how := must.Breach(times(p))
		if how == "" {
			continue
		}
		breach = cmp.Or(breach, how)
		if p != "" {
			p = " by " + p
		}
		wrong = append(wrong, fmt.Sprintf("%s%s", repeated(times(strings.TrimPrefix(p, " by "))), p))
	}
	if len(wrong) == 0 {
		return
	}
	if len(players) > 1 {
		breach = strings.TrimSuffix(breach, ")") + " of each)"
	}
	t.match.counting(about, v, fmt.Sprintf("%s %s %s in %s%s", about.Name, did, strings.Join(wrong, ", "), v.name, breach), at)
}

// reports are what was counted, for rules that ask it of each player or view.
func (t *tally) reports() (list []CountReport) {
	for _, c := range t.rules {
		r := CountReport{Of: c.rule.Label(), Told: c.told}
		if !c.rule.PerSender.Asks() && !c.rule.PerPlayer.Asks() && !c.rule.PerPair.Asks() {
			continue
		}
		if c.rule.PerSender.Asks() || c.rule.PerPair.Asks() {
			for _, p := range t.players() {
				r.Senders = append(r.Senders, SenderCount{p, c.by[p]})
			}
		}
		for _, v := range t.match.views[1:] {
			if !v.everJoined {
				continue
			}
			told := ViewCount{View: v.name, Told: c.seen[v.number].all}
			for _, s := range r.Senders {
				told.Of = append(told.Of, c.seen[v.number].by[s.By])
			}
			r.Views = append(r.Views, told)
		}
		list = append(list, r)
	}
	return list
}

// often makes a finding of what happened too often or too seldom: did and never say what it did.
func (j *Judge) often(about Subject, must rulebook.Often, times int, did, never string, end time.Duration) {
	breach := must.Breach(times)
	if breach == "" {
		return
	}
	how := never
	if times > 0 {
		how = did + " " + repeated(times)
	}
	j.counting(about, j.views[0], about.Name+" "+how+" in the match"+breach, end)
}

// counting makes a finding of what was counted over the whole match.
func (j *Judge) counting(about Subject, v *view, why string, end time.Duration) {
	j.add(&Finding{Kind: Count, View: v.name, Subject: about, BeganAt: Seconds(j.first), EndedAt: Seconds(end), Open: true,
		Ended: "counted over the whole match", Why: why, Evidence: Evidence{Values: []ValueRow{}}})
}

func repeated(times int) string {
	if times == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", times)
}
