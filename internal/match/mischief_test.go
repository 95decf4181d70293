//go:build linux || darwin

package match_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"zitherwheel/internal/demo/hillfold"
	"zitherwheel/internal/demo/programs"
)

// mischief goes wrong in some way and returns where the program's output is to go.
func mischief(what string) io.Writer {
	what, who, one := strings.Cut(what, " in ")
	if one && who != os.Getenv("WHO") {
		if what = "over a socket"; os.Getenv("ZWHEEL_TRACE") == "" {
			what = ""
		}
	}
	switch what {
	case "hang":
		time.Sleep(time.Hour)
	case "stop later":
		time.AfterFunc(1500*time.Millisecond, stopSelf)
	case "crash once":
		if _, err := os.Stat(os.Getenv("ONCE")); err != nil {
			_ = os.WriteFile(os.Getenv("ONCE"), nil, 0o600)
			return mischief("crash later")
		}
	case "over a socket that comes back":
		first := mischief("over a socket").(net.Conn)
		again := &reopened{to: first}
		time.AfterFunc(2*time.Second, func() { again.set(io.Discard); first.Close() })
		time.AfterFunc(4*time.Second, func() {
			conn, err := net.Dial("tcp", os.Getenv("ZWHEEL_TRACE"))
			if err != nil {
				panic(err)
			}
			again.set(conn)
		})
		return again
	case "over a second socket":
		first := mischief("over a socket")
		time.Sleep(20 * time.Millisecond)
		second, err := net.Dial("tcp", os.Getenv("ZWHEEL_TRACE"))
		if err != nil {
			panic(err)
		}
		_, _ = fmt.Fprintln(first, "still open") // and nothing more
		go io.Copy(io.Discard, first.(net.Conn))
		return second
	case "crash at start":
		fmt.Fprintln(os.Stderr, "cannot load the field")
		os.Exit(3)
	case "crash later":
		time.AfterFunc(time.Second, func() {
			fmt.Fprintln(os.Stderr, "index 17 out of range")
			os.Exit(9)
		})
	case "flood":
		go func() {
			line := strings.Repeat("chatter ", 100)
			for {
				fmt.Println(line)
			}
		}()
	case "half lines":
		return &altered{to: os.Stdout, alter: func(line []byte) []byte {
			return append(append([]byte(`{"t":1,"state":{"dog/`), '\n'), line...)
		}}
	case "mute":
		return io.Discard
	case "garbage":
		return &altered{to: os.Stdout, alter: func([]byte) []byte { return []byte(`{"time":"now"}` + "\n") }}
	case "misspells": // the picture is not where it belongs
		return &altered{to: os.Stdout, alter: func(line []byte) []byte { return bytes.Replace(line, []byte(`"state":`), []byte(`"full":`), 1) }}
	case "deaf":
		signal.Ignore(os.Interrupt, syscall.SIGTERM)
		read, write, err := os.Pipe()
		if err != nil {
			panic(err)
		}
		input := os.Stdin
		os.Stdin = read
		go func() { // hears everything but that it is to stop
			lines := bufio.NewScanner(input)
			for lines.Scan() {
				if !strings.Contains(lines.Text(), "stop") {
					fmt.Fprintln(write, lines.Text())
				}
			}
			select {}
		}()
	case "forks":
		child := exec.Command(os.Args[0], "x")
		child.Env = append(os.Environ(), "MISCHIEF=hang")
		child.Stdout = os.Stdout
		if err := child.Start(); err != nil {
			panic(err)
		}
	case "clock jumps":
		return &altered{to: os.Stdout, alter: jumping()}
	case "to a file":
		f, err := os.Create(os.Getenv("ZWHEEL_TRACE"))
		if err != nil {
			panic(err)
		}
		return f
	case "over a socket", "over a socket that breaks":
		conn, err := net.Dial("tcp", os.Getenv("ZWHEEL_TRACE"))
		if err != nil {
			panic(err)
		}
		read, write, err := os.Pipe()
		if err != nil {
			panic(err)
		}
		os.Stdin = read
		go io.Copy(write, conn)
		if strings.HasSuffix(what, "breaks") {
			time.AfterFunc(2*time.Second, func() { conn.Close() }) // it is in by then, also on a busy machine
			return silent{conn}
		}
		return conn
	}
	return os.Stdout
}

// reopened writes whole lines to what it is set to.
type reopened struct {
	mu sync.Mutex
	to io.Writer
}

func (r *reopened) set(to io.Writer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.to = to
}

func (r *reopened) Write(data []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, _ = r.to.Write(data)
	return len(data), nil
}

// silent is a writer that fails without saying so.
type silent struct{ io.Writer }

func (s silent) Write(data []byte) (int, error) {
	_, _ = s.Writer.Write(data)
	return len(data), nil
}

// host is a program that is the server and a client at once.
func host(listen, name string) {
	address, err := net.ResolveUDPAddr("udp", listen)
	if err != nil {
		panic(err)
	}
	conn, err := net.ListenUDP("udp", address)
	if err != nil {
		panic(err)
	}
	config := hillfold.Config{Rates: hillfold.DefaultRates, Sheep: 5, Round: time.Hour}
	asServer := &altered{to: os.Stdout, alter: func(line []byte) []byte {
		return append([]byte(`{"view":"server",`), line[1:]...)
	}}
	go programs.Serve(context.Background(), conn, config, 1, programs.Streams{Trace: asServer, Log: os.Stderr})
	err = programs.Play(context.Background(), address, name, config, 1, programs.Streams{Control: os.Stdin, Trace: os.Stdout, Log: os.Stderr})
	if err != nil {
		panic(err)
	}
}

// altered writes every line as alter makes it.
type altered struct {
	to    io.Writer
	alter func([]byte) []byte
	rest  []byte
}

func (a *altered) Write(data []byte) (int, error) {
	a.rest = append(a.rest, data...)
	for {
		i := bytes.IndexByte(a.rest, '\n')
		if i < 0 {
			return len(data), nil
		}
		if _, err := a.to.Write(a.alter(a.rest[:i+1])); err != nil {
			return 0, err
		}
		a.rest = a.rest[i+1:]
	}
}

// jumping sets a program's clock back by an hour after a second.
func jumping() func([]byte) []byte {
	stamp := regexp.MustCompile(`^\{"t":([0-9.]+)`)
	return func(line []byte) []byte {
		m := stamp.FindSubmatch(line)
		if m == nil {
			return line
		}
		t, _ := strconv.ParseFloat(string(m[1]), 64)
		if t += 7200; t > 7201 {
			t -= 3600
		}
		return append(fmt.Appendf(nil, `{"t":%.6f`, t), line[len(m[0]):]...)
	}
}
