package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"zitherwheel/internal/output/page"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/output/sanitize"
	"zitherwheel/internal/review/inspect"
	"zitherwheel/internal/review/live"
	"zitherwheel/internal/run"
	"zitherwheel/internal/trace"
)

// lookLive lets somebody look at a match while it goes on: on a terminal, as a page, or as what is
// printed each second.
func lookLive(c *cobra.Command, path string, entities []string, asPage, plain, asJSON bool) error {
	traces, p, err := followed(path)
	if err != nil {
		return err
	}
	names := trace.NewNames()
	names.Most = p.MaxEntities
	var views []string
	for _, s := range traces.Sources {
		views = append(views, s.View)
	}
	l := inspect.NewLive(inspect.LiveTraces{Names: names, Views: views, Rules: traces.Rules, Setting: traces.Setting(), Outcomes: traces.Packets != ""})
	traces.Names, traces.Observer, traces.Alert = names, l, l.Alert
	ctx, cancel := context.WithCancel(c.Context())
	defer cancel()
	followed := make(chan error, 1)
	go func() {
		_, err := live.Run(ctx, traces)
		how := "it was left"
		if err != nil {
			how = err.Error()
		} else if folder, err := run.Open(path); err == nil {
			how = string(folder.About.How)
		} else {
			how = "its folder is gone"
		}
		l.End(how)
		followed <- err
	}()
	switch {
	case asPage:
		err = servePage(ctx, c, l, path, entities)
	case terminal(c.OutOrStdout()) != nil && isTerminal(os.Stdin) && !plain && !asJSON:
		model := &inspector{live: l, pinned: entities, shown: report.Inspector{Title: path, Following: len(entities) == 0}}
		_, err = tea.NewProgram(model, tea.WithContext(ctx), tea.WithOutput(terminal(c.OutOrStdout()))).Run()
	default:
		err = printMoments(ctx, c.OutOrStdout(), l, entities, asJSON)
	}
	cancel()
	if ended := <-followed; err == nil && ended != nil {
		return failed(ended)
	}
	return err
}

// printMoments prints how the match stands, each second until it ends.
func printMoments(ctx context.Context, w io.Writer, l *inspect.Live, entities []string, asJSON bool) error {
	text, told := report.NewText(w), 0
	for {
		m := l.Ask(inspect.Query{Entities: entities})
		if asJSON {
			line, err := json.Marshal(m)
			if err != nil {
				return err
			}
			fmt.Fprintln(w, string(line))
		} else {
			for _, s := range m.Sheets {
				text.Sheet(s)
			}
			for ; told < len(m.Found); told++ {
				fmt.Fprintln(w, report.AlertLine(m.Found[told].Alert()))
			}
		}
		if m.Ended != "" {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Second):
		}
	}
}

// servePage serves the inspector as a page on this machine alone, until it is interrupted.
func servePage(ctx context.Context, c *cobra.Command, l *inspect.Live, title string, entities []string) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return failed(err)
	}
	fmt.Fprintf(c.OutOrStdout(), "Open http://%s in a browser on this machine; ctrl-c ends it.\n", listener.Addr())
	server := &http.Server{Handler: page.Inspector(l, title, entities), ReadHeaderTimeout: 5 * time.Second}
	go func() {
		<-ctx.Done()
		_ = server.Close() // whoever looks is looking no more
	}()
	if err := server.Serve(listener); err != nil && ctx.Err() == nil {
		return failed(err)
	}
	return nil
}

// inspector is a match that is looked at on a terminal while it goes on.
type inspector struct {
	live   *inspect.Live
	pinned []string // shown whatever is selected
	shown  report.Inspector
	at     time.Duration // where it is frozen
	seen   int           // findings that were followed
}

// looked is that it is time to look again.
type looked struct{}

func lookAgain() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(time.Time) tea.Msg { return looked{} })
}

func (i *inspector) Init() tea.Cmd {
	i.look()
	return lookAgain()
}

func (i *inspector) Update(message tea.Msg) (tea.Model, tea.Cmd) {
	switch m := message.(type) {
	case tea.WindowSizeMsg:
		i.shown.Width, i.shown.Height = m.Width, m.Height
	case looked:
		i.look()
		return i, lookAgain()
	case tea.KeyPressMsg:
		if i.key(m) {
			return i, tea.Quit
		}
		i.look()
	}
	return i, nil
}

// key does what a key is for, and reports whether that is to quit.
func (i *inspector) key(m tea.KeyPressMsg) (quit bool) {
	if i.shown.Typing {
		switch key := m.String(); key {
		case "enter":
			i.shown.Typing = false
		case "esc":
			i.shown.Typing, i.shown.Filter = false, ""
		case "backspace":
			if letters := []rune(i.shown.Filter); len(letters) > 0 {
				i.shown.Filter = string(letters[:len(letters)-1])
			}
		case "ctrl+c":
			return true
		default:
			i.shown.Filter += m.Text
		}
		i.shown.Selected = 0
		return false
	}
	step := map[string]time.Duration{"left": -50 * time.Millisecond, "right": 50 * time.Millisecond, "h": -50 * time.Millisecond, "l": 50 * time.Millisecond,
		"shift+left": -time.Second, "shift+right": time.Second, "H": -time.Second, "L": time.Second}
	for _, key := range keysOf(m) {
		switch {
		case step[key] != 0:
			i.shown.Following = false
			i.freeze(time.Duration(i.shown.Moment.At) + step[key])
		case key == "q", key == "ctrl+c", key == "esc":
			return true
		case key == "up", key == "k":
			i.choose(-1)
		case key == "down", key == "j":
			i.choose(1)
		case key == "space", key == " ":
			if i.shown.Frozen {
				i.shown.Frozen = false
			} else {
				i.freeze(time.Duration(i.shown.Moment.At))
			}
		case key == "f":
			i.shown.Following, i.seen = !i.shown.Following, len(i.shown.Moment.Found)
		case key == "/":
			i.shown.Typing = true
		case key == "p":
			i.pin()
		}
	}
	return false
}

func (i *inspector) freeze(at time.Duration) { i.shown.Frozen, i.at = true, max(0, at) }

func (i *inspector) choose(by int) {
	i.shown.Following = false
	i.shown.Selected = min(max(0, i.shown.Selected+by), max(0, len(i.shown.Moment.Entities)-1))
}

// pin keeps the selected entity in sight, or lets it go.
func (i *inspector) pin() {
	name := i.selected()
	if k := slices.Index(i.pinned, name); k >= 0 {
		i.pinned = slices.Delete(i.pinned, k, k+1)
	} else if name != "" {
		i.pinned = append(i.pinned, name)
	}
}

func (i *inspector) selected() string {
	if all := i.shown.Moment.Entities; i.shown.Selected < len(all) {
		return all[i.shown.Selected].Entity
	}
	return ""
}

// look asks how things stand, and goes to a new finding where that is wanted.
func (i *inspector) look() {
	q := inspect.Query{Entities: slices.Clone(i.pinned), Filter: i.shown.Filter}
	if name := i.selected(); name != "" && !slices.Contains(q.Entities, name) {
		q.Entities = append(q.Entities, name)
	}
	if i.shown.Frozen {
		q.At = &i.at
	}
	was := i.selected()
	i.shown.Moment = i.live.Ask(q)
	i.shown.Selected = max(0, slices.IndexFunc(i.shown.Moment.Entities, func(e inspect.Listed) bool { return e.Entity == was }))
	if found := i.shown.Moment.Found; i.shown.Following && len(found) > i.seen {
		f := found[i.seen]
		i.seen = len(found) // those that came with it are in the list below
		if k := slices.IndexFunc(i.shown.Moment.Entities, func(e inspect.Listed) bool { return e.Entity == f.Entity }); k >= 0 {
			i.shown.Selected = k
			i.freeze(time.Duration(f.Began))
		}
	}
}

func (i *inspector) View() tea.View {
	v := tea.NewView(sanitize.Screen(i.shown.String()))
	v.AltScreen = true
	return v
}
