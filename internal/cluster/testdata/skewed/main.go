// Skewed is a worker that starts clients, on a machine whose clock is off and goes too fast: skewed URL KEY CA TRUST FOLDER
// NAME OFF PPM.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"zitherwheel/internal/campaign/played"
	"zitherwheel/internal/cluster"
)

func main() {
	if err := work(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func work(args []string) error {
	off, err := time.ParseDuration(args[6])
	if err != nil {
		return err
	}
	ppm, err := strconv.ParseFloat(args[7], 64)
	if err != nil {
		return err
	}
	ctx, end := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer end()
	l, err := cluster.Dial(ctx, cluster.Address{URL: args[0], Key: args[1], CA: args[2]}, "work")
	if err != nil {
		return err
	}
	defer l.Close()
	began := time.Now()
	return (&cluster.Worker{Name: args[5], Folder: args[4], Slots: 1, Trust: []string{args[3]}, Crew: played.Here{}, Longest: time.Hour, Players: true, Clock: func() time.Time {
		now := time.Now()
		return now.Add(off + time.Duration(float64(now.Sub(began))*ppm/1e6))
	}, Tell: func(text string) { fmt.Println(text) }}).Run(ctx, l)
}
