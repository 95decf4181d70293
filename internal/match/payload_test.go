package match

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatAPacketOfABuildCarries(t *testing.T) {
	for name, c := range map[string]struct{ data, want string }{
		"text is told as it is":                  {`{"type":"left","name":"moss"}` + "\n", `{"type":"left","name":"moss"}`},
		"of bytes the beginning and the words":   {"\x01\x02\x00\x05horse\x00\x00\xff\xfe\x07", `the bytes 01020005686f7273650000fffe07 with "horse" in them`},
		"bytes without words are bytes":          {"\x00\x01\x02\xff", "the bytes 000102ff"},
		"nothing is nothing":                     {"", ""},
		"letters by chance among bytes are none": {"\x00a\x01b\x02\xff\xfe\xfd", "the bytes 0061016202fffefd"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, carried([]byte(c.data))) })
	}
}
