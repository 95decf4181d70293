package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

func demoCommand() *cobra.Command {
	return &cobra.Command{Use: "demo", RunE: func(c *cobra.Command, _ []string) error { fmt.Println("todo"); return nil }}
}
