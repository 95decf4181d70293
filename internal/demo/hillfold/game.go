package hillfold

import (
	_ "embed"
	"slices"
	"strconv"
	"time"

	"zitherwheel/internal/game"
	"zitherwheel/internal/verdict/rulebook"
)

// Game is Hillfold as one of the games that can be played inside this process.
type Game struct{}

func init() { game.Register(Game{}) }

//go:embed rules.yaml
var rules []byte

// Name implements [game.Game], like all that follows.
func (Game) Name() string { return "hillfold" }

func (Game) Area() game.Area { return game.Area{Width: width, Height: height} }

func (Game) Inputs() game.Inputs {
	return game.Inputs{Hold: []string{"forward", "left", "right", "run"}, Press: []string{"bark"}, Cheats: []string{"place", "stamina", "speed"}}
}

func (Game) Faults() (list []game.Fault) {
	for _, f := range AllFaults {
		list = append(list, game.Fault{Name: f.Name, What: f.What, Shows: f.Shows, Control: f.Control()})
	}
	return list
}

func (Game) Rules() []byte { return rules }

// reachable are the entities that are sent by nearness.
var reachable = []string{"dog/*", "sheep/*", "gate/*"}

// Fit fits the rules to the rates and the radius of a match. What is sent seldom is shown
// late, and what is far from a player is not sent to that player.
func (Game) Fit(rules *rulebook.Rules, setup game.Setup) {
	seldom := time.Second/time.Duration(setup.Rates.Send) - time.Second/time.Duration(DefaultRates.Send)
	for i := range rules.Events {
		if r := &rules.Events[i]; seldom > 0 {
			r.MaxDelay, r.MinDuration = r.MaxDelay+2*seldom, r.MinDuration+seldom
		}
	}
	for i := range rules.Fields {
		r := &rules.Fields[i]
		if r.TimeDriven || !r.Judged() {
			continue
		}
		if seldom > 0 {
			r.MaxDelay, r.MinDuration, r.Grace = r.MaxDelay+2*seldom, r.MinDuration+seldom, r.Grace+2*seldom
		}
		if setup.InterestRadius > 0 && r.Of != rulebook.Own && slices.Contains(reachable, r.Entities) {
			r.SeenBy, r.InterestRadius, r.LeaveRadius, r.Place = rulebook.InRange, setup.InterestRadius, setup.InterestRadius*leaveAt, []string{"x", "y"}
		}
	}
}

func (Game) Programs(setup game.Setup) game.Programs {
	rates := []string{"--tick", "{tick}", "--send", "{send}", "--fps", "{fps}", "--report", "{report}"}
	if len(setup.Faults) > 0 {
		rates = append(rates, "--faults", "{faults}")
	}
	return game.Programs{
		Server: append([]string{"{zwheel}", "hillfold", "serve", "--listen", "{host}:{port}", "--seed", "{seed}", "--duration", "{duration}",
			"--population", strconv.Itoa(setup.Population), "--max-players", strconv.Itoa(setup.MaxPlayers), "--interest-radius", strconv.FormatFloat(setup.InterestRadius, 'f', -1, 64)}, rates...),
		Client:  append([]string{"{zwheel}", "hillfold", "play", "--server", "{host}:{port}", "--name", "{name}", "--seed", "{seed}"}, rates...),
		Heading: "heading",
	}
}

func configOf(setup game.Setup) (Config, error) {
	faults, err := ParseFaults(setup.Faults)
	return Config{Rates: setup.Rates, Sheep: setup.Population, Round: setup.Round, Places: setup.MaxPlayers, Radius: setup.InterestRadius, Faults: faults}, err
}

func (Game) NewServer(setup game.Setup, env game.Env) (game.Server, error) {
	config, err := configOf(setup)
	if err != nil {
		return nil, err
	}
	return server{NewServer(config, env.Names, env.Random, env.Say, env.Log)}, nil
}

func (Game) NewClient(setup game.Setup, name string, env game.Env) (game.Client, error) {
	config, err := configOf(setup)
	if err != nil {
		return nil, err
	}
	return client{NewClient(config, name, env.Names, env.Random, env.Say)}, nil
}

// server and client are the game's own, seen as any game's.
type server struct{ *Server }

func (s server) Malformed() int { return s.Server.Malformed }

type client struct{ *Client }

func (c client) Malformed() int { return c.Client.Malformed }

func (c client) Step(now time.Duration, arrived []Packet, in game.Input) []Packet {
	return c.Client.Step(now, arrived, Input{Turn: in.Turn, Move: in.Move, Run: in.Run, Bark: in.Press == "bark"})
}

func (c client) Cheat(now time.Duration, cheat game.Cheat) {
	c.Client.Cheat(now, Cheat{X: cheat.To[0], Y: cheat.To[1], Moves: slices.Contains(cheat.Sets, "place"), Stamina: slices.Contains(cheat.Sets, "stamina")})
}
