package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"zitherwheel/release"
)

func versionText() string {
	return fmt.Sprintf("zwheel %s\n%s\n", release.String(), release.Platform())
}

func versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Say which build of the program this is",
		Example: "  zwheel version",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := fmt.Fprint(c.OutOrStdout(), versionText())
			return err
		},
	}
}
