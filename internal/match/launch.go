package match

import (
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"zitherwheel/internal/control"
	"zitherwheel/internal/match/process"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/clocksync"
)

// values are what stands for words in braces in its commands.
func (p *participant) values(tracePath string) map[string]string {
	m := p.match
	v := maps.Clone(m.values)
	v["name"], v["trace"] = p.name, tracePath
	frame := m.plan.Game.FPS
	if p.steps.FPS > 0 {
		frame = p.steps.FPS
	}
	v["fps"] = strconv.Itoa(frame)
	v["report"] = strconv.Itoa(min(frame, m.plan.Game.Report))
	addresses := m.addresses
	if len(p.at) > 0 {
		addresses = p.at
	}
	for i, at := range addresses {
		host, port, _ := net.SplitHostPort(at)
		if i == 0 {
			v["host"], v["port"] = host, port
		}
		v["port-"+m.build.Ports[i].Name] = port
	}
	return v
}

// start starts its process.
func (p *participant) start() error {
	m := p.match
	spec := process.Spec{Name: p.title(), Folder: m.build.Folder, DriveInput: p.program.Drive == plan.InputDrive, DriveSocket: p.program.Drive == plan.SocketDrive,
		Signal: p.program.Stop.Signal, StopWithin: p.program.Stop.Within, Guard: m.guard, Seat: m.seat, Home: p.name}
	var tracePath string
	var err error
	if spec.Trace, tracePath, err = p.tracePlace(); err != nil {
		return err
	}
	values := p.values(tracePath)
	if p.hand != nil {
		p.invite(values)
	}
	for _, word := range p.program.Run {
		spec.Run = append(spec.Run, plan.Fill(word, values))
	}
	spec.Env = p.environment(values)
	p.live = clocksync.Live{}
	p.mirror.forget()
	p.sent, p.told = control.Line{}, ""
	p.started = m.now()
	p.facts.started++
	m.releasePorts()
	program, err := m.stage.start(p, spec)
	if err != nil {
		if spec.Trace.Socket != nil {
			spec.Trace.Socket.Close()
		}
		return err
	}
	p.process = program
	if p != m.server {
		p.say(control.Line{Do: control.Hello, Version: control.Version, Name: p.name, Seed: m.plan.Seed})
	}
	return nil
}

// tracePlace is where its process is to tell its trace lines: a file, or an address that
// is listened at.
func (p *participant) tracePlace() (place process.Trace, path string, err error) {
	if p.machine != nil {
		path, err = p.placeThere()
		return place, path, err
	}
	switch p.program.Trace {
	case plan.OutputTrace:
	case plan.NoTrace:
		place.None = true
	case plan.SocketTrace:
		listener, err := p.match.stage.listen()
		if err != nil {
			return place, "", fmt.Errorf("listening for the trace of %s: %w", p.title(), err)
		}
		place.Socket, path = listener, listener.Addr().String()
	default:
		path = plan.Fill(p.program.Trace, p.values(""))
		if !filepath.IsAbs(path) {
			path = filepath.Join(p.match.build.Folder, path)
		}
		if err := os.Remove(path); err != nil && !os.IsNotExist(err) { // what an earlier run left there is not this one's
			return place, "", err
		}
		place.File = path
	}
	return place, path, nil
}

// environment is what its process finds in its environment beside this program's.
func (p *participant) environment(values map[string]string) (list []string) {
	env := map[string]string{"ZWHEEL_NAME": p.name, "ZWHEEL_SEED": values["seed"], "ZWHEEL_SERVER": net.JoinHostPort(values["host"], values["port"]), "ZWHEEL_TRACE": values["trace"]}
	for _, more := range []map[string]string{p.match.build.Env, p.program.Env} {
		for k, v := range more {
			env[k] = plan.Fill(v, values)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(env)) {
		list = append(list, k+"="+env[k])
	}
	return list
}
