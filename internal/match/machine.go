package match

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"zitherwheel/internal/match/process"
	"zitherwheel/internal/match/supervisor"
)

// Ability is something that a machine allows or has, or not.
type Ability struct {
	Name string `json:"name"`
	Has  bool   `json:"has"`
	What string `json:"what"` // what is there, or why it is not
	For  string `json:"for"`  // what it is good for
}

// Machine says what this machine allows, by trying it.
func Machine(ctx context.Context) []Ability {
	list := []Ability{virtualClock(ctx), ownNetwork(), kernelStamps()}
	for _, r := range []struct {
		name  string
		names []string
		use   string
	}{
		{"Node", []string{"node"}, "examples/millpond"},
		{"Python", []string{"python3", "python"}, "examples/stonewain and examples/quayside"},
		{"Go", []string{"go"}, "building this program"},
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

// virtualClock runs a program under a supervisor, to its end.
func virtualClock(ctx context.Context) Ability {
	a := Ability{Name: "virtual clock for builds", For: "clock: virtual of a build: faster than real time, and the same every time"}
	done := make(chan error)
	go func() { done <- supervise(ctx) }()
	err := <-done
	var refused *supervisor.RefusedError
	switch {
	case errors.As(err, &refused):
		if a.What = refused.Why; refused.Err != nil {
			a.What += ": " + refused.Err.Error()
		}
	case err != nil:
		a.What = err.Error()
	default:
		a.Has, a.What = true, "tried: a program ran on it to its end"
	}
	return a
}

func supervise(ctx context.Context) error {
	s, err := supervisor.New(supervisor.Options{Seed: 1, Zero: firstDay})
	if err != nil {
		return err
	}
	p, err := s.Start(process.Spec{Name: "a shell", Run: []string{"sh", "-c", "sleep 3"}}, func(process.Line) {}, func(*supervisor.Program) {})
	if err == nil {
		err = s.Run(ctx, 5*time.Second)
	}
	if err == nil && (p.Running() || p.Failed()) {
		err = errors.New("a program that was to sleep for 3 s on it did not end well in 5 s")
	}
	return errors.Join(err, s.Close())
}

func ownNetwork() Ability {
	a := Ability{Name: "a network for each match", For: "the same ports in every match on the virtual clock, and programs that reach nothing but it"}
	done := make(chan bool)
	go func() {
		s, err := supervisor.New(supervisor.Options{Seed: 1, Zero: firstDay})
		if err != nil {
			done <- false
			return
		}
		alone := s.Alone()
		_ = s.Close() // nothing was started
		done <- alone
	}()
	if a.Has = <-done; a.Has {
		a.What = "tried: allowed"
	} else {
		a.What = "not allowed to this user; ports are chosen by the seed from 12000 to 31999 instead"
	}
	return a
}

func kernelStamps() Ability {
	a := Ability{Name: "kernel stamps of packets", For: "exact delays on the wall clock", Has: runtime.GOOS == "linux", What: runtime.GOOS}
	if release, err := os.ReadFile(filepath.Join("/proc", "sys", "kernel", "osrelease")); err == nil {
		a.What += " " + strings.TrimSpace(string(release))
	}
	a.What += fmt.Sprintf(" on %s, %d processors", runtime.GOARCH, runtime.NumCPU())
	return a
}
