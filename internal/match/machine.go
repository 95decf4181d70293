package match

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"zitherwheel/internal/match/supervisor"
)

// Ability is something that a machine allows or has, or not.
type Ability struct {
	Name string `json:"name"`
	Has  bool   `json:"has"`
	What string `json:"what"` // what is there, or why it is not
	For  string `json:"for"`  // what it is good for
}

// What is tried where it can be had at all.
const (
	virtualClockName = "virtual clock for builds"
	virtualClockFor  = "clock: virtual of a build: faster than real time, and the same every time"
	ownNetworkName   = "a network for each match"
	ownNumbersName   = "process numbers for each match"
	ownNumbersFor    = "programs that draw chance from their process number repeat on the virtual clock"
	ownNetworkFor    = "the same ports in every match on the virtual clock, and programs that reach nothing but it"
)

// Machine says what this machine allows, by trying it.
func Machine(ctx context.Context) []Ability {
	list := append(append([]Ability{VirtualClock(ctx)}, ownSpaces()...), kernelStamps())
	for _, r := range []struct {
		name  string
		names []string
		use   string
	}{
		{"Node", []string{"node"}, "examples/millpond"},
		{"Python", []string{"python3", "python"}, "examples/stonewain and examples/quayside"},
		{"Go", []string{"go"}, "building this program"},
		{"wine", []string{"wine"}, "builds for Windows on Linux: docs/virtual-builds.md"},
		{"a browser", []string{"chromium", "google-chrome", "chrome", "firefox"}, "clients that run in one, and reading report pages"},
	} {
		list = append(list, found(r.name, r.names, r.use))
	}
	return list
}

func found(name string, names []string, use string) Ability {
	for _, n := range names {
		if path, err := exec.LookPath(n); err == nil {
			return Ability{name, true, path, use}
		}
	}
	return Ability{name, false, "no " + strings.Join(names, " and no ") + " is found", use}
}

func kernelStamps() Ability {
	a := Ability{Name: "kernel stamps of packets", For: "exact delays on the wall clock", Has: runtime.GOOS == "linux", What: runtime.GOOS}
	if release, err := os.ReadFile(filepath.Join("/proc", "sys", "kernel", "osrelease")); err == nil {
		a.What += " " + strings.TrimSpace(string(release))
	}
	a.What += fmt.Sprintf(" on %s, %d processors", runtime.GOARCH, runtime.NumCPU())
	return a
}

// AsOwner is [supervisor.AsOwner].
func AsOwner() (code int, done bool) { return supervisor.AsOwner() }
