package link

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Unit is how the value of a [Word] is written.
type Unit uint8

const (
	Plain Unit = iota // a span like 80ms, a number, true or false, or a word, as its type is
	Share             // a part of a whole: 3% or 0.03
	Rate              // bits a second: 2Mbit/s, or a number
	Size              // bytes: 64KiB, or a number
)

// Word is one thing that can be said of a quality, by the name that plans, flags and
// commands have for it.
type Word struct {
	Name string
	Unit Unit
	into any // *time.Duration, *float64, *int, *bool or *Spread
}

// Words are all that can be said of a quality, each with its place in it.
func (q *Conditions) Words() []Word {
	return []Word{
		{"latency", Plain, &q.Latency},
		{"jitter", Plain, &q.Jitter},
		{"spread", Plain, &q.Spread},
		{"sticky", Plain, &q.Sticky},
		{"reorder", Plain, &q.Reorder},
		{"loss", Share, &q.Loss},
		{"burst", Plain, &q.Burst},
		{"burst-time", Plain, &q.BurstTime},
		{"duplicate", Share, &q.Duplicate},
		{"corrupt", Share, &q.Corrupt},
		{"straggle", Share, &q.Straggle},
		{"straggle-by", Plain, &q.StraggleBy},
		{"rate", Rate, &q.Rate},
		{"queue", Size, &q.Queue},
		{"mtu", Size, &q.MTU},
	}
}

// WordNames are the names of all words.
func WordNames() (names []string) {
	for _, w := range (&Conditions{}).Words() {
		names = append(names, w.Name)
	}
	return names
}

// Set changes one value, as a plan would say it. A value that does not go with the others
// changes nothing.
func (q *Conditions) Set(name, value string) error {
	changed := *q
	words := changed.Words()
	i := slices.IndexFunc(words, func(w Word) bool { return w.Name == name })
	if i < 0 {
		return fmt.Errorf("a link has no %q; it has %s", name, strings.Join(WordNames(), ", "))
	}
	if err := words[i].Set(value); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if err := changed.Validate(); err != nil {
		return err
	}
	*q = changed
	return nil
}

// Set reads a value. Its error does not name the word.
func (w Word) Set(text string) (err error) {
	switch into := w.into.(type) {
	case *time.Duration:
		*into, err = parseSpan(text)
	case *Spread:
		*into, err = parseSpread(text)
	case *bool:
		if *into = text == "true"; text != "true" && text != "false" {
			err = fmt.Errorf("%q is neither true nor false", text)
		}
	case *int:
		*into, err = parseSize(text)
	case *float64:
		switch w.Unit {
		case Share:
			*into, err = parseShare(text)
		case Rate:
			*into, err = parseRate(text)
		default:
			*into, err = parseNumber(text)
		}
	}
	return err
}

// Value is the value as plans write it: text or a number, or nil if it is the usual one.
func (w Word) Value() any {
	switch v := w.into.(type) {
	case *time.Duration:
		if *v != 0 {
			return v.String()
		}
	case *Spread:
		if *v != Normal {
			return v.String()
		}
	case *bool:
		if *v {
			return true
		}
	case *int:
		if *v != 0 {
			return *v
		}
	case *float64:
		if *v != 0 {
			return *v
		}
	}
	return nil
}

// Off is how a plan says that there is none of it.
func (w Word) Off() any {
	switch w.into.(type) {
	case *time.Duration:
		return "0s"
	case *Spread:
		return Normal.String()
	case *bool:
		return false
	}
	return 0
}

// Text says what is not usual about a quality, like "latency 80ms, loss 3%".
func (q Conditions) Text() string {
	var parts []string
	for _, w := range q.Words() {
		v := w.Value()
		switch {
		case v == nil:
			continue
		case w.Unit == Share:
			v = fmt.Sprintf("%.4g%%", 100*v.(float64))
		case w.Unit == Rate:
			v = fmt.Sprintf("%.4g Mbit/s", v.(float64)/1e6)
		}
		parts = append(parts, fmt.Sprintf("%s %v", w.Name, v))
	}
	if parts == nil {
		return "perfect"
	}
	return strings.Join(parts, ", ")
}

func parseSpan(text string) (time.Duration, error) {
	v, err := time.ParseDuration(text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time span; write a number and its unit, like 80ms, 1.5s or 2m", text)
	}
	if v < 0 {
		return 0, fmt.Errorf("%q is negative; write 0s or more", text)
	}
	return v, nil
}

func parseNumber(text string) (float64, error) {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return v, nil
}

// ParseShare reads a part of a whole: 3% or 0.03.
func parseShare(text string) (float64, error) {
	digits, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(digits), 64)
	if percent {
		v /= 100
	}
	if err != nil || !(v >= 0 && v <= 1) {
		return 0, fmt.Errorf("%q is not a share; write 3%% or 0.03", text)
	}
	return v, nil
}

// ParseRate reads bits a second: 2Mbit/s, 256kbit/s, or a number.
func parseRate(text string) (float64, error) {
	v, ok := withUnit(text, "/s", bitUnits)
	if !ok {
		return 0, fmt.Errorf("%q is no number of bits a second; write it like 2Mbit/s or 256kbit/s", text)
	}
	return v, nil
}

// ParseSize reads a number of bytes: 64kB, 64KiB, or a number.
func parseSize(text string) (int, error) {
	v, ok := withUnit(text, "", byteUnits)
	if !ok {
		return 0, fmt.Errorf("%q is no number of bytes; write it like 1200 or 64KiB", text)
	}
	return int(v), nil
}

type sizeUnit struct {
	name   string
	factor float64
}

var (
	bitUnits  = []sizeUnit{{"Gbit", 1e9}, {"Mbit", 1e6}, {"kbit", 1e3}, {"bit", 1}, {"", 1}}
	byteUnits = []sizeUnit{{"MiB", 1 << 20}, {"KiB", 1 << 10}, {"MB", 1e6}, {"kB", 1e3}, {"B", 1}, {"", 1}}
)

func withUnit(text, per string, units []sizeUnit) (float64, bool) {
	digits := strings.TrimSuffix(strings.TrimSpace(text), per)
	for _, u := range units {
		if number, ok := strings.CutSuffix(digits, u.name); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
			return v * u.factor, err == nil && v >= 0 && v*u.factor <= 1e12
		}
	}
	return 0, false
}
