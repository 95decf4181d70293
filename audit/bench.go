package audit

import (
	"bytes"
	"encoding/json"

	"zitherwheel/judge"
	"zitherwheel/link"
	"zitherwheel/measure"
	"zitherwheel/trace"
	"zitherwheel/watch"
)

// Bench hears a match, live or from files: the judge, and beside it the one who
// measures. See [NewBench].
type Bench struct {
	judge    *judge.Judge
	measures *measure.Collector
	rules    watch.Rules
}

// NewBench returns a bench for the views of a match, the reference first. fates
// says whether the fates of all packets will be told.
func NewBench(names *trace.Names, views []string, rules watch.Rules, fates bool) *Bench {
	return &Bench{
		judge:    judge.New(judge.Config{Names: names, Rules: rules, Views: views, Fates: fates}),
		measures: measure.New(names, views, rules),
		rules:    rules,
	}
}

// Record takes in a record of a view, by its place among the views.
func (b *Bench) Record(view int, r *trace.Record) {
	b.judge.Record(view, r)
	b.measures.Record(view, r)
}

// Packet takes in the fate of a packet on the link of a view.
func (b *Bench) Packet(view int, d link.Direction, f link.Fate) {
	b.judge.Packet(view, d, f)
	b.measures.Packet(view, d, f)
}

// Finish ends the match. Limits that were broken are findings.
func (b *Bench) Finish() (*judge.Verdict, *measure.Measures) {
	var m *measure.Measures
	v := b.judge.FinishWith(func() []measure.Excess {
		m = b.measures.Finish(b.judge.Age)
		return m.Exceeded(b.rules.Limits)
	})
	return v, m
}

// EncodeVerdict writes a verdict as findings.json has it.
func EncodeVerdict(v *judge.Verdict) ([]byte, error) {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	err := encoder.Encode(v)
	return text.Bytes(), err
}
