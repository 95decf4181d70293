package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"zitherwheel/internal/version"
)

func versionText() string {
	return fmt.Sprintf("zwheel %s\n%s\n", version.String(), version.Platform())
}

func versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the version of this program",
		Example: "  zwheel version",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := fmt.Fprint(c.OutOrStdout(), versionText())
			return err
		},
	}
}
