package run

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zitherwheel/internal/network/link"
	"zitherwheel/internal/run/ending"
	"zitherwheel/internal/trace"
	"zitherwheel/internal/version"
)

func begin(t *testing.T) (*Folder, string) {
	dir := filepath.Join(t.TempDir(), "runs", "one")
	f, err := Create(dir, About{Title: "one", Seed: 7, Clock: "virtual", Length: 2, Views: []string{"server", "fern"}}, []byte("title: one\n"), trace.NewNames())
	require.NoError(t, err)
	return f, dir
}

func TestAFolderIsCompleteWhenItIsFinished(t *testing.T) {
	f, dir := begin(t)
	require.NoError(t, f.Record(1, &trace.Record{T: time.Second, Checkpoint: "here"}))
	require.NoError(t, f.Log(0, time.Second, "two\nlines"))
	require.NoError(t, f.Packet(1, link.Packet{Direction: link.Up, Outcome: link.Outcome{Number: 1, Size: 9, Copies: 1}}))
	require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, []byte("{}\n"), map[string]int{"n": 1}))
	assert.Equal(t, dir, f.Path())
	for _, name := range []string{"about.json", "plan.yaml", "findings.json", "measures.json", "packets.jsonl.zst", "views/server.jsonl.zst", "views/fern.jsonl.zst", "logs/server.log", "logs/fern.log"} {
		assert.FileExists(t, filepath.Join(dir, name))
	}
	left, err := filepath.Glob(filepath.Join(dir, "*.tmp"))
	require.NoError(t, err)
	assert.Empty(t, left)
	log, err := os.ReadFile(filepath.Join(dir, "logs", "server.log"))
	require.NoError(t, err)
	assert.Equal(t, "1.000000 two lines\n", string(log))

	run, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, About{Layout: folderVersion, Title: "one", Seed: 7, Clock: "virtual", Length: 2, Views: []string{"server", "fern"}, By: version.String(), Ending: ending.Ending{How: ending.Complete}}, run.About)
	assert.Equal(t, filepath.Join(dir, "views", "fern.jsonl.zst"), run.ViewPath("fern"))
	file, err := trace.Open(run.ViewPath("fern"))
	require.NoError(t, err)
	defer file.Close()
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	assert.Equal(t, "{\"t\":1.000000,\"checkpoint\":\"here\"}\n", string(text))
}

func TestAFolderThatIsNotFinishedCanBeRead(t *testing.T) {
	_, dir := begin(t)
	run, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, ending.Running, run.About.How)
	assert.Equal(t, filepath.Join(dir, "views", "fern.jsonl"), run.ViewPath("fern"))
	assert.Equal(t, filepath.Join(dir, "packets.jsonl"), run.PacketsPath())
}

func TestNothingIsOverwritten(t *testing.T) {
	_, dir := begin(t)
	_, err := Create(dir, About{Views: []string{"server"}}, nil, trace.NewNames())
	assert.ErrorIs(t, err, ErrExists)
	empty := t.TempDir()
	_, err = Create(empty, About{Views: []string{"server"}}, nil, trace.NewNames())
	assert.NoError(t, err, "an empty folder may be used")
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = Create(file, About{Views: []string{"server"}}, nil, trace.NewNames())
	assert.Error(t, err)
}

func TestWhatIsNoRunFolder(t *testing.T) {
	dir := t.TempDir()
	_, err := Open(filepath.Join(dir, "gone"))
	assert.ErrorContains(t, err, "there is no such folder")
	_, err = Open(dir)
	assert.ErrorContains(t, err, "no about.json in it, so this is not a run folder")
	for text, want := range map[string]string{"{": "unexpected end of JSON", `{"layout":99,"views":["server"]}`: "layout 99 of run folders; this program reads", `{"layout":2}`: "names no views"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "about.json"), []byte(text), 0o600))
		_, err = Open(dir)
		assert.ErrorContains(t, err, want)
	}
}

func TestAOutcomeIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		us := func(name string) time.Duration {
			return time.Duration(rapid.Int64Range(0, 1e12).Draw(t, name)) * time.Microsecond
		}
		f := link.Outcome{Number: rapid.Uint64Range(1, 1<<50).Draw(t, "number"), Sent: us("sent"), Size: rapid.IntRange(0, 65535).Draw(t, "size"), Copies: rapid.IntRange(0, 2).Draw(t, "copies")}
		for i := range f.Copies {
			f.Arrives[i] = us("arrives")
		}
		if f.Copies == 0 {
			f.Dropped = rapid.SampledFrom([]link.Reason{link.Lost, link.LostInRow}).Draw(t, "why")
		}
		d := rapid.SampledFrom([]link.Direction{link.Up, link.Down}).Draw(t, "direction")
		name := rapid.StringMatching(`[a-z"\\]{1,8}`).Draw(t, "name")
		line := AppendPacket(nil, name, link.Packet{Direction: d, Outcome: f})
		if who, way, at, ok := Sending(line); ok {
			require.Equal(t, []any{name, d, f.Sent}, []any{string(who), way, at})
		} else {
			require.True(t, strings.ContainsAny(name, `"\`))
		}
		r := NewPacketReader(bytes.NewReader(line))
		view, got, err := r.Next()
		require.NoError(t, err)
		require.Equal(t, name, view)
		require.Equal(t, link.Packet{Direction: d, Outcome: f}, got)
		_, _, err = r.Next()
		require.ErrorIs(t, err, io.EOF)
	})
}

func TestBadPacketLinesAreCounted(t *testing.T) {
	lines := []string{
		`{"link":"fern","direction":"sideways","number":1,"sent":0,"bytes":1,"arrives":[1]}`,
		`{"link":"fern","direction":"up","number":1,"sent":0,"bytes":1,"arrives":[1,2,3]}`,
		`{"link":"fern","direction":"up","number":1,"sent":0,"bytes":1,"dropped":"mislaid"}`,
		`{"link":"fern","direction":"up","number":1,"sent":0,"bytes":1}`,
		`torn {`,
		`{"link":"fern","direction":"up","number":2,"sent":0.5,"bytes":1,"arrives":[0.75]}`,
	}
	r := NewPacketReader(strings.NewReader(strings.Join(lines, "\n")))
	_, f, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, uint64(2), f.Number)
	assert.Equal(t, 5, r.Bad)
	_, _, err = r.Next()
	assert.ErrorIs(t, err, io.EOF)
}

func TestWhatBotsDidIsKeptOnlyWhereThereIsSome(t *testing.T) {
	dir := t.TempDir()
	for _, lines := range []int{0, 3000} {
		path := filepath.Join(dir, fmt.Sprint(lines))
		f, err := Create(path, About{Views: []string{"server", "fern"}}, []byte("x"), trace.NewNames())
		require.NoError(t, err)
		for i := range lines {
			require.NoError(t, f.Input(fmt.Appendf(nil, "{\"bot\":\"fern\",\"t\":%d}\n", i)))
		}
		if lines > 0 { // what was written until a kill can be read
			require.NoError(t, f.Flush())
			text, err := os.ReadFile(filepath.Join(path, "inputs.jsonl"))
			require.NoError(t, err)
			assert.Equal(t, lines, strings.Count(string(text), "\n"))
		}
		require.NoError(t, f.Finish(ending.Ending{How: ending.Complete}, nil, nil))
		run, err := Open(path)
		require.NoError(t, err)
		file, err := trace.Open(run.InputsPath())
		if lines == 0 {
			assert.ErrorIs(t, err, os.ErrNotExist)
			continue
		}
		require.NoError(t, err)
		text, err := io.ReadAll(file)
		require.NoError(t, err)
		assert.Equal(t, lines, strings.Count(string(text), "\n"))
		require.NoError(t, file.Close())
		assert.Equal(t, ".zst", filepath.Ext(run.InputsPath()))
	}
}

func TestARunThatCannotBeRecordedSaysWhy(t *testing.T) {
	f, dir := begin(t)
	require.NoError(t, f.Record(1, &trace.Record{T: time.Second, Checkpoint: "here"}))
	require.NoError(t, f.Abandon(ending.Ending{How: ending.Failed, Why: "the disk is full"}))
	run, err := Open(dir)
	require.NoError(t, err)
	assert.Equal(t, ending.Ending{How: ending.Failed, Why: "the disk is full"}, run.About.Ending)
	// Where not even a new file can be made, the old one is written over.
	if os.Getuid() != 0 {
		require.NoError(t, os.Chmod(dir, 0o500))
		defer os.Chmod(dir, 0o700)
	}
	require.NoError(t, f.Abandon(ending.Ending{How: ending.Failed, Why: strings.Repeat("why ", 5000)}))
	run, err = Open(dir)
	require.NoError(t, err)
	assert.Contains(t, run.About.Why, "why why")
}
