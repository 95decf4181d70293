package plan

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"zitherwheel/internal/bot"
	"zitherwheel/internal/game"
	"zitherwheel/internal/verdict/rulebook"
)

// Load reads a plan from a file.
func Load(path string) (*Plan, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, text)
}

// Parse reads a plan. file is its name in messages; errors about the contents
// are of type *Error.
func Parse(file string, text []byte) (*Plan, error) {
	p := Defaults()
	if err := readDocument(file, text, "the plan", p.keys(), p.check); err != nil {
		return nil, err
	}
	err := errors.Join(p.complete(), p.completeBuild(file))
	p.file = file
	if err == nil {
		err = p.checkDraw()
	}
	if err := placed(file, err); err != nil {
		return nil, err
	}
	return &p, nil
}

// start is where the text of a node begins.
func start(n ast.Node) (at struct{ Line, Column int }) {
	token := n.GetToken()
	switch v := n.(type) {
	case *ast.MappingNode:
		if !v.IsFlowStyle && len(v.Values) > 0 {
			token = v.Values[0].Key.GetToken()
		}
	case *ast.MappingValueNode:
		token = v.Key.GetToken()
	}
	at.Line, at.Column = token.Position.Line, token.Position.Column
	return at
}

// YAML writes the plan with everything that was filled in. Parse reads the same
// plan from it.
func (p *Plan) YAML() ([]byte, error) {
	return yaml.MarshalWithOptions(writeObject(p.keys()), yaml.IndentSequence(true))
}

// SeenFrom is the plan for a file in a folder: where the build is, is told from there, so
// that both may be moved together.
func (p *Plan) SeenFrom(folder string) *Plan {
	q := *p
	from, err := filepath.Abs(folder)
	if err != nil || !p.Build.Given() || !filepath.IsAbs(p.Build.Folder) {
		return &q
	}
	if to, err := filepath.Rel(from, p.Build.Folder); err == nil { // on another drive it stays as it is
		q.Build.Folder = filepath.ToSlash(to)
	}
	return &q
}

func (p *Plan) keys() []key {
	return append([]key{
		textKey("title", &p.Title),
		seedKey("seed", &p.Seed),
		durationKey("duration", &p.Duration),
		wordKey("clock", &p.Clock, []string{Virtual, Wall, Recorded}),
		nestedKey("game", []key{
			textKey("name", &p.Game.Name),
			wholeKey("population", &p.Game.Population, 0, 100),
			optional(wholeKey("max-players", &p.Game.MaxPlayers, 0, mostBots), &p.Game.MaxPlayers),
			numberKey("interest-radius", &p.Game.InterestRadius),
			textKey("host", &p.Game.Host),
			nestedKey("rates", []key{
				wholeKey("tick", &p.Game.Tick, 1, 240),
				wholeKey("send", &p.Game.Send, 1, 240),
				wholeKey("fps", &p.Game.FPS, 1, 240),
				wholeKey("report", &p.Game.Report, 1, 240),
			}),
			p.faultsKey(),
		}),
		p.buildKey(),
		textKey("reference", &p.Reference),
		wordKey("align", &p.Align, []string{"shared", Tick, "estimated"}),
		flagKey("strict", &p.Strict),
		wholeKey("max-entities", &p.MaxEntities, 1, 10_000_000),
		{name: "links", schema: linksSchema(), read: p.readLinks, write: p.writeLinks},
		{name: "bots", schema: p.botsSchema(), read: p.readBots, write: p.writeBots},
		p.drawKey(),
	}, rulesKeys(&p.Rules)...)
}

// faultsKey reads the faults to inject. Those of the demo game must be known.
func (p *Plan) faultsKey() key {
	k := wordsKey("faults", &p.Game.Faults)
	read := k.read
	k.read = func(n ast.Node) error {
		p.checks = append(p.checks, func() error {
			played, known := p.Game.Played()
			if !known {
				return nil
			}
			if err := game.CheckFaults(played, p.Game.Faults); err != nil {
				return wrong(n, "faults: %s", err)
			}
			return nil
		})
		return read(n)
	}
	return k
}

const mostBots = 200

var botName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,31}$`)

// kept are words that cannot name a bot: those with a meaning of their own in plans, and
// the devices of Windows, where no file can be called so.
var kept = regexp.MustCompile(`(?i)^(server|none|con|prn|aux|nul|com[0-9]|lpt[0-9])$`)

// nameable reports whether a bot may be called so: its name is that of files.
func nameable(name string) bool { return botName.MatchString(name) && !kept.MatchString(name) }

func (p *Plan) readBots(n ast.Node) error {
	return readList(n, func(item ast.Node) error {
		b, count := Bot{}, 1
		keys := append(b.keys(p), wholeKey("count", &count, 1, mostBots))
		if err := readObject(item, "bot", keys); err != nil {
			return err
		}
		if b.Name == "" {
			return wrong(item, "bot: it has no name; add one, like name: fern")
		}
		if !nameable(b.Name) {
			return wrong(item, "bot: %q cannot be a bot's name; use up to 32 letters, digits, - and _, begin with a letter or digit, and not a word that systems keep for themselves, like server, none or con", b.Name)
		}
		p.checks = append(p.checks, func() error {
			if b.Link == "" || b.Name == p.Game.Host || p.LinkOf(b).Name != "" {
				return nil
			}
			var known []string
			for _, l := range p.allLinks() {
				known = append(known, l.Name)
			}
			return wrong(item, "bot %s: there is no link %q; there are %s", b.Name, b.Link, strings.Join(known, ", "))
		})
		for i := range count {
			one := b
			if count > 1 {
				one.Name = b.Name + "-" + strconv.Itoa(i+1)
			}
			for _, other := range p.Bots {
				switch {
				case other.Name == one.Name:
					return wrong(item, "bot: the name %q is taken; every bot needs its own", one.Name)
				case strings.EqualFold(other.Name, one.Name): // their files would be one on some systems
					return wrong(item, "bot: the names %q and %q differ in case only; every bot needs its own", other.Name, one.Name)
				}
			}
			p.Bots = append(p.Bots, one)
		}
		if len(p.Bots) > mostBots {
			return wrong(item, "bots: more than %d", mostBots)
		}
		return nil
	})
}

func (p *Plan) writeBots() any {
	out := make([]any, len(p.Bots))
	for i := range p.Bots {
		out[i] = writeObject(p.Bots[i].keys(p))
	}
	return out
}

func (b *Bot) keys(p *Plan) []key {
	return []key{
		textKey("name", &b.Name),
		textKey("link", &b.Link),
		optional(wholeKey("fps", &b.FPS, 0, 240), &b.FPS),
		textKey("on", &b.On),
		{name: "steps", schema: listOf(objectOf(stepKeys(&bot.Step{}))), read: func(n ast.Node) error {
			b.Steps = nil
			return readList(n, func(item ast.Node) error {
				var s bot.Step
				if err := readObject(item, "step", stepKeys(&s)); err != nil {
					return err
				}
				p.checks = append(p.checks, func() error {
					played, _ := p.Game.Played()
					if err := s.Validate(played); err != nil {
						return wrong(item, "step: %s", err)
					}
					return nil
				})
				b.Steps = append(b.Steps, s)
				return nil
			})
		}, write: func() any {
			out := make([]any, len(b.Steps))
			for i := range b.Steps {
				out[i] = writeObject(stepKeys(&b.Steps[i]))
			}
			return out
		}},
	}
}

func stepKeys(s *bot.Step) []key {
	return []key{
		wordKey("do", &s.Do, bot.Actions),
		durationKey("at", &s.At),
		durationKey("for", &s.For),
		wordsKey("inputs", &s.Inputs),
		numberKey("turn", &s.Turn),
		textKey("input", &s.Input),
		pointKey("to", &s.To),
		textKey("kind", &s.Kind),
		wordsKey("sets", &s.Sets),
		flagKey("refused", &s.Refuse),
		durationKey("away", &s.Away),
	}
}

// check runs what was put off until the whole document was read.
func (p *Plan) check() error {
	if p.Game.Name == "" && !p.Build.Given() && p.Clock != Recorded {
		p.Game.Name = DemoGame
	}
	checks := p.checks
	p.checks = nil
	var failures []error
	for _, check := range checks {
		failures = append(failures, check())
	}
	return errors.Join(failures...)
}

// complete fills in what depends on other parts, and checks what no single key
// can be blamed for.
func (p *Plan) complete() error {
	var failures []error
	bad := func(is bool, format string, args ...any) {
		if is {
			failures = append(failures, fmt.Errorf(format, args...))
		}
	}
	isBot := func(name string) bool {
		return slices.ContainsFunc(p.Bots, func(b Bot) bool { return b.Name == name })
	}
	bad(len(p.Bots) == 0, "no bots; a match needs at least one under the key bots")
	bad(p.Duration <= 0 || p.Duration > 24*time.Hour, "duration: %v is not between 0 and 24h", p.Duration)
	bad(p.Game.Report > p.Game.FPS, "rates: a client cannot report %d times a second with %d frames", p.Game.Report, p.Game.FPS)
	r := p.Reference
	bad(r != "" && r != rulebook.Server && r != rulebook.NoReference && !isBot(r), "reference: there is no bot %q; write server, none, or a bot's name", r)
	for _, r := range p.Rules.Logs {
		for _, in := range []string{r.In, r.After.In} {
			bad(in != "" && in != rulebook.Server && in != rulebook.Clients && !isBot(in), "logs: in: there is no bot %q; write server, clients, or a bot's name", in)
		}
	}
	bad(p.Game.Host != "" && !isBot(p.Game.Host), "game: host: there is no bot %q", p.Game.Host)
	bad(p.Game.InterestRadius < 0, "game: interest-radius: %v is negative", p.Game.InterestRadius)
	bad(p.Game.Send > p.Game.Tick, "rates: a server cannot send %d times a second with %d ticks", p.Game.Send, p.Game.Tick)
	for i := range p.Bots {
		b := &p.Bots[i]
		if len(b.Steps) == 0 {
			b.Steps = []bot.Step{{Do: bot.Join}, {Do: bot.Roam}}
		}
		bad(!slices.ContainsFunc(b.Steps, func(s bot.Step) bool { return s.Do == bot.Join || s.Do == bot.Rejoin }), "bot %s never joins; begin its steps with do: join", b.Name)
	}
	p.addGameRules()
	return errors.Join(failures...)
}
