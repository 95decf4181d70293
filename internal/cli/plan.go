package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"zitherwheel/internal/output/report"
	"zitherwheel/internal/plan"
)

func planCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "plan",
		Short: "Create a plan, validate one, or print the schema of plans",
		Args:  cobra.NoArgs,
		RunE:  func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(planNewCommand(), planCheckCommand(), planSchemaCommand())
	return c
}

func planNewCommand() *cobra.Command {
	shape := plan.Shapes[0].Name
	var shapes []string
	var list strings.Builder
	for _, s := range plan.Shapes {
		shapes = append(shapes, s.Name)
		fmt.Fprintf(&list, "  %-10s %s\n", s.Name, s.What)
	}
	c := &cobra.Command{
		Use:   "new FILE",
		Short: "Write a commented plan to start from",
		Long: "Writes a plan to start from, with comments, for a build of one of these shapes:\n\n" + list.String() + `
Nothing is overwritten.`,
		Example: "  zwheel plan new mygame.yaml --shape server",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := plan.Starter(shape)
			if err != nil {
				return usage("--shape %s: %w", shape, err)
			}
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if errors.Is(err, fs.ErrExist) {
				return usage("%s exists already and is left as it is", args[0])
			}
			if err != nil {
				return failed(err)
			}
			_, err = f.Write(text)
			if err = errors.Join(err, f.Close()); err != nil {
				return failed(err)
			}
			next := "zwheel preflight"
			if shape == "demo" {
				next = "zwheel run"
			}
			fmt.Fprintf(c.OutOrStdout(), "wrote %s; next: %s %s\n", args[0], next, args[0])
			return nil
		},
	}
	c.Flags().StringVar(&shape, "shape", shape, "the kind of build: "+join(shapes))
	complete(c, "shape", shapes)
	return c
}

func planCheckCommand() *cobra.Command {
	var whole bool
	c := &cobra.Command{
		Use:     "check PLAN...",
		Short:   "Validate plans and say what they contain",
		Example: "  zwheel plan check examples/healthy.yaml",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			wrong := 0
			for _, path := range args {
				p, err := loadPlan(path)
				if err != nil {
					wrong++
					fmt.Fprintln(c.ErrOrStderr(), err)
					continue
				}
				if whole {
					text, err := p.YAML()
					if err != nil {
						return failed(err)
					}
					if _, err := c.OutOrStdout().Write(text); err != nil {
						return failed(err)
					}
					continue
				}
				fmt.Fprintf(c.OutOrStdout(), "%s: %s, %s on the %s clock, %s, %d watch rules\n", path, p.Title, report.Span(p.Duration), p.Clock, bots(p), len(p.Rules.Fields))
			}
			if wrong > 0 {
				return quiet(exitUsage)
			}
			return nil
		},
		ValidArgsFunction: completePlans,
	}
	c.Flags().BoolVar(&whole, "whole", false, "print the plan with every default filled in")
	return c
}

func planSchemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of plans, for editors",
		Long: `Prints the JSON Schema of plans. An editor that knows YAML checks and completes a
plan by it, if the plan's first line names it:

  # yaml-language-server: $schema=plan.schema.json`,
		Example: "  zwheel plan schema > plan.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			text, err := plan.Schema()
			if err != nil {
				return failed(err)
			}
			_, err = c.OutOrStdout().Write(text)
			return err
		},
	}
}
