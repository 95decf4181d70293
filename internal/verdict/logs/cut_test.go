package logs

import (
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
)

// Of a line of megabytes what is shown is kept, and not the line.
func TestWhatIsKeptOfALongLineDoesNotKeepTheLine(t *testing.T) {
	line := strings.Repeat("é", 1<<20)
	kept := cut(line, 241)
	assert.Equal(t, strings.Repeat("é", 120), kept)
	assert.NotSame(t, unsafe.StringData(line), unsafe.StringData(kept))
}
