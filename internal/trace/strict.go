package trace

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"time"
)

// parseStrict reads any well-formed trace line. It is many times slower than
// the scanner and defines what a line means: keys in any order, the last of
// duplicate keys wins, unknown keys are skipped.
func parseStrict(line []byte, rec *Record, names *Names) error {
	if !json.Valid(line) {
		line = quoteNonNumbers(line)
	}
	p := strict{json.NewDecoder(bytes.NewReader(line)), names}
	p.UseNumber()
	if err := p.record(rec); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return errors.New("not complete JSON")
		}
		return err
	}
	if _, err := p.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows the JSON object")
	}
	return nil
}

type strict struct {
	*json.Decoder
	names *Names
}

func (p strict) record(rec *Record) error {
	timed := false
	err := p.object("the line", func(key string) error {
		switch key {
		case "t":
			timed = true
			return p.seconds(key, &rec.T)
		case "tick":
			rec.HasTick = true
			return p.whole(key, &rec.Tick)
		case "full":
			return p.decode(key, `true or false (the entities are in "state")`, &rec.Full)
		case "state":
			return p.state(key, &rec.State)
		case "received":
			return p.state(key, &rec.Received)
		case "predicted":
			return p.state(key, &rec.Predicted)
		case "despawned":
			var list []string
			err := p.decode(key, "a list of entities", &list)
			for _, id := range list {
				rec.Despawned = append(rec.Despawned, p.names.Entity(id))
			}
			return err
		case "event":
			return p.decode(key, "text", &rec.Event)
		case "id":
			return p.name(key, &rec.ID)
		case "sent":
			return p.name(key, &rec.Sent)
		case "got":
			return p.name(key, &rec.Got)
		case "bytes":
			return p.whole(key, &rec.Bytes)
		case "entity":
			return p.decode(key, "text", &rec.Entity)
		case "by":
			return p.decode(key, "text", &rec.By)
		case "to":
			return p.decode(key, "text", &rec.To)
		case "data":
			var raw json.RawMessage
			if err := p.decode(key, "JSON", &raw); err != nil {
				return err
			}
			var compact bytes.Buffer
			err := json.Compact(&compact, raw)
			rec.Data = compact.String()
			return err
		case "input":
			return p.name(key, &rec.Input)
		case "seq":
			var seq int64
			err := p.whole(key, &seq)
			rec.Seq = uint64(seq)
			return err
		case "checkpoint":
			return p.decode(key, "text", &rec.Checkpoint)
		case "ping":
			rec.HasPing = true
			return p.seconds(key, &rec.Ping)
		case "server_t":
			return p.seconds(key, &rec.ServerTime)
		case "joined":
			return p.decode(key, "text", &rec.Joined)
		case "left":
			return p.decode(key, "text", &rec.Left)
		case "refused":
			return p.decode(key, "text", &rec.Refused)
		case "view":
			return p.decode(key, "text", &rec.View)
		}
		if now := renamed[key]; now != "" {
			return fmt.Errorf("%q is called %q now", key, now)
		}
		var skipped json.RawMessage
		return p.Decode(&skipped)
	})
	if err == nil && !timed {
		return errors.New(`no "t": every line needs its time in seconds`)
	}
	return err
}

// renamed are members that were called otherwise once. Read as unknown ones they would be
// left out without a word.
var renamed = map[string]string{"whole": "full", "gone": "despawned", "mark": "checkpoint"}

// object reads an object and calls member for the value of each of its keys.
func (p strict) object(what string, member func(key string) error) error {
	open, err := p.Token()
	if err != nil {
		return err
	}
	if open != json.Delim('{') {
		return fmt.Errorf("%s is not an object", what)
	}
	for p.More() {
		key, err := p.Token()
		if err != nil {
			return err
		}
		if err := member(key.(string)); err != nil {
			return err
		}
	}
	_, err = p.Token()
	return err
}

func (p strict) state(key string, list *[]Change) error {
	return p.object(strconv.Quote(key), func(id string) error {
		entity := p.names.Entity(id)
		before := len(*list)
		err := p.object(fmt.Sprintf("%q of %q", id, key), func(field string) error {
			var raw json.RawMessage
			if err := p.Decode(&raw); err != nil {
				return err
			}
			v, err := p.value(raw)
			if err != nil {
				return fmt.Errorf("%s.%s: %w", id, field, err)
			}
			*list = append(*list, Change{entity, p.names.Field(field), v})
			return nil
		})
		if len(*list) == before {
			*list = append(*list, Change{Entity: entity})
		}
		return err
	})
}

// value turns JSON into a value. Lists and objects are compared as the text of
// their compact JSON.
func (p strict) value(raw json.RawMessage) (Value, error) {
	switch raw[0] {
	case 'n':
		return Value{}, nil
	case 't', 'f':
		return Bool(raw[0] == 't'), nil
	case '"':
		var s string
		if err := json.Unmarshal(raw, &s); err != nil {
			return Value{}, err
		}
		return textOrNonNumber(p.names, s), nil
	case '[', '{':
		var compact bytes.Buffer
		if err := json.Compact(&compact, raw); err != nil {
			return Value{}, err
		}
		return p.names.Text(compact.String()), nil
	}
	v, ok := numberOrText(string(raw), p.names)
	if !ok {
		return v, fmt.Errorf("%s is not a number", raw)
	}
	return v, nil
}

func (p strict) decode(key, want string, into any) error {
	err := p.Decode(into)
	var wrongType *json.UnmarshalTypeError
	if errors.As(err, &wrongType) {
		return fmt.Errorf("%q is %s, not %s", key, wrongType.Value, want)
	}
	return err
}

// name decodes what something goes by, which may be a number.
func (p strict) name(key string, into *string) error {
	var name any
	err := p.decode(key, "text or a number", &name)
	*into = fmt.Sprint(name)
	return err
}

func (p strict) seconds(key string, into *time.Duration) error {
	number, err := p.number(key, "a number of seconds")
	if err != nil {
		return err
	}
	seconds, err := number.Float64()
	if err != nil || !(math.Abs(seconds) < math.MaxInt64/1e9) {
		return fmt.Errorf("%q: %s is not a possible time in seconds", key, number)
	}
	// Whole seconds and the rest apart, so that a large time keeps its nanoseconds.
	whole, rest := math.Modf(seconds)
	*into = time.Duration(whole)*time.Second + time.Duration(math.Round(rest*1e9))
	return nil
}

func (p strict) whole(key string, into *int64) error {
	number, err := p.number(key, "a whole number")
	if err != nil {
		return err
	}
	if n, err := number.Int64(); err == nil {
		*into = n
		return nil
	}
	// In some languages every number is a float, and printed like one.
	f, err := number.Float64()
	if err != nil || f != math.Trunc(f) || math.Abs(f) > 1<<53 {
		return fmt.Errorf("%q: %s is not a whole number", key, number)
	}
	*into = int64(f)
	return nil
}

// number decodes a number; a text that looks like one, which json.Number would
// take, is not one.
func (p strict) number(key, want string) (json.Number, error) {
	var v any
	if err := p.Decode(&v); err != nil {
		return "", err
	}
	number, ok := v.(json.Number)
	if !ok {
		return "", fmt.Errorf("%q is not %s", key, want)
	}
	return number, nil
}

var nonNumbers = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|-?\b(?:NaN|nan|Infinity|inf)\b`)

// quoteNonNumbers puts the bare words that many languages print for NaN and the
// infinities into quotes.
func quoteNonNumbers(line []byte) []byte {
	return nonNumbers.ReplaceAllFunc(line, func(word []byte) []byte {
		switch string(word) {
		case "NaN", "nan", "-nan", "-NaN":
			return []byte(`"NaN"`)
		case "Infinity", "inf":
			return []byte(`"Infinity"`)
		case "-Infinity", "-inf":
			return []byte(`"-Infinity"`)
		}
		return word
	})
}
