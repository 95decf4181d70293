package logs

import (
	"cmp"
	"regexp"
	"slices"
	"time"

	"zitherwheel/internal/verdict/judge"
	"zitherwheel/internal/verdict/rulebook"
)

// Query is what is looked for in logs. The zero value finds every line.
type Query struct {
	Pattern  *regexp.Regexp // or nil; its first group tells lines apart
	In       string         // rulebook.Server, rulebook.Clients or a view's name; "" is every program
	From, To time.Duration  // To: 0 means the end
	Value    string         // only lines in which the group finds this, or which hold it as a word where the pattern has no group
}

// Found is what a query finds.
type Found struct {
	Programs []Program       `json:"programs"`
	Values   []Value         `json:"values,omitempty"` // what the pattern's group finds, in order of first mention
	Lines    []judge.LogLine `json:"lines"`            // by time, the first MostLines
	Left     int             `json:"lines_left"`       // more lines
}

// Program is what one program logged.
type Program struct {
	Program string        `json:"program"`
	Lines   int           `json:"lines"` // in all
	Fit     int           `json:"fit"`
	First   judge.Seconds `json:"first_s"` // of those that fit
	Last    judge.Seconds `json:"last_s"`
	Most    int           `json:"most_per_second"`
	second  int64
	now     int
}

// Value is how often the group of a pattern finds a text, by program in the order of the programs.
type Value struct {
	Value string        `json:"value"`
	First judge.Seconds `json:"first_s"`
	Last  judge.Seconds `json:"last_s"`
	Count []int         `json:"count"`
}

// Bounds of what is kept.
const (
	MostLines  = 10_000
	MostValues = 10_000
)

// Search takes in lines and finds what a query asks for. See [NewSearch].
type Search struct {
	query Query
	found Found
	value map[string]int // place among the values
}

// NewSearch returns a search in the logs of some programs.
func NewSearch(q Query, programs []string) *Search {
	s := &Search{query: q, value: map[string]int{}, found: Found{Lines: []judge.LogLine{}}}
	for _, p := range programs {
		if (rulebook.LogRule{In: q.In}).Covers(p) {
			s.found.Programs = append(s.found.Programs, Program{Program: p, second: -1})
		}
	}
	return s
}

// Line takes in a line of a program. Those of one program must come in order.
func (s *Search) Line(program string, at time.Duration, text string) {
	number := slices.IndexFunc(s.found.Programs, func(p Program) bool { return p.Program == program })
	if number < 0 {
		return
	}
	p := &s.found.Programs[number]
	p.Lines++
	if at < s.query.From || s.query.To > 0 && at > s.query.To {
		return
	}
	value, grouped, fits := s.fit(text[:min(len(text), longest)])
	if !fits {
		return
	}
	if p.Fit++; p.Fit == 1 {
		p.First = judge.Seconds(at)
	}
	p.Last = judge.Seconds(at)
	if second := int64(at / time.Second); second != p.second {
		p.second, p.now = second, 0
	}
	p.now++
	p.Most = max(p.Most, p.now)
	if grouped {
		s.count(value, number, at)
	}
	s.found.Lines = append(s.found.Lines, judge.LogLine{At: judge.Seconds(at), Program: program, Text: cut(text, kept)})
	if len(s.found.Lines) > 2*MostLines { // those of the next program may be earlier
		s.first()
	}
}

// fit reports whether a line is looked for, and what the pattern's group finds in it.
func (s *Search) fit(text string) (value string, grouped, fits bool) {
	q := &s.query
	if q.Pattern == nil {
		return "", false, q.Value == "" || word(text, q.Value)
	}
	found := q.Pattern.FindStringSubmatch(text)
	switch {
	case found == nil:
		return "", false, false
	case len(found) == 1:
		return "", false, q.Value == "" || word(text, q.Value)
	}
	return found[1], true, q.Value == "" || found[1] == q.Value
}

// word reports whether a text holds a word.
func word(text, word string) bool {
	return regexp.MustCompile(`(^|\W)` + regexp.QuoteMeta(word) + `($|\W)`).MatchString(text)
}

func (s *Search) count(value string, program int, at time.Duration) {
	i, known := s.value[value]
	if !known {
		if len(s.found.Values) >= MostValues {
			return
		}
		i = len(s.found.Values)
		s.value[value] = i
		s.found.Values = append(s.found.Values, Value{Value: value, First: judge.Seconds(at), Last: judge.Seconds(at), Count: make([]int, len(s.found.Programs))})
	}
	v := &s.found.Values[i]
	v.First, v.Last = min(v.First, judge.Seconds(at)), max(v.Last, judge.Seconds(at))
	v.Count[program]++
}

// first keeps the first lines by time.
func (s *Search) first() {
	slices.SortStableFunc(s.found.Lines, func(a, b judge.LogLine) int { return cmp.Compare(a.At, b.At) })
	if more := len(s.found.Lines) - MostLines; more > 0 {
		s.found.Left += more
		s.found.Lines = s.found.Lines[:MostLines]
	}
}

// Found is what was found.
func (s *Search) Found() *Found {
	s.first()
	slices.SortStableFunc(s.found.Values, func(a, b Value) int { return cmp.Or(cmp.Compare(a.First, b.First), cmp.Compare(a.Value, b.Value)) })
	return &s.found
}
