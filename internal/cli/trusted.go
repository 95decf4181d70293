package cli

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/match"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/trust"
)

func trustFlag(c *cobra.Command, trusts *bool) {
	c.Flags().BoolVar(trusts, "trust-its-programs", false, "start the programs that the folder names, also if it was recorded by somebody else")
}

// trusted asks before programs are started that a run folder names which this user did not record on this machine,
// or which is not where it was: what its plan names may be something else there.
func trusted(c *cobra.Command, r *replay.Recording, trusts bool) error {
	if !r.Plan.ByPrograms() || trusts {
		return nil
	}
	origin := r.Run.Origin()
	now := match.OriginOf(r.Plan)
	switch {
	case origin == nil || !r.Run.SignedBy(trust.Known):
		fmt.Fprintf(c.ErrOrStderr(), "%s was not recorded by you on this machine. Playing it again starts these programs:\n", r.Run.Path)
	case origin.Folder != now.Folder:
		fmt.Fprintf(c.ErrOrStderr(), "%s was recorded with the build in %s, and from here its plan leads to another. Playing it again starts these programs:\n", r.Run.Path, origin.Folder)
	default:
		for path, sum := range origin.Programs {
			if now.Programs[path] != sum {
				fmt.Fprintf(c.ErrOrStderr(), "zwheel: %s is not what it was when the match was recorded\n", path)
			}
		}
		return nil
	}
	build := r.Plan.ToBringUp()
	if build.Folder != "" {
		fmt.Fprintf(c.ErrOrStderr(), "  in the folder %s\n", build.Folder)
	}
	for _, name := range environment(build.Env) {
		fmt.Fprintf(c.ErrOrStderr(), "  with %s\n", name)
	}
	for _, one := range []struct {
		what    string
		program plan.Program
	}{{"server", build.Server}, {"client", build.Client}, {"host", build.Host}} {
		if len(one.program.Run) == 0 {
			continue
		}
		fmt.Fprintf(c.ErrOrStderr(), "  %s: %s\n", one.what, strings.Join(one.program.Run, " "))
		for _, name := range environment(one.program.Env) {
			fmt.Fprintf(c.ErrOrStderr(), "    with %s\n", name)
		}
	}
	if terminal(c.ErrOrStderr()) == nil || !isTerminal(os.Stdin) {
		return usage("nothing was started; if you trust them, add --trust-its-programs (see docs/safety.md)")
	}
	fmt.Fprint(c.ErrOrStderr(), "Start them? Write yes if you trust them: ")
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n') // no answer is no
	if strings.TrimSpace(answer) != "yes" {
		return usage("nothing was started")
	}
	return nil
}

func environment(env map[string]string) (list []string) {
	for name, value := range env {
		list = append(list, name+"="+value)
	}
	slices.Sort(list)
	return list
}
