package process

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
)

// markerName is the variable in the environment of every process of a run by which
// those are found that have gone out of their group.
const markerName = "ZWHEEL_RUN_MARK"

// Guard sees to it that nothing is left running when this program is killed: a
// process of its own that hears of every process that is started, and ends them
// all when it hears no more. On Windows job objects do that, and it has nothing to
// do.
type Guard struct {
	marker  string
	mu      sync.Mutex
	input   io.WriteCloser
	command *exec.Cmd
}

// NewGuard starts a guard of the processes that have that mark: this program again, with args, which must call
// [RunGuard]. Without args the guard only ends what is left at Close.
func NewGuard(mark string, args ...string) (*Guard, error) {
	enclose()
	g := &Guard{marker: mark}
	if len(args) == 0 {
		return g, nil
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("guard: %w", err)
	}
	g.command = exec.Command(self, append(args, g.marker)...)
	if g.input, err = g.command.StdinPipe(); err != nil {
		return nil, fmt.Errorf("guard: %w", err)
	}
	detach(g.command)
	if err := g.command.Start(); err != nil {
		return nil, fmt.Errorf("guard: %w", err)
	}
	return g, nil
}

func (g *Guard) tell(word string, pid int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.input != nil {
		fmt.Fprintln(g.input, word, pid)
	}
}

// Watch has a process and its group ended when this program is killed, until Forget.
func (g *Guard) Watch(pid int) { g.tell("watch", pid) }

// Forget forgets one that has ended.
func (g *Guard) Forget(pid int) { g.tell("forget", pid) }

// Close ends what is left of the run's processes and the guard itself. It returns
// how many processes had got away from those that started them.
func (g *Guard) Close() (strays int) {
	strays = killMarked(g.marker)
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.command != nil {
		fmt.Fprintln(g.input, "end 0")
		g.input.Close()
		_ = g.command.Wait() // its end is all that is wanted of it
		g.input = nil
	}
	return strays
}

// RunGuard is the guard's process: it reads what is told and, when that ends
// without an end, kills every process that is not forgotten and all that bear the
// marker.
func RunGuard(told io.Reader, marker string) {
	groups := map[int]bool{}
	lines := bufio.NewScanner(told)
	for lines.Scan() {
		word, number, _ := strings.Cut(lines.Text(), " ")
		pid, err := strconv.Atoi(number)
		switch {
		case err != nil:
		case word == "watch":
			groups[pid] = true
		case word == "forget":
			delete(groups, pid)
		case word == "end":
			return
		}
	}
	for group := range groups {
		killGroup(group)
	}
	killMarked(marker)
}
