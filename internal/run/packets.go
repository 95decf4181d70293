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
func AppendPacket(b []byte, view string, p link.Packet) []byte {
	b = trace.AppendString(append(b, `{"link":`...), view)
	b = append(append(append(b, `,"direction":"`...), p.Direction.String()...), '"')
	b = strconv.AppendUint(append(b, `,"number":`...), p.Number, 10)
	b = trace.AppendSeconds(append(b, `,"sent":`...), p.Sent)
	b = strconv.AppendInt(append(b, `,"bytes":`...), int64(p.Size), 10)
	if p.Copies == 0 {
		b = append(append(b, `,"dropped":"`...), p.Dropped.String()...)
		return append(b, '"', '}', '\n')
	}
	if p.Flipped > 0 {
		b = strconv.AppendInt(append(b, `,"flipped":`...), int64(p.Flipped), 10)
	}
	if p.Resent > 0 {
		b = strconv.AppendInt(append(b, `,"resent":`...), int64(p.Resent), 10)
	}
	b = trace.AppendSeconds(append(b, `,"arrives":[`...), p.Arrives[0])
	if p.Copies > 1 {
		b = trace.AppendSeconds(append(b, ','), p.Arrives[1])
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
func (r *PacketReader) Next() (view string, p link.Packet, err error) {
	for {
		text, err := r.lines.ReadBytes('\n')
		if len(text) == 0 && err != nil {
			return "", p, err
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return "", p, err
		}
		r.line++
		if at, ok := SentAt(text); ok && at < r.From {
			continue
		}
		view, p, err = ParsePacket(text)
		if err == nil {
			return view, p, nil
		}
		r.Bad++
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
func ParsePacket(text []byte) (view string, p link.Packet, err error) {
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
		return "", p, err
	}
	p.Outcome = link.Outcome{Number: line.Number, Sent: seconds(line.Sent), Size: line.Bytes, Copies: len(line.Arrives), Flipped: line.Flipped, Resent: line.Resent}
	switch line.Direction {
	case link.Up.String():
		p.Direction = link.Up
	case link.Down.String():
		p.Direction = link.Down
	default:
		return "", p, fmt.Errorf("no direction %q", line.Direction)
	}
	if p.Copies > len(p.Arrives) {
		return "", p, errors.New("more than two arrivals")
	}
	for i, at := range line.Arrives {
		p.Arrives[i] = seconds(at)
	}
	if p.Copies == 0 {
		reason, ok := link.ParseReason(line.Dropped)
		if !ok || reason == link.Delivered {
			return "", p, fmt.Errorf("no reason %q", line.Dropped)
		}
		p.Dropped = reason
	}
	return line.Link, p, nil
}

func seconds(f float64) time.Duration {
	return time.Duration(math.Round(f*1e6)) * time.Microsecond
}
