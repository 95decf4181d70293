package cli

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/replay"
	"zitherwheel/internal/plan"
	"zitherwheel/internal/run/trust"
)

func trustFlag(c *cobra.Command, trusts *bool) {
	c.Flags().BoolVar(trusts, "trust-its-programs", false, "start the programs that the folder names, also if it was recorded by somebody else")
}

// trusted asks before programs are started that a run folder names which this user did not
// record on this machine.
func trusted(c *cobra.Command, r *replay.Recording, trusts bool) error {
	if !r.Plan.ByPrograms() || trusts {
		return nil
	}
	text, err := os.ReadFile(r.Run.PlanPath())
	if err != nil {
		return failed(err)
	}
	if trust.Known(text, r.Run.Mark()) {
		return nil
	}
	fmt.Fprintf(c.ErrOrStderr(), "%s was not recorded by you on this machine. Playing it again starts these programs:\n", r.Run.Path)
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
