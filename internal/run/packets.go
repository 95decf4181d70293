package run

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/trace"
)

// AppendPacket writes an outcome as a line:
//
//	{"link":"fern","direction":"down","number":57,"sent":2.417000,"bytes":312,"arrives":[2.503112]}
//	{"link":"fern","direction":"down","number":58,"sent":2.467000,"bytes":312,"dropped":"lost"}
func AppendPacket(b []byte, view string, d link.Direction, f link.Outcome) []byte {
	b = trace.AppendString(append(b, `{"link":`...), view)
	b = append(append(append(b, `,"direction":"`...), d.String()...), '"')
	b = strconv.AppendUint(append(b, `,"number":`...), f.Number, 10)
	b = trace.AppendSeconds(append(b, `,"sent":`...), f.Sent)
	b = strconv.AppendInt(append(b, `,"bytes":`...), int64(f.Size), 10)
	if f.Copies == 0 {
		b = append(append(b, `,"dropped":"`...), f.Dropped.String()...)
		return append(b, '"', '}', '\n')
	}
	if f.Flipped > 0 {
		b = strconv.AppendInt(append(b, `,"flipped":`...), int64(f.Flipped), 10)
	}
	if f.Resent > 0 {
		b = strconv.AppendInt(append(b, `,"resent":`...), int64(f.Resent), 10)
	}
	b = trace.AppendSeconds(append(b, `,"arrives":[`...), f.Arrives[0])
	if f.Copies > 1 {
		b = trace.AppendSeconds(append(b, ','), f.Arrives[1])
	}
	return append(b, ']', '}', '\n')
}

// PacketReader reads the outcomes of a run.
type PacketReader struct {
	lines *bufio.Reader
	line  int
	Bad   int // lines that could not be read and were skipped

	From time.Duration // packets sent before are skipped, without being understood
}

// NewPacketReader returns a reader of packet lines.
func NewPacketReader(source io.Reader) *PacketReader {
	return &PacketReader{lines: bufio.NewReaderSize(source, 256<<10)}
}

// Next returns the next outcome and the view whose link it is of. It returns io.EOF
// at the end.
func (p *PacketReader) Next() (view string, d link.Direction, f link.Outcome, err error) {
	for {
		text, err := p.lines.ReadBytes('\n')
		if len(text) == 0 && err != nil {
			return "", 0, f, err
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return "", 0, f, err
		}
		p.line++
		if at, ok := SentAt(text); ok && at < p.From {
			continue
		}
		view, d, f, err = ParsePacket(text)
		if err == nil {
			return view, d, f, nil
		}
		p.Bad++
	}
}

// Sending is who sent the packet of a line as AppendPacket writes it, in which direction,
// and when. Like SentAt it does not understand the rest of the line; of a link whose name
// is written with escapes it says no more than that it cannot tell.
func Sending(text []byte) (view []byte, d link.Direction, at time.Duration, ok bool) {
	rest, found := bytes.CutPrefix(text, []byte(`{"link":"`))
	end := bytes.IndexByte(rest, '"')
	if !found || end < 0 || bytes.IndexByte(rest[:end], '\\') >= 0 {
		return nil, 0, 0, false
	}
	view, rest = rest[:end], rest[end:]
	switch {
	case bytes.HasPrefix(rest, []byte(`","direction":"up"`)):
		d = link.Up
	case bytes.HasPrefix(rest, []byte(`","direction":"down"`)):
		d = link.Down
	default:
		return nil, 0, 0, false
	}
	at, ok = SentAt(rest)
	return view, d, at, ok
}

// SentAt is when the packet of a line as AppendPacket writes it was sent. It does not
// understand the rest of the line.
func SentAt(text []byte) (time.Duration, bool) {
	const key = `,"sent":`
	i := bytes.Index(text, []byte(key))
	if i < 0 {
		return 0, false
	}
	rest := text[i+len(key):]
	end := bytes.IndexByte(rest, ',')
	if end < 0 {
		return 0, false
	}
	at, err := strconv.ParseFloat(string(rest[:end]), 64)
	return seconds(at), err == nil
}

// ParsePacket reads a line as AppendPacket writes it.
func ParsePacket(text []byte) (view string, d link.Direction, f link.Outcome, err error) {
	var line struct {
		Link      string
		Direction string
		Number    uint64
		Sent      float64
		Bytes     int
		Arrives   []float64
		Dropped   string
		Flipped   int
		Resent    int
	}
	if err = json.Unmarshal(text, &line); err != nil {
		return "", 0, f, err
	}
	f = link.Outcome{Number: line.Number, Sent: seconds(line.Sent), Size: line.Bytes, Copies: len(line.Arrives), Flipped: line.Flipped, Resent: line.Resent}
	switch line.Direction {
	case link.Up.String():
		d = link.Up
	case link.Down.String():
		d = link.Down
	default:
		return "", 0, f, fmt.Errorf("no direction %q", line.Direction)
	}
	if f.Copies > len(f.Arrives) {
		return "", 0, f, errors.New("more than two arrivals")
	}
	for i, at := range line.Arrives {
		f.Arrives[i] = seconds(at)
	}
	if f.Copies == 0 {
		reason, ok := link.ParseReason(line.Dropped)
		if !ok || reason == link.Delivered {
			return "", 0, f, fmt.Errorf("no reason %q", line.Dropped)
		}
		f.Dropped = reason
	}
	return line.Link, d, f, nil
}

func seconds(f float64) time.Duration {
	return time.Duration(math.Round(f*1e6)) * time.Microsecond
}
