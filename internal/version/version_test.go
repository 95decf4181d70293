package version

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatABuildIsCalled(t *testing.T) {
	info := func(version string, settings ...string) *debug.BuildInfo {
		b := &debug.BuildInfo{Main: debug.Module{Version: version}}
		for i := 0; i < len(settings); i += 2 {
			b.Settings = append(b.Settings, debug.BuildSetting{Key: settings[i], Value: settings[i+1]})
		}
		return b
	}
	assert.Equal(t, "(devel)", describe(info("")))
	assert.Equal(t, "v1.2.0 (0123456789ab)", describe(info("v1.2.0", "vcs.revision", "0123456789abcdef", "vcs.modified", "false")))
	assert.Equal(t, "(devel) (01, changed since)", describe(info("(devel)", "vcs.revision", "01", "vcs.modified", "true")))
	assert.Equal(t, "v0.0.0-20261126113638-0123456789ab+dirty", describe(info("v0.0.0-20261126113638-0123456789ab+dirty", "vcs.revision", "0123456789abcdef", "vcs.modified", "true")), "it says so itself")
	assert.NotEmpty(t, String())
	assert.Contains(t, Platform(), "/")
}
