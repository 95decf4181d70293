package sanitize

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWhatSteersATerminalIsShown(t *testing.T) {
	for text, want := range map[string]string{
		"plain äöü 羊":                "plain äöü 羊",
		"\x1b]52;c;aGk=\a":           `\u001b]52;c;aGk=\u0007`,
		"\x1b[31mred":                `\u001b[31mred`,
		"two\nlines\r":               `two\u000alines\u000d`,
		"\u009b31m and \x7f":         `\u009b31m and \u007f`,
		"no UTF-8: \x9b31m":          `no UTF-8: \u009b31m`,
		"an \u061cArabic mark":       `an \u061cArabic mark`,
		"\u202egnp.exe":              `\u202egnp.exe`,
		"a replacement � of its own": "a replacement � of its own",
	} {
		assert.Equal(t, want, Text(text))
	}
}

func TestAWriterKeepsLinesAndItsOwnColours(t *testing.T) {
	for _, c := range []struct {
		colours    bool
		text, want string
	}{
		{false, "a\tb\nc\x1b[1;32mgreen\x1b[0m", "a\tb\nc\\u001b[1;32mgreen\\u001b[0m"},
		{true, "a\tb\nc\x1b[1;32mgreen\x1b[0m\x1b[2J", "a\tb\nc\x1b[1;32mgreen\x1b[0m\\u001b[2J"},
		{false, "3 of 4\r", "3 of 4\r"},
		{false, "over\rwritten\x01\r", "over\\u000dwritten\\u0001\r"},
	} {
		var out bytes.Buffer
		n, err := NewWriter(&out, c.colours).Write([]byte(c.text))
		require.NoError(t, err)
		assert.Equal(t, len(c.text), n)
		assert.Equal(t, c.want, out.String())
	}
}

func TestNothingThatSteersGetsThrough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := string(rapid.SliceOf(rapid.Byte()).Draw(t, "text"))
		var out bytes.Buffer
		_, err := NewWriter(&out, false).Write([]byte(text))
		require.NoError(t, err)
		end := strings.TrimSuffix(out.String(), "\r")
		require.Equal(t, -1, strings.IndexFunc(end, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' }), "%q", end)
	})
}

// What is written out in JSON is read as the same value.
func TestJSONStaysTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := map[string]string{"k": rapid.String().Draw(t, "v")}
		text, err := json.Marshal(value)
		require.NoError(t, err)
		var out bytes.Buffer
		_, err = NewWriter(&out, false).Write(text)
		require.NoError(t, err)
		read := map[string]string{}
		require.NoError(t, json.Unmarshal(out.Bytes(), &read))
		require.Equal(t, value, read)
	})
}

type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, errors.New("no space") }

func TestTheFirstErrorIsKept(t *testing.T) {
	w := NewWriter(broken{}, false)
	_, err := w.Write([]byte("one"))
	assert.EqualError(t, err, "no space")
	assert.EqualError(t, w.Err(), "no space")
}
