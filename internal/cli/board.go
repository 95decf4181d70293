package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"zitherwheel/internal/match"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/output/sanitize"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/verdict/judge"
)

// watched plays a match while it is shown: on a terminal as a board, elsewhere as a
// line for each thing that happens.
func watched(c *cobra.Command, p *plan.Plan, options match.Options, label string) (*match.Result, error) {
	messages := c.ErrOrStderr()
	file := terminal(messages)
	lasts := p.Clock == plan.Wall || p.Duration >= worthABoard
	if file == nil || !isTerminal(os.Stdin) || !lasts || label != "" || len(options.ByHand) > 0 {
		options.Tell = func(text string) { fmt.Fprintln(messages, label+text) }
		if p.Clock == plan.Wall || options.StopAtFirst {
			options.Alert = quietAfter(alertsTold, func(text string) { fmt.Fprintln(messages, label+text) })
		}
		return match.Run(c.Context(), p, options)
	}
	ctx, cancel := context.WithCancel(c.Context())
	defer cancel()
	b := &board{cancel: cancel, board: report.Board{Title: fmt.Sprintf("%s: seed %d", p.Title, p.Seed), Began: time.Now()}}
	b.board.Progress.Length = p.Duration
	program := tea.NewProgram(b, tea.WithOutput(file), tea.WithContext(c.Context()))
	options.Progress = func(p match.Progress) { program.Send(p) }
	options.Alert = func(a judge.Alert) { program.Send(a) }
	var result *match.Result
	var err error
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		result, err = match.Run(ctx, p, options)
		program.Send(done{})
	}()
	_, failure := program.Run()
	if failure != nil {
		cancel() // no board, no match: unless both are ended from outside
	}
	<-finished
	if failure != nil && err == nil && c.Context().Err() == nil {
		return nil, failure
	}
	return result, err
}

const (
	worthABoard = 5 * time.Minute // of virtual time; less is over at once
	alertsTold  = 20              // one by one
)

// quietAfter tells so many alerts, and then that there are more.
func quietAfter(n int, tell func(string)) func(judge.Alert) {
	told := 0
	return func(a judge.Alert) {
		switch told++; {
		case told <= n:
			tell(report.AlertLine(a))
		case told == n+1:
			tell("          ... and more; the verdict has them all")
		}
	}
}

// board is a match on a terminal.
type board struct {
	board  report.Board
	cancel func()
}

type done struct{}

func (b *board) Init() tea.Cmd { return nil }

func (b *board) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	switch m := message.(type) {
	case match.Progress:
		b.board.Progress = m
	case judge.Alert:
		b.board.Alerts = append(b.board.Alerts, m)
	case done:
		return b, tea.Quit
	case tea.KeyPressMsg:
		if key := m.String(); key == "ctrl+c" || key == "q" {
			b.cancel()
		}
	}
	return b, nil
}

func (b *board) View() tea.View {
	return tea.NewView(sanitize.Screen(b.board.String()) + "\n  q ends the match; what was played is judged\n")
}
