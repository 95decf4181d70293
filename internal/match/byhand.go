package match

import (
	"context"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/lines"
	"zitherwheel/internal/plan"
)

// A player that somebody plays by hand has its place in the match and on the wire, and no process that
// this program starts: a stand-in takes the place of one, so that all else is as it is for bots.

// StandInName is the command by which this program is such a stand-in.
const StandInName = "stand-in"

// StandIn hands on what is written into a file as it grows, until ctx is done. Without a file it only
// stays.
func StandIn(ctx context.Context, path string, out io.Writer) error {
	if path == "" {
		<-ctx.Done()
		return nil
	}
	tail := lines.Follow(path)
	defer tail.Close()
	for ctx.Err() == nil {
		var failed error
		if err := tail.ReadAll(func(line []byte, _ bool) {
			_, failed = fmt.Fprintf(out, "%s\n", line)
		}); err != nil || failed != nil {
			return err // nobody listens any more if it is the other
		}
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// handed is a player who is played by hand.
type handed struct {
	port   uint16       // where the relay is to listen for it; 0 is any
	client plan.Program // that its player starts
	lines  string       // the file that its trace lines are written to, or ""
}

// byHand lets somebody play a bot by hand: a stand-in instead of its client, and nothing that drives it.
func (m *buildMatch) byHand(b plan.Bot, port uint16) (*handed, *plan.Program, plan.Bot, error) {
	h := &handed{port: port, client: m.build.Client}
	stand := plan.Program{Run: []string{m.values["zwheel"], StandInName}, Trace: h.client.Trace, Drive: plan.NoDrive, Ready: plan.Ready{Within: 24 * time.Hour}, Stop: h.client.Stop}
	if h.client.Trace == plan.OutputTrace {
		if m.options.Folder == "" {
			return nil, nil, b, fmt.Errorf("%s is played by hand and its client prints its trace lines, so a run folder is needed to take them", b.Name)
		}
		path, err := filepath.Abs(filepath.Join(m.options.Folder, b.Name+"-by-hand.jsonl"))
		if err != nil {
			return nil, nil, b, err
		}
		h.lines = path
		stand.Run = append(stand.Run, path)
	}
	joins := slices.IndexFunc(b.Steps, func(s bot.Step) bool { return s.Do == bot.Join || s.Do == bot.Rejoin })
	b.Steps = []bot.Step{b.Steps[max(0, joins)], {Do: bot.Idle}}
	return h, &stand, b, nil
}

// invite tells how to play a player by hand.
func (p *participant) invite(values map[string]string) {
	h := p.hand
	var words []string
	for _, word := range h.client.Run {
		word = plan.Fill(word, values)
		if word == "" || strings.ContainsAny(word, " \"'$") {
			word = "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
		}
		words = append(words, word)
	}
	env := "ZWHEEL_SERVER=" + net.JoinHostPort(values["host"], values["port"]) + " ZWHEEL_NAME=" + p.name
	then := ""
	switch {
	case h.lines != "":
		then = " > " + h.lines
	case h.client.Trace == plan.SocketTrace:
		env += " ZWHEEL_TRACE=" + values["trace"]
	}
	p.match.tell("play %s by hand: its client connects to %s. In %s:\n           %s %s%s", p.name, strings.Join(p.at, ", "), p.match.build.Folder, env, strings.Join(words, " "), then)
}
