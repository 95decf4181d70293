// Package version says which build of the program this is.
package version

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
)

// String is the module's version and the commit that it was built from, as far as the Go
// tools have put them into the program: "v1.2.0 (3f2a9c1d0b7e)". The version that they make
// up between two releases names the commit itself.
var String = sync.OnceValue(func() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "(unknown)"
	}
	return describe(info)
})

func describe(info *debug.BuildInfo) string {
	version := info.Main.Version
	if version == "" {
		version = "(devel)"
	}
	commit, changed := "", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			commit = s.Value[:min(12, len(s.Value))]
		case "vcs.modified":
			if s.Value == "true" {
				changed = ", changed since"
			}
		}
	}
	if commit == "" || strings.Contains(version, commit) {
		return version
	}
	return fmt.Sprintf("%s (%s%s)", version, commit, changed)
}

// Platform is what it was built with and for: "go1.26 linux/amd64".
func Platform() string {
	return fmt.Sprintf("%s %s/%s", runtime.Version(), runtime.GOOS, runtime.GOARCH)
}
