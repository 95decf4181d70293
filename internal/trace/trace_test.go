package trace

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// readAll reads every usable line.
func readAll(t require.TestingT, text string) (records []Record, names *Names, flaws Flaws) {
	names = NewNames()
	r := NewReader(strings.NewReader(text), names)
	for {
		var rec Record
		err := r.Next(&rec)
		if errors.Is(err, io.EOF) {
			return records, names, r.Flaws()
		}
		require.NoError(t, err)
		records = append(records, rec)
	}
}

// shown writes changes the way a person would, to compare with.
func shown(names *Names, changes []Change) string {
	var parts []string
	for _, c := range changes {
		parts = append(parts, names.EntityID(c.Entity)+"."+names.FieldName(c.Field)+"="+names.Format(c.Value))
	}
	return strings.Join(parts, " ")
}

func TestWhatALineMeans(t *testing.T) {
	for _, c := range []struct{ name, line, state string }{
		{"a number", `{"t":1,"state":{"dog/fern":{"x":-12.5}}}`, `dog/fern.x=-12.5`},
		{"spaces, as some emitters print them", `{"t": 1.5, "state": {"dog/fern": {"x": 1, "y": 2}}}`, `dog/fern.x=1 dog/fern.y=2`},
		{"many spaces", `{ "t" : 1 ,  "state" : { "dog/fern" : { "x" : 1 } } }`, `dog/fern.x=1`},
		{"keys in another order", `{"state":{"dog/fern":{"x":1}},"t":3}`, `dog/fern.x=1`},
		{"every type of value", `{"t":1,"state":{"a/b":{"n":1e3,"b":true,"c":false,"s":"run","z":null}}}`, `a/b.n=1000 a/b.b=true a/b.c=false a/b.s="run" a/b.z=null`},
		{"an entity without fields", `{"t":1,"state":{"a/b":{},"a/c":{"x":1}}}`, `a/b.=null a/c.x=1`},
		{"nobody at all", `{"t":1,"full":true,"state":{}}`, ``},
		{"escapes", `{"t":1,"state":{"dog/\"f\\n\u00e9":{"x":"a\tb"}}}`, `dog/"f\né.x="a\tb"`},
		{"names that are not ASCII", `{"t":1,"state":{"hund/bjørn":{"x":1}}}`, `hund/bjørn.x=1`},
		{"unknown keys", `{"t":1,"mood":{"deep":[1,2,{"x":3}]},"state":{"a/b":{"x":1}}}`, `a/b.x=1`},
		{"duplicate fields: both are kept in order, so the last wins", `{"t":1,"state":{"a/b":{"x":1,"x":2}}}`, `a/b.x=1 a/b.x=2`},
		{"lists and objects are compact text", `{"t":1,"state":{"a/b":{"x":[1, 2],"y":{"k": 1}}}}`, `a/b.x="[1,2]" a/b.y="{\"k\":1}"`},
		{"a negative zero is zero", `{"t":1,"state":{"a/b":{"x":-0.0}}}`, `a/b.x=0`},
		{"a 64-bit integer keeps its digits", `{"t":1,"state":{"a/b":{"id":9007199254740993,"u":18446744073709551615}}}`, `a/b.id="9007199254740993" a/b.u="18446744073709551615"`},
		{"many digits", `{"t":1,"state":{"a/b":{"x":0.1234567890123456789,"y":12345678901234567890123}}}`, `a/b.x=0.12345678901234568 a/b.y=12345678901234568000000`},
		{"bare NaN and infinities", `{"t":1,"state":{"a/b":{"x":NaN,"y":-Infinity,"z":inf,"s":"a NaN"}}}`, `a/b.x=NaN a/b.y=-Inf a/b.z=+Inf a/b.s="a NaN"`},
		{"quoted NaN", `{"t":1,"state":{"a/b":{"x":"NaN"}}}`, `a/b.x=NaN`},
	} {
		t.Run(c.name, func(t *testing.T) {
			records, names, flaws := readAll(t, c.line+"\n")
			require.Len(t, records, 1, "%+v", flaws)
			assert.Equal(t, c.state, shown(names, records[0].State))
		})
	}
}

func TestEveryKeyOfALine(t *testing.T) {
	records, names, _ := readAll(t, `{"t":2.000001,"tick":60,"despawned":["sheep/s01"],"received":{"dog/fern":{"x":1}},"predicted":{"dog/fern":{"x":2}},`+
		`"event":"bark","id":7,"entity":"dog/fern","by":"fern","to":"moss","data":{"n": 1},"input":"run","seq":9,"checkpoint":"sent","ping":0.16,"server_t":2.1,"joined":"fern","left":"moss","refused":"oak","sent":1042,"got":"0x7f","bytes":96}`+"\n")
	require.Len(t, records, 1)
	r := records[0]
	assert.Equal(t, "dog/fern.x=1", shown(names, r.Received))
	assert.Equal(t, "dog/fern.x=2", shown(names, r.Predicted))
	assert.Equal(t, []Entity{names.Entity("sheep/s01")}, r.Despawned)
	r.Received, r.Predicted, r.Despawned, r.State = nil, nil, nil, nil
	assert.Equal(t, Record{T: 2000001 * time.Microsecond, Tick: 60, HasTick: true, Event: "bark", ID: "7", Entity: "dog/fern", By: "fern", To: "moss",
		Data: `{"n":1}`, Input: "run", Seq: 9, Checkpoint: "sent", HasPing: true, Ping: 160 * time.Millisecond, ServerTime: 2100 * time.Millisecond,
		Joined: "fern", Left: "moss", Refused: "oak", Sent: "1042", Got: "0x7f", Bytes: 96}, r)
}

func TestWholeNumbersMayBePrintedAsFloats(t *testing.T) {
	records, _, flaws := readAll(t, `{"t":1,"tick":20.0}`+"\n"+`{"t":1,"tick":2.1e1}`+"\n"+`{"t":1,"tick":1e300}`+"\n")
	require.Len(t, records, 2, "%+v", flaws)
	assert.Equal(t, []int64{20, 21}, []int64{records[0].Tick, records[1].Tick})
	assert.Equal(t, 1, flaws.Malformed)
}

func TestMalformedLinesAreCountedAndNamed(t *testing.T) {
	for _, c := range []struct{ line, why string }{
		{`{"t":1,"state":{"a/b":{"x":1}}`, "not complete JSON"},
		{`{"state":{}}`, `no "t": every line needs its time in seconds`},
		{`{"t":"1.5"}`, `"t" is not a number of seconds`},
		{`{"t":1e99}`, `"t": 1e99 is not a possible time in seconds`},
		{`{"t":1,"state":[1]}`, `"state" is not an object`},
		{`{"t":1,"state":{"a/b":3}}`, `"a/b" of "state" is not an object`},
		{`{"t":1} {"t":2}`, "something follows the JSON object"},
		{`{"t":1,"whole":true,"state":{}}`, `"whole" is called "full" now`},
		{`{"t":1,"tick":1.5}`, `"tick": 1.5 is not a whole number`},
		{`{"t":1,"event":5}`, `"event" is number, not text`},
		{`{"t":1,"bytes":1.5}`, `"bytes": 1.5 is not a whole number`},
		{`{"t":01}`, "invalid character"},
	} {
		records, _, flaws := readAll(t, "{\"t\":0}\n"+c.line+"\n{\"t\":2}\n")
		require.Len(t, records, 2, c.line)
		require.Equal(t, 1, flaws.Malformed, c.line)
		assert.Equal(t, 2, flaws.First[0].Line)
		assert.Contains(t, flaws.First[0].Why, c.why, c.line)
	}
}

func TestOtherOddities(t *testing.T) {
	t.Run("log text is not a malformed line", func(t *testing.T) {
		records, _, flaws := readAll(t, "server starts\r\n\r\n{\"t\":1}\r\n[warn] slow\r\n")
		assert.Len(t, records, 1)
		assert.Equal(t, Flaws{Lines: 1, LogText: 2}, flaws)
	})
	t.Run("a torn last line is told apart from a malformed one", func(t *testing.T) {
		records, _, flaws := readAll(t, "{\"t\":1}\n{\"t\":2,\"sta")
		assert.Len(t, records, 1)
		assert.Equal(t, Flaws{Lines: 1, Torn: true}, flaws)
	})
	t.Run("a complete last line needs no end", func(t *testing.T) {
		records, _, flaws := readAll(t, "\ufeff{\"t\":1}\n{\"t\":2}")
		assert.Len(t, records, 2)
		assert.Equal(t, Flaws{Lines: 2}, flaws)
	})
	t.Run("time does not run backwards", func(t *testing.T) {
		records, _, flaws := readAll(t, "{\"t\":-5}\n{\"t\":3}\n{\"t\":1}\n{\"t\":4}\n")
		var times []time.Duration
		for _, r := range records {
			times = append(times, r.T)
		}
		assert.Equal(t, []time.Duration{-5e9, 3e9, 3e9, 4e9}, times)
		assert.Equal(t, Flaws{Lines: 4, Backward: 1, Furthest: 2 * time.Second}, flaws)
	})
	t.Run("a huge line", func(t *testing.T) {
		var b strings.Builder
		b.WriteString(`{"t":1,"full":true,"state":{`)
		for i := range 200_000 {
			fmt.Fprintf(&b, `"tree/t%d":{"x":%d},`, i, i)
		}
		b.WriteString(`"tree/last":{"x":-1}}}` + "\n")
		var r Record
		require.NoError(t, NewReader(strings.NewReader(b.String()), AnyNames()).Next(&r))
		assert.Len(t, r.State, 200_001)
		var tooMany *TooManyError
		require.ErrorAs(t, NewReader(strings.NewReader(b.String()), NewNames()).Next(&r), &tooMany)
		assert.ErrorContains(t, tooMany, "more than 100000 entities are named")
	})
	t.Run("a line that is too long is skipped", func(t *testing.T) {
		for _, length := range []int{1010, 700_000} { // within the first buffer, and beyond it
			r, rec, lines := NewReader(strings.NewReader("{\"t\":1}\n{\"t\":2,\"mark\":\""+strings.Repeat("x", length)+"\"}\n{\"t\":3}\n"), NewNames()), Record{}, 0
			for r.limit = 1000; r.Next(&rec) == nil; lines++ {
			}
			assert.Equal(t, 2, lines)
			assert.Equal(t, []BadLine{{2, "longer than 1000 bytes"}}, r.Flaws().First)
		}
	})
}

func anyChanges(t *rapid.T, names *Names, label string) []Change {
	var list []Change
	for _, id := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"dog/fern", "sheep/s01", "odd/\"q\u2028ü", "a"}), 0, 4, rapid.ID[string]).Draw(t, label) {
		for _, field := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"x", "y", "gait", "né"}), 1, 4, rapid.ID[string]).Draw(t, "fields") {
			v := rapid.OneOf(
				rapid.Map(rapid.Float64(), Number), rapid.Map(rapid.Float64Range(-100, 100), Number), rapid.Map(rapid.Bool(), Bool),
				rapid.Map(rapid.String(), names.Text), rapid.Just(Value{})).Draw(t, "value")
			list = append(list, Change{names.Entity(id), names.Field(field), v})
		}
	}
	return list
}

// What is judged live is exactly what is read back later.
func TestARoundedRecordIsReadBackAsItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := NewNames()
		seconds := rapid.Int64Range(0, 2e15).Draw(t, "t")
		rec := Record{T: time.Duration(seconds), State: anyChanges(t, names, "state"), Predicted: anyChanges(t, names, "predicted"),
			Full: rapid.Bool().Draw(t, "whole"), Event: rapid.StringMatching(`[a-z]*`).Draw(t, "event"), Joined: rapid.String().Draw(t, "joined")}
		rec.Round()
		var file bytes.Buffer
		w := NewWriter(&file, names)
		require.NoError(t, w.Write(&rec))
		require.NoError(t, w.Flush())

		var got Record
		r := NewReader(&file, names)
		require.NoError(t, r.Next(&got))
		require.Equal(t, len(rec.State), len(got.State))
		for i, want := range rec.State {
			require.Equal(t, want, got.State[i], "%s", names.Format(want.Value))
		}
		require.Equal(t, rec.T, got.T)
		require.Equal(t, len(rec.Predicted), len(got.Predicted))
		require.Equal(t, rec.Event, got.Event)
		require.Equal(t, strings.ToValidUTF8(rec.Joined, "\ufffd"), got.Joined)
	})
}

func FuzzScannerAgreesWithStrictParser(f *testing.F) {
	f.Add(`{"t":1.5,"tick":3,"full":true,"state":{"dog/fern":{"x":-1.25,"gait":"run","b":true,"n":null},"sheep/s1":{}}}`)
	f.Add(`{"t":1,"state":{"a":{"x":123456789012345678901234567890,"y":1e400}}}`)
	f.Fuzz(func(t *testing.T, line string) {
		names, fast, slow := NewNames(), Record{}, Record{}
		r := NewReader(nil, names)
		if !r.scan([]byte(line), &fast) {
			return
		}
		if err := parseStrict([]byte(line), &slow, names); err != nil {
			t.Fatalf("the scanner takes %q, the strict parser says: %v", line, err)
		}
		if shown(names, fast.State) != shown(names, slow.State) || (fast.T-slow.T).Abs() > time.Microsecond || fast.Tick != slow.Tick {
			t.Fatalf("%q:\nscanner %v %s\nstrict  %v %s", line, fast.T, shown(names, fast.State), slow.T, shown(names, slow.State))
		}
	})
}

func TestOpenTellsPackedFilesByTheirContent(t *testing.T) {
	dir, text := t.TempDir(), strings.Repeat("{\"t\":1}\n", 1000)
	plain := filepath.Join(dir, "plain.jsonl")
	require.NoError(t, os.WriteFile(plain, []byte(text), 0o600))
	gz := filepath.Join(dir, "odd-name")
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write([]byte(text))
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(gz, zipped.Bytes(), 0o600))
	toPack := filepath.Join(dir, "view.jsonl")
	require.NoError(t, os.WriteFile(toPack, []byte(text), 0o600))
	packed, err := Pack(toPack)
	require.NoError(t, err)
	assert.Equal(t, toPack+".zst", packed)
	assert.NoFileExists(t, toPack)
	for _, path := range []string{plain, gz, packed} {
		file, err := Open(path)
		require.NoError(t, err)
		got, err := io.ReadAll(file)
		require.NoError(t, err)
		require.NoError(t, file.Close())
		assert.Equal(t, text, string(got), path)
	}
	require.NoError(t, os.WriteFile(gz, zipped.Bytes()[:20], 0o600))
	file, err := Open(gz)
	require.NoError(t, err)
	_, err = io.ReadAll(file)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

// match is what the benchmarks write and read: pictures of 28 moving things.
func match(names *Names, lines int) []Record {
	records := make([]Record, lines)
	for i := range records {
		r := &records[i]
		r.T = time.Duration(i) * 50 * time.Millisecond
		for e := range 28 {
			entity := names.Entity(fmt.Sprintf("sheep/s%02d", e))
			for f, field := range []string{"x", "y", "heading"} {
				r.State = append(r.State, Change{entity, names.Field(field), Number(60 * math.Sin(float64(i*(f+1)+e*7)/40))})
			}
		}
		r.Round()
	}
	return records
}

func text(names *Names, records []Record) []byte {
	var file bytes.Buffer
	w := NewWriter(&file, names)
	for i := range records {
		_ = w.Write(&records[i])
	}
	_ = w.Flush()
	return file.Bytes()
}

type jsonLine struct {
	T     float64                       `json:"t"`
	State map[string]map[string]float64 `json:"state"`
}

func BenchmarkRead(b *testing.B) {
	names := NewNames()
	data := text(names, match(names, 500))
	b.Run("reader", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		for b.Loop() {
			r, rec := NewReader(bytes.NewReader(data), names), Record{}
			for r.Next(&rec) == nil {
			}
		}
	})
	b.Run("encoding-json", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		for b.Loop() {
			for line := range bytes.Lines(data) {
				var rec jsonLine
				if err := json.Unmarshal(line, &rec); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}

func BenchmarkWrite(b *testing.B) {
	names := NewNames()
	records := match(names, 500)
	size := int64(len(text(names, records)))
	b.Run("writer", func(b *testing.B) {
		b.SetBytes(size)
		w := NewWriter(io.Discard, names)
		for b.Loop() {
			for i := range records {
				_ = w.Write(&records[i])
			}
		}
	})
	b.Run("encoding-json", func(b *testing.B) {
		lines := make([]jsonLine, len(records))
		for i, r := range records {
			lines[i] = jsonLine{r.T.Seconds(), map[string]map[string]float64{}}
			for _, c := range r.State {
				id := names.EntityID(c.Entity)
				if lines[i].State[id] == nil {
					lines[i].State[id] = map[string]float64{}
				}
				lines[i].State[id][names.FieldName(c.Field)] = c.Value.Float()
			}
		}
		b.SetBytes(size)
		enc := json.NewEncoder(io.Discard)
		for b.Loop() {
			for i := range lines {
				_ = enc.Encode(&lines[i])
			}
		}
	})
}
