package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/lines"
	"zitherwheel/internal/match"
	"zitherwheel/internal/match/playground"
	"zitherwheel/internal/network/link"
	"zitherwheel/internal/output/report"
	"zitherwheel/internal/verdict/judge"
)

func TestAddressesOfTheRelay(t *testing.T) {
	for text, want := range map[string]string{"127.0.0.1:7000": "127.0.0.1:7000", ":7000": "0.0.0.0:7000", "[::1]:7000": "[::1]:7000"} {
		at, err := addressOf(text)
		require.NoError(t, err)
		assert.Equal(t, want, at.String())
	}
	_, err := addressOf("nowhere")
	assert.Error(t, err)
}

func TestKeysChangeTheLink(t *testing.T) {
	to, err := addressOf("127.0.0.1:9")
	require.NoError(t, err)
	listen, err := addressOf("127.0.0.1:0")
	require.NoError(t, err)
	board, err := playground.Open(playground.Config{Network: "udp", Listen: listen, To: to, Up: link.Conditions{Latency: 40 * time.Millisecond}, Down: link.Conditions{Latency: 40 * time.Millisecond}})
	require.NoError(t, err)
	defer board.Close()
	p := &panel{board: board, title: "relaying", follow: commands{}}
	press := func(keys string) {
		p.Update(tea.KeyPressMsg{Text: keys}) // as those come that are pressed fast
	}
	press("LLJPP")
	up, down, cut := board.Link()
	assert.Equal(t, link.Conditions{Latency: 80 * time.Millisecond, Jitter: 5 * time.Millisecond, Loss: 0.02}, up)
	assert.Equal(t, up, down)
	assert.False(t, cut)
	press("lllllljjjppppo")
	up, _, cut = board.Link()
	assert.Equal(t, link.Conditions{}, up, "not below nothing")
	assert.True(t, cut)
	assert.Contains(t, p.View().Content, "CUT: nothing passes")
	press("omrx")
	assert.Contains(t, p.View().Content, "both ways  perfect")
	assert.Contains(t, p.View().Content, "no client yet")
	_, command := p.Update(tea.KeyPressMsg{Text: "q"})
	assert.Equal(t, tea.QuitMsg{}, command())
}

func TestCommandsAreReadAsTheirFileGrows(t *testing.T) {
	path := filepath.Join(t.TempDir(), "commands")
	f := commands{lines.Follow(path)}
	defer f.close()
	assert.Empty(t, f.next(), "it is not there yet")
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	say := func(text string) { _, err := file.WriteString(text); require.NoError(t, err) }
	say("# a comment\nlatency 5ms\n\nloss")
	assert.Equal(t, []string{"latency 5ms"}, f.next())
	say(" 3%\ncut\n")
	assert.Equal(t, []string{"loss 3%", "cut"}, f.next())
	assert.Empty(t, f.next())
}

func TestTheBoardTakesInWhatHappens(t *testing.T) {
	cancelled := false
	b := &board{cancel: func() { cancelled = true }, board: report.Board{Title: "match", Began: time.Now()}}
	b.Update(match.Progress{At: time.Second, Length: 4 * time.Second, Findings: 1, Bots: []match.BotProgress{{Name: "fern", In: true}}})
	b.Update(judge.Alert{At: time.Second, Kind: judge.Ghost, View: "fern", Entity: "dog/oak", Subject: judge.ParseSubject("existence")})
	assert.Contains(t, b.View().Content, "1 finding so far")
	assert.Contains(t, b.View().Content, "ghost  fern  dog/oak existence")
	b.Update(tea.KeyPressMsg{Text: "q"})
	assert.True(t, cancelled, "q ends the match, not the board")
	_, command := b.Update(done{})
	assert.Equal(t, tea.QuitMsg{}, command())
}

func TestAlertsAreToldUntilThereAreTooMany(t *testing.T) {
	var told []string
	tell := quietAfter(2, func(text string) { told = append(told, text) })
	for range 5 {
		tell(judge.Alert{Kind: judge.Frozen, View: "fern"})
	}
	require.Len(t, told, 3)
	assert.Contains(t, told[2], "and more")
}
