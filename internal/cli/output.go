package cli

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"

	"zitherwheel/internal/output/sanitize"
)

// output is where a command prints. What steers a terminal is shown as text, and the
// first error is kept: a verdict that nobody could read is no success.
type output struct {
	*sanitize.Writer
	file    *os.File // nil if it is none
	colours bool
	closed  func() // is told that nobody reads any more; may be nil
}

func newOutput(w io.Writer, closed func()) *output {
	file, _ := w.(*os.File)
	colours := file != nil && isTerminal(file) && colorprofile.Detect(file, os.Environ()) >= colorprofile.ANSI && drawsColours(file)
	return &output{sanitize.NewWriter(w, colours), file, colours, closed}
}

// Colours reports whether what is printed may be coloured: on a terminal that does so,
// unless NO_COLOR says otherwise.
func (o *output) Colours() bool { return o.colours }

func (o *output) Write(data []byte) (int, error) {
	n, err := o.Writer.Write(data)
	if o.gone() && o.closed != nil {
		o.closed()
	}
	return n, err
}

// gone reports whether nobody reads any more, which is no error: whoever reads a few
// lines only has read them.
func (o *output) gone() bool { return errors.Is(o.Err(), syscall.EPIPE) }

// failure is what went wrong with writing, if that is an error.
func (o *output) failure() error {
	if o.gone() {
		return nil
	}
	return o.Err()
}

// Fd, Read and Close let the libraries that draw ask whether this is a terminal.

func (o *output) Fd() uintptr {
	if o.file == nil {
		return ^uintptr(0)
	}
	return o.file.Fd()
}

func (o *output) Read(data []byte) (int, error) {
	if o.file == nil {
		return 0, io.EOF
	}
	return o.file.Read(data)
}

// Close does nothing: the program's outputs stay open.
func (o *output) Close() error { return nil }

// terminal returns the terminal that a command prints to, or nil if it is none.
func terminal(w io.Writer) *os.File {
	if o, ok := w.(*output); ok && o.file != nil && isTerminal(o.file) {
		return o.file
	}
	return nil
}

func isTerminal(f *os.File) bool { return isatty.IsTerminal(f.Fd()) }

// sameSignal is how long after the first signal to stop another one is taken for it.
const sameSignal = 200 * time.Millisecond

// interruptible returns a context that ends with the first signal to stop, or when stop
// is called; the second signal ends the program at once.
func interruptible() (ctx context.Context, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	// Without this a closed pipe would kill the program, with its run folder unfinished.
	// It must not be ignored either: the programs under test would ignore it too.
	pipe := make(chan os.Signal, 1)
	signal.Notify(pipe, syscall.SIGPIPE)
	go func() {
		<-signals
		cancel()
		for first := time.Now(); ; { // what comes at the same moment is the same: from a terminal, and from who handed it on
			<-signals
			if time.Since(first) > sameSignal {
				os.Exit(exitInterrupted)
			}
		}
	}()
	return ctx, cancel
}

// printJSON prints a result as JSON.
func printJSON(c *cobra.Command, v any) error {
	e := json.NewEncoder(c.OutOrStdout())
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return failed(err)
	}
	return nil
}
