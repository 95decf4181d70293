package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/mem"
	"github.com/spf13/cobra"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
	"zitherwheel/internal/match"
)

func workerCommand() *cobra.Command {
	var at cluster.Address
	var asRoot bool
	var memory, disk int
	w := &cluster.Worker{}
	c := &cobra.Command{
		Use:   "worker",
		Short: "Play matches that others ask for",
		Long: `Joins a hub and plays what campaigns ask for, up to --slots matches at once; a match on the wall
clock takes a slot for each of its players. Builds are fetched once, checked by their sum, and kept in
its folder.

A worker starts programs that others name. It plays only for those whose public key it was given with
--trust (on this machine alone it need not be given one), with a clean environment, and not as root.

With --players it also starts clients of matches that are played on another machine: those of bots that
say on: its name in the plan. Their packets go through a relay here, so the network between the machines
is part of their way.

When it is told to end it ends what it has begun, for --drain at most, and hands back the rest.
Exits with 0 then, 3 if it cannot join.`,
		Example: `  zwheel worker --join nats://127.0.0.1:4222 --slots 4
  zwheel worker --join tls://build-7.example:4222 --key work.key --ca ca.pem --trust UDXU4R...`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			switch {
			case at.URL == "":
				return usage("say which hub: --join nats://HOST:PORT; zwheel hub starts one")
			case w.Slots < 1:
				return usage("--slots %d: write at least 1", w.Slots)
			case !cluster.ValidName(w.Name):
				return usage("--name %q: letters, digits and - only", w.Name)
			case len(w.Trust) == 0 && !cluster.Local(at.URL):
				return usage("say whose work is taken: --trust PUBLIC-KEY, as zwheel hub init prints it; a worker starts programs that others name")
			case os.Geteuid() == 0 && !asRoot:
				return usage("a worker is not to be root, because it starts programs that others name; start it as another user, or add --as-root")
			}
			folder, err := filepath.Abs(w.Folder)
			if err != nil {
				return failed(err)
			}
			w.Folder = folder
			if err := cleanEnvironment(folder); err != nil {
				return failed(err)
			}
			w.Guard = wallOptions().Guard
			w.Crew, w.Virtual = played.Here{Wall: wallOptions()}, match.VirtualClock(c.Context()).Has
			w.MemoryMB, w.Disk = memory, int64(disk)<<20
			w.Tell = func(text string) { fmt.Fprintln(c.OutOrStdout(), text) }
			l, err := cluster.Dial(c.Context(), at, "work "+w.Name)
			if err != nil {
				return failed(err)
			}
			defer l.Close()
			err = w.Run(c.Context(), l)
			if errors.Is(err, cluster.ErrNameTaken) {
				return &exitError{exitUsage, err}
			}
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s has ended\n", w.Name)
			return nil
		},
	}
	host, err := os.Hostname()
	if err != nil {
		host = "worker"
	}
	if vm, err := mem.VirtualMemory(); err == nil {
		memory = int(vm.Total >> 20)
	}
	f := c.Flags()
	f.StringVar(&at.URL, "join", "", "address of the hub: nats://HOST:PORT or tls://HOST:PORT")
	joinFlags(c, &at)
	f.StringVar(&w.Name, "name", strings.Map(func(r rune) rune {
		if r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '-'
	}, host), "what it is called")
	f.IntVar(&w.Slots, "slots", runtime.NumCPU(), "matches to play at once")
	f.StringVar(&w.Folder, "folder", "worker", "folder for builds, and for what matches leave behind")
	f.StringArrayVar(&w.Trust, "trust", nil, "public key of whose work is taken; repeat for more")
	f.DurationVar(&w.Longest, "longest", time.Hour, "time that a match may take")
	f.IntVar(&disk, "disk-mb", 2048, "disk that the run folder of a match may take")
	f.IntVar(&memory, "memory-mb", memory, "memory that a program of a build may take")
	f.DurationVar(&w.Drain, "drain", 30*time.Second, "time to end what it has begun")
	f.BoolVar(&w.Players, "players", false, "start clients of matches that are played elsewhere, too (bots with on: its name)")
	f.BoolVar(&asRoot, "as-root", false, "run although it is root")
	return c
}

// joinFlags are how one gets into a hub.
func joinFlags(c *cobra.Command, at *cluster.Address) {
	c.Flags().StringVar(&at.Key, "key", "", "file with a key of zwheel hub init, or credentials of your own NATS")
	c.Flags().StringVar(&at.CA, "ca", "", "file with the certificate of the hub (ca.pem)")
}

// kept are variables without which programs are not found or do not start.
var kept = []string{"PATH", "LANG", "SystemRoot", "SYSTEMROOT", "ComSpec", "PATHEXT", "windir", "NUMBER_OF_PROCESSORS"}

// cleanEnvironment leaves nothing in this program's environment that the programs of others could find out. Their own
// is that of their match.
func cleanEnvironment(folder string) error {
	home := filepath.Join(folder, "home")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return err
	}
	values := map[string]string{"HOME": home, "USERPROFILE": home, "TMPDIR": home, "TMP": home, "TEMP": home}
	for _, name := range kept {
		if value, ok := os.LookupEnv(name); ok {
			values[name] = value
		}
	}
	os.Clearenv()
	for name, value := range values {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	return nil
}
