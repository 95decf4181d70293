package process

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/lines"
)

// This program plays the programs under test, by the role in its environment.
func TestMain(m *testing.M) {
	switch os.Getenv("ROLE") {
	case "":
		os.Exit(m.Run())
	case "guard":
		RunGuard(os.Stdin, os.Args[len(os.Args)-1])
	case "hello":
		fmt.Println("loading")
		fmt.Println(`{"t":0,"checkpoint":"up"}`)
		fmt.Fprintln(os.Stderr, `{"t":1} is log text here`)
		fmt.Print("half a line")
	case "echo": // says what it is told, until it is told to stop
		in := bufio.NewScanner(os.Stdin)
		for in.Scan() {
			fmt.Println("told", in.Text())
			if in.Text() == string(StopLine) {
				return
			}
		}
	case "deaf": // does not read, and ends by a signal only
		c := make(chan os.Signal, 1)
		signal.Notify(c, os.Interrupt)
		fmt.Println("up")
		<-c
		fmt.Println("interrupted")
	case "stubborn":
		signal.Ignore(os.Interrupt)
		ignoreTerminate()
		fmt.Println("up")
		time.Sleep(time.Minute)
	case "parent": // has a child, which outlives it; so may a grandchild in a session of its own
		child := exec.Command(os.Args[0])
		child.Env = append(os.Environ(), "ROLE=stubborn")
		child.Stdout = os.Stdout
		if os.Getenv("AWAY") != "" {
			detach(child)
		}
		if err := child.Start(); err != nil {
			panic(err)
		}
		fmt.Println("child", child.Process.Pid)
		time.Sleep(50 * time.Millisecond)
	case "file":
		path := os.Getenv("TRACE")
		f, _ := os.Create(path)
		for i := range 3 {
			fmt.Fprintf(f, "{\"t\":%d", i)
			time.Sleep(20 * time.Millisecond)
			fmt.Fprintln(f, "}")
		}
		fmt.Println(`{"not":"a trace line here"}`)
	case "socket":
		c, err := net.Dial("tcp", os.Getenv("TRACE"))
		if err != nil {
			panic(err)
		}
		fmt.Fprintln(c, `{"t":0}`)
		in := bufio.NewScanner(c)
		for in.Scan() {
			fmt.Fprintf(c, "{\"t\":1,\"data\":%s}\n", in.Text())
			if in.Text() == string(StopLine) {
				return
			}
		}
	case "flood":
		line := strings.Repeat("x", 1000)
		for range 20_000 {
			fmt.Println(line)
		}
	case "endless":
		chunk := bytes.Repeat([]byte("y"), 1<<20)
		for range 9 {
			os.Stdout.Write(chunk)
		}
		fmt.Println()
		fmt.Println("after")
	case "crash":
		os.Exit(7)
	case "manager": // starts a stubborn process under a guard and then waits to be killed
		os.Setenv("ROLE", "guard") // of what it starts next: otherwise its guard would be a manager too, and so on
		g, err := NewGuard(fmt.Sprint("test-", os.Getpid()), "-x")
		if err != nil {
			panic(err)
		}
		os.Setenv("ROLE", "stubborn")
		p, err := Start(Spec{Name: "s", Run: []string{os.Args[0]}, Env: []string{"ROLE=stubborn"}, Guard: g}, func(Line) {})
		if err != nil {
			panic(err)
		}
		fmt.Println("child", p.PID())
		time.Sleep(time.Minute)
	}
}

// said collects what a process says.
type said struct {
	mu    sync.Mutex
	lines []Line
}

func (s *said) take(l Line) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lines = append(s.lines, l)
}

func (s *said) texts() (list []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.lines {
		list = append(list, string(l.Text))
	}
	return list
}

func (s *said) has(text string) func() bool {
	return func() bool {
		for _, t := range s.texts() {
			if strings.Contains(t, text) {
				return true
			}
		}
		return false
	}
}

func spec(role string, env ...string) Spec {
	return Spec{Name: role, Run: []string{os.Args[0]}, Env: append(env, "ROLE="+role), StopWithin: 5 * time.Second}
}

func start(t *testing.T, s Spec) (*Process, *said) {
	t.Helper()
	heard := &said{}
	p, err := Start(s, heard.take)
	require.NoError(t, err)
	t.Cleanup(func() { p.Stop() })
	return p, heard
}

func ended(t *testing.T, p *Process) {
	t.Helper()
	select {
	case <-p.Exited():
	case <-time.After(10 * time.Second):
		t.Fatal("it has not ended")
	}
}

// alive reports whether a process is there that is not only waiting to be buried.
func alive(pid int) bool {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !bytes.Contains(text, []byte(") Z "))
}

func onLinux(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("counts processes in /proc")
	}
}

func childOf(t *testing.T, s *said) int {
	t.Helper()
	require.Eventually(t, s.has("child "), 10*time.Second, time.Millisecond)
	for _, text := range s.texts() {
		if number, ok := strings.CutPrefix(text, "child "); ok {
			pid, err := strconv.Atoi(number)
			require.NoError(t, err)
			return pid
		}
	}
	return 0
}

func TestTraceLinesAreToldFromLogText(t *testing.T) {
	p, heard := start(t, spec("hello"))
	ended(t, p)
	kinds := map[string]Line{}
	for _, l := range heard.lines {
		kinds[string(l.Text)] = l
	}
	assert.True(t, kinds[`{"t":0,"checkpoint":"up"}`].Trace)
	assert.False(t, kinds["loading"].Trace)
	assert.False(t, kinds[`{"t":1} is log text here`].Trace)
	assert.Equal(t, Errors, kinds[`{"t":1} is log text here`].Source)
	assert.Contains(t, kinds, "half a line", "a line without an end counts when there is no more")
	how, asked := p.Exit()
	assert.Equal(t, "exit status 0", how)
	assert.False(t, asked)
	assert.False(t, p.Running())
}

func TestControlLinesGoToStandardInput(t *testing.T) {
	s := spec("echo")
	s.DriveInput = true
	p, heard := start(t, s)
	assert.True(t, p.Say([]byte("go")))
	require.Eventually(t, heard.has("told go"), 10*time.Second, time.Millisecond)
	assert.Equal(t, "line", p.Stop())
	assert.True(t, heard.has(`told {"do":"stop"}`)())
	assert.Equal(t, "", p.Stop(), "it has ended")
}

func TestStoppingGoesFromAskingToKilling(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no signals")
	}
	deaf := spec("deaf")
	deaf.Signal, deaf.DriveInput = "interrupt", true
	p, heard := start(t, deaf)
	require.Eventually(t, heard.has("up"), 10*time.Second, time.Millisecond)
	assert.Equal(t, "signal", p.Stop())
	assert.True(t, heard.has("interrupted")())

	stubborn := spec("stubborn")
	stubborn.StopWithin = 200 * time.Millisecond
	p, heard = start(t, stubborn)
	require.Eventually(t, heard.has("up"), 10*time.Second, time.Millisecond)
	assert.Equal(t, "kill", p.Stop())
	how, asked := p.Exit()
	assert.Equal(t, "signal: killed", how)
	assert.True(t, asked)
}

func TestWhatAProgramStartsEndsWithIt(t *testing.T) {
	onLinux(t)
	p, heard := start(t, spec("parent"))
	child := childOf(t, heard)
	ended(t, p)
	require.Eventually(t, func() bool { return !alive(child) }, 5*time.Second, time.Millisecond)
}

func TestWhatHasLeftItsGroupIsFoundByItsMark(t *testing.T) {
	onLinux(t)
	g, err := NewGuard(fmt.Sprint("test-", os.Getpid()))
	require.NoError(t, err)
	s := spec("parent", "AWAY=1")
	s.Guard = g
	p, heard := start(t, s)
	child := childOf(t, heard)
	ended(t, p)
	require.True(t, alive(child), "it is in a session of its own")
	assert.Equal(t, 1, g.Close())
	require.Eventually(t, func() bool { return !alive(child) }, 5*time.Second, time.Millisecond)
}

func TestNothingIsLeftWhenThisProgramIsKilled(t *testing.T) {
	onLinux(t)
	manager := exec.Command(os.Args[0])
	manager.Env = append(os.Environ(), "ROLE=manager")
	out, err := manager.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, manager.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	child, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(line, "child ")))
	require.NoError(t, err)
	require.True(t, alive(child))
	require.NoError(t, manager.Process.Kill())
	manager.Wait()
	require.Eventually(t, func() bool { return !alive(child) }, 10*time.Second, time.Millisecond)
}

func TestAFileIsFollowed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trace.jsonl")
	s := spec("file", "TRACE="+path)
	s.Trace.File = path
	p, heard := start(t, s)
	ended(t, p)
	var traced []string
	for _, l := range heard.lines {
		if l.Trace {
			traced = append(traced, string(l.Text))
		}
	}
	assert.Equal(t, []string{`{"t":0}`, `{"t":1}`, `{"t":2}`}, traced)
	assert.True(t, heard.has("not")(), "what it prints is log text then")
}

func TestATraceMayComeOverASocketAndControlLinesGoBack(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := spec("socket", "TRACE="+l.Addr().String())
	s.Trace.Socket, s.DriveSocket = l, true
	p, heard := start(t, s)
	require.Eventually(t, p.Connected, 10*time.Second, time.Millisecond)
	require.Eventually(t, heard.has(`{"t":0}`), 10*time.Second, time.Millisecond)
	assert.Equal(t, "line", p.Stop())
	assert.True(t, heard.has(`{"t":1,"data":{"do":"stop"}}`)())
	_, err = net.Dial("tcp", l.Addr().String())
	assert.Error(t, err, "the address is closed with the process")
}

func TestFloodsAndEndlessLinesDoNotHarm(t *testing.T) {
	p, heard := start(t, spec("flood"))
	ended(t, p)
	assert.Len(t, heard.texts(), 20_000+1, "and that it was over")
	p, heard = start(t, spec("endless"))
	ended(t, p)
	require.Len(t, heard.lines, 3)
	assert.True(t, heard.lines[2].Closed, "its output has come to its end")
	assert.True(t, heard.lines[0].Cut)
	assert.Len(t, heard.lines[0].Text, lines.Max)
	assert.Equal(t, "after", string(heard.lines[1].Text))
}

func TestWhatCannotBeStartedIsSaid(t *testing.T) {
	_, err := Start(Spec{Run: []string{"no-such-program-anywhere"}}, func(Line) {})
	var missing *NotFoundError
	require.ErrorAs(t, err, &missing)
	assert.ErrorContains(t, err, "no-such-program-anywhere: executable file not found")
	p, _ := start(t, spec("crash"))
	ended(t, p)
	how, asked := p.Exit()
	assert.Equal(t, "exit status 7", how)
	assert.False(t, asked)
	assert.False(t, p.Say([]byte("x")))
}

func TestTheLoadOfAProcessIsRead(t *testing.T) {
	stubborn := spec("stubborn")
	stubborn.StopWithin = 0
	p, heard := start(t, stubborn)
	require.Eventually(t, heard.has("up"), 10*time.Second, time.Millisecond)
	var m Meter
	m.Read([]int{p.PID()})
	load := m.Read([]int{p.PID(), 1 << 30})
	require.Len(t, load, 1, "what has ended has no load")
	assert.Greater(t, load[p.PID()].Resident, uint64(100_000))
	assert.Positive(t, load[p.PID()].Threads)
}

func TestNoSocketOrFileIsLeftOpen(t *testing.T) {
	onLinux(t)
	count := func() int {
		entries, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(entries)
	}
	before := count()
	for _, role := range []string{"hello", "crash", "parent"} {
		s := spec(role)
		s.DriveInput = true
		p, err := Start(s, func(Line) {})
		require.NoError(t, err)
		<-p.Exited()
	}
	assert.LessOrEqual(t, count(), before)
}

func TestPathsThatStandOnTheirOwn(t *testing.T) {
	for path, want := range map[string]bool{"/game/server": true, `C:\game\server.exe`: true, "d:/game/server.exe": true, `\\host\share\x.exe`: true,
		"./server": false, `bin\server.exe`: false, "server": false, "a:": false} {
		assert.Equal(t, want, rooted(path), path)
	}
}
