// Package process runs the programs of a game build under test: it starts them,
// tells their trace lines from their log text, hands them control lines, says what
// they use of the machine, and ends them with all that they started.
//
// docs/trace-lines.md and docs/driving.md say what a program has to do for this.
// The package knows nothing of matches, links or verdicts.
package process

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"

	"zitherwheel/internal/lines"
)

// Spec says what is started.
type Spec struct {
	Name        string   // in messages
	Run         []string // the program and its arguments
	Folder      string   // where it works
	Env         []string // NAME=VALUE, beside those of its seat
	Seat        *Seat    // of its match; without one it finds this program's own environment
	Home        string   // the name of its folder there
	Trace       Trace
	DriveInput  bool   // control lines go to standard input
	DriveSocket bool   // control lines go back over the trace's connection
	Signal      string // terminate or interrupt: how it is asked to stop
	StopWithin  time.Duration
	Guard       *Guard // or nil
}

// Trace says where trace lines come from. The zero value is standard output.
type Trace struct {
	File   string       // a file that is followed, or ""
	Socket net.Listener // the program connects to it, or nil; it is closed with the process
	None   bool
}

// Source is where a line came from.
type Source uint8

const (
	Output Source = iota // standard output
	Errors               // standard error
	File                 // the file that is followed
	Socket               // the connection for the trace
)

func (s Source) String() string {
	return [...]string{"standard output", "standard error", "trace file", "trace connection"}[s]
}

// Line is a line that a process said, without its end.
type Line struct {
	Text   []byte // to be kept
	At     time.Time
	Source Source
	Trace  bool // it looks like a trace line and came from where they come from
	Cut    bool // it was longer than lines.Max, and this is its beginning
	Closed bool // no line: nothing more comes the way trace lines came; Text says how
}

// Process is a program that was started. All methods are safe for concurrent use.
type Process struct {
	spec    Spec
	command *exec.Cmd
	say     func(Line)
	began   time.Time
	tree    tree

	input   io.WriteCloser
	mu      sync.Mutex
	sockets []net.Conn // that are open, the newest last
	queue   chan []byte
	stopped atomic.Bool

	connected chan struct{} // closed when it has connected for its trace
	ending    chan struct{} // closed when it has exited: followers read what is left
	readers   sync.WaitGroup
	exited    chan struct{} // closed when all was read
	state     *os.ProcessState
	endedAt   time.Time
}

// NotFound is the error of a program that is not there.
type NotFoundError struct {
	Program string
	Err     error
}

func (e *NotFoundError) Error() string { return fmt.Sprintf("%s: %v", e.Program, e.Err) }
func (e *NotFoundError) Unwrap() error { return e.Err }

// mostUnsaid is how many control lines wait for a process that does not read them.
const mostUnsaid = 1024

// Start starts a program. What it says goes to say, from several goroutines and
// until Exited; say may block, and then the program has to wait too.
func Start(spec Spec, say func(Line)) (*Process, error) {
	path, err := Find(spec.Run[0], spec.Folder)
	if err != nil {
		return nil, &NotFoundError{spec.Run[0], err}
	}
	p := &Process{spec: spec, say: say, queue: make(chan []byte, mostUnsaid), connected: make(chan struct{}), ending: make(chan struct{}), exited: make(chan struct{})}
	c := exec.Command(path, spec.Run[1:]...)
	c.Args[0] = spec.Run[0]
	c.Dir = spec.Folder
	if c.Env, err = spec.Environment(path); err != nil {
		return nil, err
	}
	p.command = c
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	errs, err := c.StderrPipe()
	if err != nil {
		return nil, err
	}
	if spec.DriveInput {
		if p.input, err = c.StdinPipe(); err != nil {
			return nil, err
		}
	}
	p.began = time.Now()
	if err := p.tree.start(c); err != nil {
		return nil, fmt.Errorf("%s cannot be started: %w", spec.Run[0], err)
	}
	if spec.Guard != nil {
		spec.Guard.Watch(c.Process.Pid)
	}
	outputIsTrace := spec.Trace.File == "" && spec.Trace.Socket == nil && !spec.Trace.None
	var pipes sync.WaitGroup
	pipes.Go(func() {
		_ = p.read(out, Output, outputIsTrace)
		if outputIsTrace {
			p.say(Line{Text: []byte("its standard output was closed"), At: time.Now(), Source: Output, Closed: true})
		}
	})
	pipes.Go(func() { _ = p.read(errs, Errors, false) }) // that it ends is all there is to it
	if spec.Trace.File != "" {
		p.readers.Go(func() { p.follow(spec.Trace.File) })
	}
	if spec.Trace.Socket != nil {
		p.readers.Go(p.accept)
	}
	if spec.DriveInput || spec.DriveSocket {
		go p.write()
	}
	go p.wait(&pipes, out, errs)
	return p, nil
}

// Environment is what the program finds in its environment; at is where it was found itself.
func (s *Spec) Environment(at string) (list []string, err error) {
	if s.Seat == nil {
		list = os.Environ()
	} else if list, err = s.Seat.environment(s.Home, at); err != nil {
		return nil, err
	}
	list = append(list, s.Env...)
	if s.Guard != nil {
		list = append(list, markerName+"="+s.Guard.marker)
	}
	return lastOfEach(list), nil
}

// lastOfEach leaves one variable of each name, with the value that came last: most programs take the first.
func lastOfEach(list []string) (kept []string) {
	at := map[string]int{}
	for _, variable := range list {
		name, _, _ := strings.Cut(variable, "=")
		if i, is := at[name]; is {
			kept[i] = variable
			continue
		}
		at[name] = len(kept)
		kept = append(kept, variable)
	}
	return kept
}

// Find finds a program as a shell would that stands in folder.
func Find(program, folder string) (string, error) {
	if strings.ContainsAny(program, `/\`) && !rooted(program) && folder != "" {
		program = folder + string(os.PathSeparator) + program
	}
	path, err := exec.LookPath(program)
	var e *exec.Error
	if errors.As(err, &e) {
		err = e.Err
	}
	return path, err
}

// rooted reports whether a path stands on its own: /game/server, C:\game\server.exe,
// \\host\share\server.exe.
func rooted(path string) bool {
	return strings.HasPrefix(path, "/") || strings.HasPrefix(path, `\`) ||
		len(path) > 2 && path[1] == ':' && (path[2] == '\\' || path[2] == '/') && unicode.IsLetter(rune(path[0]))
}

// outliveFor is how long is waited for the pipes of a program that has exited while
// something that it started holds them open.
const outliveFor = 500 * time.Millisecond

func (p *Process) wait(pipes *sync.WaitGroup, outputs ...io.Closer) {
	// Cmd.Wait would close the pipes too early for what is still in them.
	state, err := p.command.Process.Wait()
	p.mu.Lock()
	p.state, p.endedAt = state, time.Now()
	p.mu.Unlock()
	if err != nil {
		p.say(Line{Text: fmt.Appendf(nil, "zwheel: waiting for the process: %v", err), At: time.Now(), Source: Errors})
	}
	close(p.ending)
	read := make(chan struct{})
	go func() { pipes.Wait(); close(read) }()
	select {
	case <-read:
	case <-time.After(outliveFor):
		p.tree.kill() // children that it left behind
		select {
		case <-read:
		case <-time.After(outliveFor): // it has gone out of the group; its pipes are let go
		}
	}
	for _, output := range outputs {
		output.Close()
	}
	<-read
	if p.spec.Trace.Socket != nil {
		p.spec.Trace.Socket.Close()
	}
	p.mu.Lock()
	for _, socket := range p.sockets {
		_ = socket.SetReadDeadline(time.Now().Add(outliveFor))
	}
	p.mu.Unlock()
	p.readers.Wait()
	p.tree.kill()
	p.tree.release()
	if p.spec.Guard != nil {
		p.spec.Guard.Forget(p.command.Process.Pid)
	}
	// Close the pipes: of input too, so that the writer ends.
	if p.input != nil {
		p.input.Close()
	}
	close(p.exited)
}

// read hands on the lines of a stream until it ends, and says how that was.
func (p *Process) read(from io.Reader, source Source, trace bool) error {
	var s lines.Splitter
	buffer := make([]byte, 64<<10)
	for {
		n, err := from.Read(buffer)
		at := time.Now()
		s.Take(buffer[:n], func(text []byte, cut bool) { p.hand(text, at, source, trace, cut) })
		if err != nil {
			s.End(func(text []byte, cut bool) { p.hand(text, at, source, trace, cut) })
			return err
		}
	}
}

func (p *Process) hand(text []byte, at time.Time, source Source, trace, cut bool) {
	text = bytes.TrimRight(text, " \r\t")
	if len(text) > 0 {
		p.say(Line{Text: text, At: at, Source: source, Trace: trace && text[0] == '{', Cut: cut})
	}
}

// followEvery is how often a file is looked at.
const followEvery = 5 * time.Millisecond

// follow hands on the lines of a file as they are written, until the process has
// exited and all was read.
func (p *Process) follow(path string) {
	tail := lines.Follow(path)
	take := func(text []byte, cut bool) { p.hand(text, time.Now(), File, true, cut) }
	for last := false; ; {
		n, _ := tail.Read(take) // what is no file yet may become one
		switch {
		case n > 0:
			continue
		case last:
			_ = tail.End(take)
			return
		}
		select {
		case <-p.ending:
			last = true
		case <-time.After(followEvery):
		}
	}
}

// mostConnections is how many connections for one trace may be open at a time.
const mostConnections = 8

// accept takes the connections for the trace. A program that connects once more, before
// or after its first connection was closed, goes on over the new one: all are read, and
// control lines go over the newest.
func (p *Process) accept() {
	var first sync.Once
	var reading sync.WaitGroup
	defer reading.Wait()
	open := make(chan struct{}, mostConnections)
	for {
		conn, err := p.spec.Trace.Socket.Accept()
		if err != nil {
			return
		}
		open <- struct{}{}
		p.mu.Lock()
		p.sockets = append(p.sockets, conn)
		p.mu.Unlock()
		first.Do(func() { close(p.connected) }) // only now: control lines go over what is in sockets
		reading.Go(func() {
			how := "its connection was closed"
			if err := p.read(conn, Socket, true); !errors.Is(err, io.EOF) {
				how = "its connection was reset"
			}
			conn.Close()
			<-open
			p.mu.Lock()
			p.sockets = slices.DeleteFunc(p.sockets, func(c net.Conn) bool { return c == conn })
			last := len(p.sockets) == 0
			p.mu.Unlock()
			if last {
				p.say(Line{Text: []byte(how), At: time.Now(), Source: Socket, Closed: true})
			}
		})
	}
}

// Say hands the process a control line, without its end. A process that does not
// read them is no reason to wait: beyond some number they are dropped, and Say
// reports false.
func (p *Process) Say(line []byte) bool {
	if !p.spec.DriveInput && !p.spec.DriveSocket {
		return false
	}
	line = append(slices.Clone(line), '\n')
	select {
	case p.queue <- line:
		return true
	default:
		return false
	}
}

// write writes control lines to standard input, or over the connection once there
// is one.
func (p *Process) write() {
	if p.spec.DriveSocket {
		select {
		case <-p.connected:
		case <-p.ending:
			return
		}
	}
	for {
		select {
		case line := <-p.queue:
			if p.spec.DriveSocket {
				if socket := p.newest(); socket != nil {
					_, _ = socket.Write(line) // whoever reads its trace hears that it is closed
				}
			} else if _, err := p.input.Write(line); err != nil {
				return // it has closed its input
			}
		case <-p.ending:
			return
		}
	}
}

// newest is the connection over which control lines go, or nil.
func (p *Process) newest() net.Conn {
	p.mu.Lock()
	defer p.mu.Unlock()
	if n := len(p.sockets); n > 0 {
		return p.sockets[n-1]
	}
	return nil
}

// Connected reports whether the process has connected for its trace, where it is
// to do so.
func (p *Process) Connected() bool {
	select {
	case <-p.connected:
		return true
	default:
		return p.spec.Trace.Socket == nil
	}
}

// PID is the number of the process.
func (p *Process) PID() int { return p.command.Process.Pid }

// Exited is closed when the process has ended and all that it said was handed on.
func (p *Process) Exited() <-chan struct{} { return p.exited }

// Running reports whether the process has not ended yet.
func (p *Process) Running() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.state == nil
}

// Exit says how the process ended, like "exit status 3", and whether it was asked
// to. It is "" while it runs.
func (p *Process) Exit() (how string, asked bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.state == nil {
		return "", false
	}
	return p.state.String(), p.stopped.Load()
}

// Failed reports whether the process ended with an exit status that is not 0, or by a
// signal.
func (p *Process) Failed() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.state != nil && !p.state.Success()
}

// StopLine is the control line that asks a program to stop.
var StopLine = []byte(`{"do":"stop"}`)

// Stop ends the process: by a control line if it reads them, then by a signal, and
// at last it kills it with all that it started. It returns what it took: "line",
// "signal" or "kill", or "" if the process had ended already.
func (p *Process) Stop() string {
	p.stopped.Store(true)
	if !p.Running() {
		<-p.exited
		return ""
	}
	within := p.spec.StopWithin
	if p.Say(StopLine) && p.gone(within) {
		return "line"
	}
	if p.tree.ask(p.spec.Signal) && p.gone(within) {
		return "signal"
	}
	p.tree.kill()
	<-p.exited
	return "kill"
}

func (p *Process) gone(within time.Duration) bool {
	select {
	case <-p.ending:
		<-p.exited
		return true
	case <-time.After(within):
		return false
	}
}
