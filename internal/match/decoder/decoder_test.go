package decoder

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/network/link"
)

func load(t *testing.T, script string) (*Decoder, error) {
	path := filepath.Join(t.TempDir(), "decode.star")
	require.NoError(t, os.WriteFile(path, []byte(script), 0o600))
	return Load(path)
}

func TestAScriptSaysWhatAPacketCarries(t *testing.T) {
	d, err := load(t, `
kinds = {1: "place", 2: "horn"}

def decode(data, direction):
    kind = number(data, 0, "u8")
    if kind == 1:
        return "%s %s of %d: %s" % (direction, kinds[kind], number(data, 1, "u16be"), number(data, 3, "f32le"))
    if kind == 2:
        return json.decode(str(data[1:]))["by"] + " blows the horn"
    if kind == 3:
        return 3
    if kind == 4:
        return data[9]
    if kind == 5:
        while True:
            kind += 1
    return None
`)
	require.NoError(t, err)
	for _, c := range []struct {
		what string
		data []byte
		text string
		ok   bool
	}{
		{"numbers", []byte{1, 0x01, 0x02, 0, 0, 0xc0, 0x3f}, "down place of 258: 1.5", true},
		{"text", []byte("\x02{\"by\": \"fern\"}"), "fern blows the horn", true},
		{"nothing that it knows", []byte{9}, "", false},
		{"no text", []byte{3}, "the decoder returned int and no text", true},
		{"no bytes at all", nil, "", false},
	} {
		t.Run(c.what, func(t *testing.T) {
			text, ok := d.Decode(c.data, link.Down)
			assert.Equal(t, c.text, text)
			assert.Equal(t, c.ok, ok)
		})
	}
	text, ok := d.Decode([]byte{4}, link.Up)
	assert.True(t, ok)
	assert.Regexp(t, `^the decoder failed: .*decode.star:13:\d+: .*out of range`, text)
	text, _ = d.Decode([]byte{5}, link.Up)
	assert.Contains(t, text, "too many steps", "one that never ends is ended")
}

func TestAScriptThatIsNoneIsSaid(t *testing.T) {
	for script, wrong := range map[string]string{
		"def decode(data, direction)\n  return 1": "got newline, want ':'",
		"def other(data):\n  return None":         "defines no function decode(data, direction)",
		"x = open(\"/etc/hostname\")":             "undefined: open",
		"x = number(b\"\", 0, \"u24\")":           `there is no kind "u24"`,
		"while True:\n  x = 1":                    "too many steps",
	} {
		_, err := load(t, script)
		assert.ErrorContains(t, err, wrong, script)
	}
	_, err := Load(filepath.Join(t.TempDir(), "none.star"))
	assert.ErrorContains(t, err, "no such file")
}
