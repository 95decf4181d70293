package cluster

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"unicode"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/verdict/judge"
)

// What a worker stores is a stranger's word until it fits a schema: kinds and verdicts are of closed sets, names are
// one line of bounded length, lists are bounded, and nothing stands in it that is not known. Only then it gets near a
// path, a terminal or a page.
const (
	longestLine  = 1 << 10 // bytes of a name
	longestText  = 16 << 10
	longestList  = 20_000
	mostFound    = 1000
	mostOfPlayer = 1 << 10
)

// readResult reads a result of a seed, as a worker has stored it.
func readResult(text []byte, seed uint64) (*Result, error) {
	r := &Result{}
	in := json.NewDecoder(bytes.NewReader(text))
	in.DisallowUnknownFields()
	if err := in.Decode(r); err != nil {
		return nil, err
	}
	return r, r.check(seed)
}

// check reports what in a result does not fit.
func (r *Result) check(seed uint64) error {
	f := &fitting{}
	m := &r.Match
	if m.Seed != seed {
		f.wrong("its match is of seed %d", m.Seed)
	}
	if !slices.Contains(verdicts, m.Verdict) {
		f.wrong("its verdict is %.40q", m.Verdict)
	}
	f.text("error", r.Error)
	f.text("why", m.Why)
	f.found(m.Found)
	f.count("logs", len(m.Logs), mostFound)
	f.lines("logs", m.Logs...)
	f.count("players", len(m.Players), mostOfPlayer)
	for _, p := range m.Players {
		f.lines("players", p.Name, p.Link)
	}
	f.count("drawn", len(m.Drawn), mostFound)
	f.lines("drawn", m.Drawn...)
	f.count("measures", len(m.Measures), mostFound)
	for name := range m.Measures {
		if !measureName.MatchString(name) {
			f.wrong("a measure is called %.40q", name)
		}
	}
	if r.Run != nil && (!isSum(r.Run.Sum) || r.Run.Parts < 1 || r.Run.Parts > mostParts) {
		f.wrong("its run folder has no sum")
	}
	if t := r.Tried; t != nil {
		f.text("cut", t.Cut)
		f.text("inconclusive", t.Inconclusive)
		f.shown(t.Shown)
		f.shown(t.Aside)
		f.count("stays", len(t.Stays), longestList)
		for _, s := range t.Stays {
			f.lines("stays", s.View)
		}
	}
	if w := r.Witnessed; w != nil {
		f.lines("first", w.First)
		f.count("odd", len(w.Odd), mostFound)
		f.lines("odd", w.Odd...)
		f.found(w.Heads)
		f.kinds(w.Kinds...)
	}
	return f.err
}

var (
	measureName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)
	verdicts    = []string{
		"", played.Failed, string(judge.InSync), string(judge.OutOfSync), string(judge.RulesKept), string(judge.NothingCompared),
		string(judge.Inconclusive),
	}
)

// fitting keeps what does not fit first.
type fitting struct{ err error }

func (f *fitting) wrong(format string, args ...any) {
	if f.err == nil {
		f.err = fmt.Errorf(format, args...)
	}
}

func (f *fitting) count(what string, n, most int) {
	if n > most {
		f.wrong("%s: %d are too many", what, n)
	}
}

// lines are names: one line each.
func (f *fitting) lines(what string, list ...string) {
	for _, text := range list {
		if len(text) > longestLine || slices.ContainsFunc([]rune(text), unicode.IsControl) {
			f.wrong("%s: %.40q is no name of one line", what, text)
		}
	}
}

func (f *fitting) text(what, text string) {
	if len(text) > longestText {
		f.wrong("%s: it is longer than %d bytes", what, longestText)
	}
}

func (f *fitting) kinds(list ...judge.Kind) {
	f.count("kinds", len(list), mostFound)
	for _, k := range list {
		if !slices.Contains(judge.Kinds, k) {
			f.wrong("there is no kind of finding %.40q", k)
		}
	}
}

func (f *fitting) found(list []played.Found) {
	f.count("found", len(list), mostFound)
	for _, one := range list {
		f.kinds(one.Kind)
		f.lines("found", one.Signature, one.View, one.Entity)
		f.count("kin", len(one.Kin), mostFound)
		f.lines("kin", one.Kin...)
	}
}

func (f *fitting) shown(list []played.Shown) {
	f.count("shown", len(list), longestList)
	for _, one := range list {
		f.lines("shown", one.Signature, one.View, one.Entity, one.Subject)
	}
}

// errNoResult is the error of what a worker has stored that fits no schema.
var errNoResult = errors.New("it is no result")
