package replay

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAPacketLetAppearIsTheFirstThatIsNotInTheRecording(t *testing.T) {
	for _, c := range []struct{ what, now, then, want string }{
		{"an event", `{"t":3.58,"event":"toll","id":"b3"}`, `{"t":3.6,"state":{"boat/a":{"x":1}}}`, "tells event toll b3 at 3.580 s, and in the recording does not"},
		{"an event in place of another", `{"t":3.58,"event":"toll"}`, `{"t":3.6,"event":"horn"}`, "tells event toll at 3.580 s, and in the recording tells event horn next"},
		{"a value", `{"t":2,"state":{"boat/a":{"x":1,"cargo":3}}}`, `{"t":2,"state":{"boat/a":{"x":1,"cargo":2}}}`, "shows boat/a cargo 3 and not 2 at 2.000 s"},
		{"an entity", `{"t":2,"state":{"boat/a":{"x":1},"crate/7":{"x":2,"y":1}}}`, `{"t":2,"state":{"boat/a":{"x":1}}}`, "shows crate/7 at 2.000 s"},
		{"much", `{"t":2,"state":{"a/1":{"x":1},"a/2":{"x":1},"a/3":{"x":1},"a/4":{"x":1},"a/5":{"x":1}}}`, `{"t":2,"state":{}}`, "shows a/1, a/2, a/3 and 2 more at 2.000 s"},
		{"what goes", `{"t":2,"despawned":["crate/7"]}`, `{"t":2.1,"state":{"boat/a":{"x":1}}}`, "shows crate/7 gone at 2.000 s"},
		{"anything else", `{"t":2,"left":"fern"}`, ``, `says {"t":2.000000,"left":"fern"} at 2.000 s, and in the recording does not`},
	} {
		t.Run(c.what, func(t *testing.T) {
			folder := t.TempDir()
			paths := []string{filepath.Join(folder, "now"), filepath.Join(folder, "then")}
			for i, text := range []string{c.now, c.then} {
				require.NoError(t, os.WriteFile(paths[i], []byte("{\"t\":1,\"joined\":\"fern\"}\n"+text+"\n"), 0o600))
			}
			now, then, err := firstThatDiffers(paths[0], paths[1], concern{})
			require.NoError(t, err)
			assert.Equal(t, c.want, saidInstead(now, then))
			none, _, err := firstThatDiffers(paths[0], paths[0], concern{})
			require.NoError(t, err)
			assert.Nil(t, none)
		})
	}
}

// What else goes another way is no fact of the finding.
func TestWhatAPacketLetAppearIsAboutWhatTheFindingIsAbout(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	now := write("now", `{"t":1,"state":{"boat/a":{"x":1},"crate/7":{"open":false}}}
{"t":2,"state":{"boat/a":{"x":3}}}
{"t":2.5,"event":"horn","entity":"boat/a"}
{"t":3,"state":{"crate/7":{"open":true,"x":4}}}
{"t":4,"event":"toll","id":"b3","entity":"boat/a"}
`)
	then := write("then", `{"t":1,"state":{"boat/a":{"x":1},"crate/7":{"open":false}}}
{"t":2,"state":{"boat/a":{"x":2}}}
{"t":3.1,"state":{"crate/7":{"x":4}}}
`)
	for subject, want := range map[Target]string{
		{Entity: "crate/7", Subject: "open"}:      "shows crate/7 open true at 3.000 s",
		{Entity: "crate/7", Subject: "existence"}: "shows crate/7 open true at 3.000 s",
		{Entity: "crate/7", Subject: "x"}:         "",
		{Entity: "boat/a", Subject: "x"}:          "shows boat/a x 3 and not 2 at 2.000 s",
		{Entity: "boat/a", Subject: "event toll"}: "tells event toll b3 at 4.000 s, and in the recording does not",
	} {
		a, b, err := firstThatDiffers(now, then, subject.concerns())
		require.NoError(t, err)
		if want == "" {
			assert.Nil(t, a, "%v", subject)
			continue
		}
		require.NotNil(t, a, "%v", subject)
		assert.Equal(t, want, saidInstead(a, b), "%v", subject)
	}
}
