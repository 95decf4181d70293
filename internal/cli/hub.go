package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zitherwheel/internal/cluster"
	"zitherwheel/internal/cluster/hub"
	"zitherwheel/internal/output/report"
)

func hubCommand() *cobra.Command {
	o := hub.Options{}
	var disk int64
	c := &cobra.Command{
		Use:   "hub",
		Short: "Run the broker by which other machines play matches",
		Long: `Runs the broker between those who ask for matches (--on) and the workers that play them. It keeps what
it was handed in its folder, so it may be killed and started again. Nothing else need be installed; a
NATS server of your own with JetStream does as well.

It listens on this machine alone. To be reached from others it needs keys and a certificate, which
zwheel hub init makes: then who asks, works or looks names a key with --key, and the certificate with --ca.

Exits with 0 when it is told to end, 3 if it cannot start.`,
		Example: `  zwheel hub
  zwheel hub init --host build-7.example && zwheel hub --listen 0.0.0.0:4222`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			o.Disk = disk << 20
			o.Tell = func(text string) { fmt.Fprintln(c.ErrOrStderr(), text) }
			h, err := hub.Start(c.Context(), o)
			switch {
			case errors.Is(err, hub.ErrOpen):
				return &exitError{exitUsage, err}
			case err != nil:
				return failed(err)
			}
			defer h.Stop()
			fmt.Fprintf(c.OutOrStdout(), "Hub: %s, its data in %s\n", h.URL(), o.Folder)
			keys := ""
			if strings.HasPrefix(h.URL(), "tls:") {
				keys = " --key FILE --ca " + hub.CAFile(o.Folder)
			}
			fmt.Fprintf(c.OutOrStdout(), "Now: zwheel worker --join %s%s\n     zwheel hunt PLAN --times 1000 --on %s%s\n", h.URL(), keys, h.URL(), keys)
			last := hub.Standing{}
			for every := time.NewTicker(10 * time.Second); ; {
				select {
				case <-c.Context().Done():
					return nil
				case <-every.C:
					if s := h.Standing(); s != last {
						last = s
						fmt.Fprintf(c.ErrOrStderr(), "%s connections, %s messages kept, %s MB\n", report.Number(s.Connections), report.Number(int(s.Messages)), report.Number(int(s.Bytes>>20)))
					}
				}
			}
		},
	}
	c.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:4222", "where it listens: HOST:PORT")
	c.PersistentFlags().StringVar(&o.Folder, "folder", "hub", "folder for its data and its keys")
	c.Flags().Int64Var(&disk, "disk-mb", 0, "most that its data may take (default three quarters of what is free)")
	c.Flags().DurationVar(&o.Keep, "keep", cluster.KeptFor, "how long it keeps what campaigns leave")
	c.AddCommand(hubInitCommand(&o))
	return c
}

func hubInitCommand(o *hub.Options) *cobra.Command {
	var hosts []string
	c := &cobra.Command{
		Use:   "init",
		Short: "Make the keys and the certificate of a hub that others can reach",
		Long: `Makes three keys in the hub's folder, to ask, to work and to look, and a certificate for the names
and addresses by which it is reached. Give each machine the one key that it needs, and ca.pem.
docs/cluster.md says what somebody can do who has got hold of each.`,
		Example: "  zwheel hub init --host build-7.example --host 192.0.2.7",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if len(hosts) == 0 {
				return usage("name the hosts or addresses by which the hub is reached: --host build-7.example")
			}
			public, err := hub.Init(o.Folder, hosts)
			switch {
			case errors.Is(err, hub.ErrThere):
				return &exitError{exitUsage, err}
			case err != nil:
				return failed(err)
			}
			w := c.OutOrStdout()
			fmt.Fprintf(w, "Certificate: %s, for %s\n", hub.CAFile(o.Folder), strings.Join(hosts, ", "))
			for _, role := range hub.Roles {
				fmt.Fprintf(w, "Key to %-5s %s (public: %s)\n", string(role)+":", hub.KeyFile(o.Folder, role), public[role])
			}
			fmt.Fprintf(w, "Now: zwheel hub --folder %s --listen 0.0.0.0:4222\n", o.Folder)
			fmt.Fprintf(w, "     zwheel worker --join tls://%s:4222 --key work.key --ca ca.pem --trust %s\n", hosts[0], public[hub.Ask])
			fmt.Fprintf(w, "     zwheel hunt PLAN --times 1000 --on tls://%s:4222 --key ask.key --ca ca.pem\n", hosts[0])
			return nil
		},
	}
	c.Flags().StringArrayVar(&hosts, "host", nil, "name or address by which the hub is reached; repeat for more")
	return c
}
