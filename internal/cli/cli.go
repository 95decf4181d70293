// Package cli is the command line: flags, printing and exit codes. It computes
// nothing.
package cli

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"zitherwheel/internal/match"
	"zitherwheel/internal/verdict/judge"
)

// The exit codes.
const (
	exitInSync      = 0
	exitOutOfSync   = 1
	exitUsage       = 2 // the call or the plan is wrong
	exitFailed      = 3 // the run could not be carried out, or compared nothing
	exitInterrupted = 130
)

// exit is an error that ends the program with a code. Without an err, what
// there is to say has been said.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}
func failed(err error) error {
	if errors.Is(err, match.ErrRecorded) { // nothing failed: it was asked of the wrong folder
		return &exitError{exitUsage, err}
	}
	return &exitError{exitFailed, err}
}

// quiet ends the program with a code and no message.
func quiet(code int) error {
	if code == exitInSync {
		return nil
	}
	return &exitError{code, nil}
}

// Main runs the program and returns its exit code.
func Main(args []string, out, messages io.Writer) int {
	ctx, stop := interruptible()
	defer stop()
	stdout, stderr := newOutput(out, stop), newOutput(messages, stop)
	root := &cobra.Command{
		Use:   "zwheel",
		Short: "Play networked matches with bots on bad links, and name every desync",
		Long: `zwheel plays a networked game with headless bots on links with latency, jitter
and loss, records the state that the server and every client hold, and reports each
desync: which client, which entity and field, from when to when, by how much, what
kind it is, and what was on the wire just before.

Exit codes: 0 in sync; 1 out of sync; 2 wrong usage or invalid plan; 3 inconclusive: the
match was cut short or a client was not compared; 130 interrupted.`,
		Example:       "  zwheel demo",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%s; see %s --help", flagError(c, err), c.CommandPath())
	})
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"begin", "Begin", []*cobra.Command{demoCommand(), planCommand(), preflightCommand(), learnCommand()}},
		{"play", "Play and judge", []*cobra.Command{runCommand(), checkCommand(), tailCommand(), relayCommand()}},
		{"look", "Look", []*cobra.Command{showCommand(), logsCommand(), reportCommand()}},
		{"rare", "Rare failures", []*cobra.Command{huntCommand(), replayCommand(), whyCommand(), shrinkCommand()}},
		{"measure", "Measure", []*cobra.Command{sweepCommand(), compareCommand(), costCommand()}},
		{"others", "On other machines", []*cobra.Command{hubCommand(), workerCommand(), campaignCommand()}},
		{"set-up", "Set up", []*cobra.Command{machineCommand(), linksCommand(), manCommand(), versionCommand(), guardCommand(), standInCommand()}},
		{"itself", "The demo game, and this tool itself", []*cobra.Command{faultsCommand(), demoPrograms(), selftestCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title + ":"})
		for _, c := range g.commands {
			c.GroupID = g.id
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("set-up")
	root.SetCompletionCommandGroupID("set-up")
	root.Version = "is set so that there is --version"
	root.SetVersionTemplate(versionText())
	root.InitDefaultCompletionCmd(args...)
	explainArguments(root)
	if completion, _, err := root.Find([]string{"completion"}); err == nil {
		completion.Args, completion.RunE = nil, func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("completion %s: there are bash, fish, powershell and zsh", join(args))
			}
			return c.Help()
		}
	}
	err := root.ExecuteContext(ctx)
	code := exitInSync
	if err != nil {
		var e *exitError
		if !errors.As(err, &e) { // cobra's own: an unknown command, a wrong number of arguments
			e = &exitError{exitUsage, fmt.Errorf("%w; see zwheel --help", err)}
		}
		if e.err != nil {
			fmt.Fprintf(stderr, "zwheel: %s\n", e.err)
		}
		if code = e.code; code == exitUsage {
			if hint := lacking(e.err); hint != "" { // neither the call nor the plan is wrong
				fmt.Fprintf(stderr, "zwheel: %s\n", hint)
				code = exitFailed
			}
		}
	}
	if err := stdout.failure(); err != nil {
		fmt.Fprintf(stderr, "zwheel: what there was to say could not be written: %s\n", err)
		return exitFailed
	}
	return code
}

// lacking says what this machine has not enough of, if an error is of that.
func lacking(err error) string {
	switch {
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return "no more files can be opened: this user may have more (ulimit -n), or fewer matches are to be played at once"
	case errors.Is(err, syscall.ENOMEM):
		return "this machine has no memory left: fewer matches are to be played at once, or other programs ended"
	case errors.Is(err, syscall.ENOSPC):
		return "there is no room left where this is written"
	}
	return ""
}

var invalidFlag = regexp.MustCompile(`^invalid argument "(.*)" for "(?:-., )?--([a-z-]+)" flag: `)

// flagError says what is wrong with a flag in words of the command line, not of the
// language that the program is written in.
func flagError(c *cobra.Command, err error) string {
	m := invalidFlag.FindStringSubmatch(err.Error())
	if m == nil {
		return err.Error()
	}
	wants := "another value"
	if f := c.Flags().Lookup(m[2]); f != nil {
		switch f.Value.Type() {
		case "uint64":
			wants = "a whole number from 0 up"
		case "int":
			wants = "a whole number"
		case "float64":
			wants = "a number, like 0.05"
		case "duration":
			wants = "a time span with its unit, like 10m or 1.5s"
		case "bool":
			wants = "true or false"
		}
	}
	return fmt.Sprintf("--%s %s: write %s", m[2], m[1], wants)
}

// explainArguments lets every command say what it is to be called with, when it is
// called with something else.
func explainArguments(c *cobra.Command) {
	for _, sub := range c.Commands() {
		explainArguments(sub)
		fits := sub.Args
		if fits == nil {
			continue
		}
		sub.Args = func(c *cobra.Command, args []string) error {
			if fits(c, args) == nil {
				return nil
			}
			called := "nothing"
			if len(args) > 0 {
				called = strings.Join(args, " ")
			}
			text := fmt.Sprintf("%s was given %s; write %s, see %s --help", c.CommandPath(), called, c.UseLine(), c.CommandPath())
			if c.Example != "" {
				text += "; for example:\n" + c.Example
			}
			return usage("%s", text)
		}
	}
}

// codeOf is the exit code of a verdict.
func codeOf(o judge.Outcome) int {
	switch {
	case o.Passed():
		return exitInSync
	case o == judge.OutOfSync:
		return exitOutOfSync
	}
	return exitFailed
}

func join(list []string) string { return strings.Join(list, ", ") }
