//go:build linux || darwin

package match_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/trace"
)

// Pebbles is a game with other habits than the demo game's: every player owns a pebble
// that rolls by itself, everything is JSON, and nobody reads control lines. Its words say
// what else is peculiar:
//
//	pair      the match begins when there are two
//	alone     clients show nothing but their own
//	watcher   the client whose name is owl only watches
//	picky     the server dies of what is no JSON
//	NAME:END  after two seconds that client, or the server, ends so: see ends. Or, from the beginning, it is
//	          bypass    not on its link
//	          refused   not let in, and told so
func pebbles(role, address string, words ...string) {
	peculiar := strings.Split(os.Getenv("PEBBLES"), " ")
	is := func(word string) bool {
		for _, w := range peculiar {
			if w == word {
				return true
			}
		}
		return false
	}
	began := time.Now()
	tell := func(format string, args ...any) {
		fmt.Printf(`{"t":%.6f,%s}`+"\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
	}
	to, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		panic(err)
	}
	if role == "serve" {
		conn, err := net.ListenUDP("udp", to)
		if err != nil {
			panic(err)
		}
		if note := os.Getenv("PEBBLES_NOTE"); note != "" {
			if err := os.WriteFile(note, []byte(address), 0o600); err != nil {
				panic(err)
			}
		}
		pebbleServer(conn, is, tell, ends("server", peculiar, tell))
	}
	if is(words[0] + ":bypass") {
		text, err := os.ReadFile(os.Getenv("PEBBLES_NOTE"))
		if err != nil {
			panic(err)
		}
		if to, err = net.ResolveUDPAddr("udp", string(text)); err != nil {
			panic(err)
		}
	}
	conn, err := net.DialUDP("udp", nil, to)
	if err != nil {
		panic(err)
	}
	pebbleClient(conn, words[0], is, tell, ends(words[0], peculiar, tell))
}

// ends is what a program asks before all that it does: it may end there, or is to be still from then on.
func ends(name string, peculiar []string, tell func(string, ...any)) (still func() bool) {
	began, end := time.Now(), ""
	for _, word := range peculiar {
		if of, what, _ := strings.Cut(word, ":"); of == name {
			end = what
		}
	}
	var once sync.Once
	return func() bool {
		if time.Since(began) < 2*time.Second {
			return false
		}
		switch end {
		case "quits":
			os.Exit(0)
		case "fails":
			os.Exit(3)
		case "killed":
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		case "cut":
			once.Do(func() { os.Stdout.Close() })
		case "departs":
			once.Do(func() { tell(`"left":%q`, name) })
			return true
		case "silent":
			return true
		}
		return false
	}
}

type pebble struct {
	Name   string
	X      float64
	Watch  bool
	heard  time.Time
	from   *net.UDPAddr
	joined bool
}

func pebbleServer(conn *net.UDPConn, is func(string) bool, tell func(string, ...any), still func() bool) {
	players := []*pebble{}
	buffer := make([]byte, 1500)
	for next := time.Now(); ; {
		_ = conn.SetReadDeadline(next)
		n, from, err := conn.ReadFromUDP(buffer)
		if still() {
			next = time.Now().Add(time.Second)
			continue
		}
		if err == nil {
			var hello pebble
			if err := json.Unmarshal(buffer[:n], &hello); err != nil {
				if is("picky") {
					panic(err)
				}
				continue
			}
			if is(hello.Name + ":refused") {
				if _, err := conn.WriteToUDP([]byte("full"), from); err == nil {
					tell(`"refused":%q`, hello.Name)
				}
				continue
			}
			known := false
			for _, p := range players {
				if p.Name == hello.Name {
					known, p.heard, p.from = true, time.Now(), from
				}
			}
			if !known {
				players = append(players, &pebble{Name: hello.Name, Watch: is("watcher") && hello.Name == "owl", heard: time.Now(), from: from})
			}
			continue
		}
		next = next.Add(50 * time.Millisecond)
		playing := 0
		for i := 0; i < len(players); i++ {
			if p := players[i]; time.Since(p.heard) > time.Second {
				if p.joined {
					tell(`"left":%q,"despawned":["pebble/%s"]`, p.Name, p.Name)
				}
				players = append(players[:i], players[i+1:]...)
				i--
			} else if !p.Watch {
				playing++
			}
		}
		if is("pair") && playing < 2 && !anyJoined(players) {
			continue
		}
		for _, p := range players {
			if p.Watch {
				continue
			}
			if !p.joined {
				p.joined = true
				tell(`"joined":%q,"entity":"pebble/%s"`, p.Name, p.Name)
			}
			p.X += 0.1
			tell(`"state":{"pebble/%s":{"x":%.3f,"y":0}}`, p.Name, p.X)
		}
		snapshot, err := json.Marshal(players)
		if err != nil {
			panic(err)
		}
		for _, p := range players {
			_, _ = conn.WriteToUDP(snapshot, p.from)
		}
	}
}

func anyJoined(players []*pebble) bool {
	for _, p := range players {
		if p.joined {
			return true
		}
	}
	return false
}

func pebbleClient(conn *net.UDPConn, name string, is func(string) bool, tell func(string, ...any), still func() bool) {
	go func() {
		for {
			if still() {
				select {}
			}
			fmt.Fprintf(conn, `{"Name":%q}`, name)
			time.Sleep(100 * time.Millisecond)
		}
	}()
	buffer := make([]byte, 64<<10)
	in := false
	for {
		n, err := conn.Read(buffer)
		if err != nil {
			continue // the server is not there yet
		}
		if still() {
			continue
		}
		if string(buffer[:n]) == "full" {
			tell(`"refused":%q`, name)
			continue
		}
		var players []pebble
		if err := json.Unmarshal(buffer[:n], &players); err != nil {
			panic(err)
		}
		if !in {
			in = true
			if is("watcher") && name == "owl" {
				tell(`"joined":%q`, name)
			} else {
				tell(`"joined":%q,"entity":"pebble/%s"`, name, name)
			}
		}
		var shown []string
		for _, p := range players {
			if !p.Watch && (p.Name == name || !is("alone")) {
				shown = append(shown, fmt.Sprintf(`"pebble/%s":{"x":%.3f,"y":0}`, p.Name, p.X))
			}
		}
		tell(`"full":true,"state":{%s}`, strings.Join(shown, ","))
	}
}

// pebblesPlan is a plan of the game with what is peculiar.
func pebblesPlan(t *testing.T, peculiar, bots, of string) *plan.Plan {
	self, err := os.Executable()
	require.NoError(t, err)
	return parse(t, fmt.Sprintf(`
title: pebbles
duration: 3s
clock: wall
game: {name: pebbles}
build:
  env: {PEBBLES: %q}
  server: {run: [%q, pebbles, serve, "{host}:{port}"], ready: {after: 200ms}}
  client: {run: [%q, pebbles, play, "{host}:{port}", "{name}"], drive: none, stop: {within: 300ms}}
bots: %s
watch:
  - {entities: pebble/*, of: %s, fields: [x, y], compare: distance, tolerance: 0.3, max-delay: 400ms}
`, peculiar, self, self, bots, of))
}

func TestOrdinaryKindsOfGamePassPreflightAndPlay(t *testing.T) {
	notSlowed(t)
	for _, c := range []struct {
		name, peculiar, bots, of string
		skipped                  []string
	}{
		{"a match that begins with the second player", "pair", "[{name: elm, link: village}, {name: fir, link: village}]", "any",
			[]string{"elm: it is in the match alone", "elm: its inputs arrive", "elm: its inputs move only its own"}},
		{"clients that do not show others", "alone", "[{name: elm}, {name: fir}]", "own",
			[]string{"elm: its inputs arrive", "fir and elm see each other", "elm: its inputs move only its own"}},
		{"a spectator", "watcher", "[{name: elm}, {name: owl}]", "any",
			[]string{"elm: its inputs arrive", "elm: its inputs move only its own", "owl: when it leaves, it is gone everywhere"}},
		{"a server that dies of what is no JSON", "picky", "[{name: elm, link: village}, {name: fir, link: village}]", "any",
			[]string{"elm: its inputs arrive", "elm: its inputs move only its own"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := pebblesPlan(t, c.peculiar, c.bots, c.of)
			var wrong, skipped []string
			ok, err := match.Preflight(context.Background(), p, match.Options{}, func(s match.Step) {
				if s.Error != "" {
					wrong = append(wrong, s.Name+": "+s.Error)
				}
				if s.Skipped {
					skipped = append(skipped, s.Name)
				}
			})
			require.NoError(t, err)
			assert.True(t, ok)
			assert.Empty(t, wrong)
			assert.Equal(t, c.skipped, skipped)
			folder := filepath.Join(t.TempDir(), "run")
			r, err := match.Run(context.Background(), p, match.Options{Folder: folder, Guard: []string{"guard"}})
			require.NoError(t, err)
			assert.Empty(t, whys(r.Verdict))
			agreed(t, r)
			// Nobody drives these clients, so nothing is said of what their players do.
			file, err := trace.Open(filepath.Join(folder, "views", "elm.jsonl.zst"))
			require.NoError(t, err)
			told, err := io.ReadAll(file)
			require.NoError(t, errors.Join(err, file.Close()))
			assert.NotContains(t, string(told), `"input"`)
		})
	}
}
