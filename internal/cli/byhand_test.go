//go:build unix

package cli

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zitherwheel/internal/plan"
	"zitherwheel/internal/review/feed"
	"zitherwheel/internal/run"
	"zitherwheel/internal/verdict/judge"
)

// Whoever plays by hand starts the client as is printed, on the link of the bot whose place they take,
// and what it prints is judged.
func TestABotIsPlayedByHand(t *testing.T) {
	if testing.Short() {
		t.Skip("plays a match by the clock")
	}
	dir := t.TempDir()
	planPath, folder := filepath.Join(dir, "plan.yaml"), filepath.Join(dir, "run")
	require.NoError(t, os.WriteFile(planPath, []byte("duration: 9s\nclock: wall\nbots: [{name: fern, link: hill-farm}, {name: moss}]\n"), 0o600))
	command := exec.Command(os.Args[0], "run", planPath, "--out", folder, "--by-hand", "fern")
	command.Env = append(os.Environ(), "CLI_TEST_PROGRAM=yes")
	said, err := command.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	client := make(chan *exec.Cmd, 1)
	go func() {
		for lines := bufio.NewScanner(said); lines.Scan(); {
			if !strings.Contains(lines.Text(), "play fern by hand: its client connects to 127.0.0.1:") || !lines.Scan() {
				continue
			}
			hand := exec.Command("sh", "-c", lines.Text())
			hand.Env = command.Env
			keys, err := hand.StdinPipe()
			if err != nil || hand.Start() != nil {
				return // the test sees that there is no client
			}
			client <- hand
			say := func(line string) { _, _ = keys.Write([]byte(line + "\n")) }
			say(`{"do":"join"}`)
			say(`{"do":"input","seq":1,"move":1,"turn":0.3}`)
			time.AfterFunc(6*time.Second, func() { say(`{"do":"leave"}`) })
			time.AfterFunc(7*time.Second, func() { say(`{"do":"stop"}`) })
		}
	}()
	require.NoError(t, command.Wait())
	select {
	case hand := <-client:
		time.AfterFunc(10*time.Second, func() { _ = hand.Process.Kill() }) // if it does not listen
		_ = hand.Wait()                                                    // how it ends is its own business
	default:
		t.Fatal("nothing was said of how to play by hand")
	}
	folderRun, err := run.Open(folder)
	require.NoError(t, err)
	p, err := plan.Load(folderRun.PlanPath())
	require.NoError(t, err)
	r, err := feed.Recorded(t.Context(), folderRun, p)
	require.NoError(t, err)
	assert.Equal(t, judge.InSync, r.Verdict.Outcome)
	for _, v := range r.Verdict.Views {
		assert.Positive(t, v.Comparisons, v.Name)
	}
	assert.Positive(t, r.Measures.Views[0].Up.BytesPerSecond, "its packets went over its link")
}
