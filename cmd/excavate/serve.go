package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"time"

	"excavate/internal/app"

	"github.com/spf13/cobra"
)

func serveCommand(o *options) *cobra.Command {
	var cfg app.Config
	c := &cobra.Command{Use: "serve", Short: "Run the web application on loopback", Args: cobra.NoArgs}
	c.Flags().StringVar(&cfg.Data, "data", ".data", "the folder `DIR` for the database and derived files")
	c.Flags().StringVar(&cfg.Database, "database", "", "the `DSN` of a MariaDB database that runs already, as user:password@tcp(127.0.0.1:3306)/name?parseTime=true; without it one is started in the data folder")
	c.Flags().IntVar(&cfg.Port, "port", 7410, "the `PORT` on loopback; if it is taken the next free one")
	c.Flags().StringArrayVar(&cfg.Library, "library", nil, "a folder `DIR` that sources may be added from; may be given more than once")
	c.Flags().StringArrayVar(&cfg.Outputs, "output", nil, "a folder `DIR` that entries may be extracted to, besides one in the data folder; may be given more than once")
	c.Flags().StringArrayVar(&cfg.Devices, "device", nil, "a `HOST` that devices may be connected on, besides this machine; may be given more than once")
	c.Flags().StringArrayVar(&cfg.Receivers, "receiver", nil,
		"the `ADDRESS` of a receiver that deliveries can be sent to; may be given more than once")
	workersFlag(c, &cfg)
	c.RunE = func(cmd *cobra.Command, args []string) error { return runApp(cmd, o, cfg, "") }
	return c
}

// workersFlag is the flag for how much a process does side by side.
func workersFlag(c *cobra.Command, cfg *app.Config) {
	c.Flags().IntVar(&cfg.Workers, "at-once", 2,
		"how `MANY` pieces of work are done at once; 0 leaves all work to excavate worker")
}

func workerCommand(o *options) *cobra.Command {
	var cfg app.Config
	c := &cobra.Command{Use: "worker", Short: "Take work from the queue of a web application, beside it",
		Args: cobra.NoArgs, Long: `Does what is under way in a running web application, on this machine or on another one that shares its data folder: more processes finish sooner. One that is killed leaves nothing half done; what it was at is taken up by another. It answers no requests.`}
	c.Flags().StringVar(&cfg.Data, "data", ".data", "the folder `DIR` that the web application uses")
	c.Flags().StringVar(&cfg.Database, "database", "",
		"the `DSN` of the web application's database; without it that in the data folder is joined")
	for _, x := range []struct {
		to          *[]string
		name, usage string
	}{{&cfg.Library, "library", "a folder `DIR` that sources may lie in"},
		{&cfg.Outputs, "output", "a folder `DIR` that entries may be extracted to"},
		{&cfg.Devices, "device", "a `HOST` that devices may be on, besides this machine"},
		{&cfg.Receivers, "receiver", "the `ADDRESS` of a receiver that deliveries are sent to"}} {
		c.Flags().StringArrayVar(x.to, x.name, nil, x.usage+"; may be given more than once")
	}
	workersFlag(c, &cfg)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		cfg.WorkOnly = true
		return runApp(cmd, o, cfg, "")
	}
	return c
}

func demoCommand(o *options) *cobra.Command {
	var cfg app.Config
	c := &cobra.Command{Use: "demo", Short: "Run the web application with the demo project", Args: cobra.NoArgs}
	c.Flags().StringVar(&cfg.Data, "data", ".data", "the folder `DIR` for the database, the demo's files and derived files")
	c.Flags().IntVar(&cfg.Port, "port", 7410, "the `PORT` on loopback; if it is taken the next free one")
	workersFlag(c, &cfg)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		dir, err := filepath.Abs(filepath.Join(cfg.Data, "sedgewater"))
		if err != nil {
			return err
		}
		cfg.Library = []string{dir}
		return runApp(cmd, o, cfg, dir)
	}
	return c
}

// runApp serves until the command is interrupted. demoDir is where the demo's
// files go; empty means no demo.
func runApp(cmd *cobra.Command, o *options, cfg app.Config, demoDir string) error {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	start := time.Now()
	lib, err := o.library()
	if err != nil {
		return err
	}
	cfg.Lib = lib
	if cfg.Workers < 0 || cfg.Workers > 64 || cfg.WorkOnly && cfg.Workers == 0 {
		return fmt.Errorf("--at-once: %d; at most 64", cfg.Workers)
	}
	for _, list := range [][]string{cfg.Library, cfg.Outputs} {
		for i, dir := range list {
			if list[i], err = filepath.Abs(dir); err != nil {
				return err
			}
		}
	}
	cfg.Log = func(f string, a ...any) { fmt.Fprintf(out, f+"\n", a...) }
	a, err := app.Start(ctx, cfg)
	if err != nil {
		return err
	}
	if demoDir != "" {
		devices, receivers, stop := standins(cfg.Log)
		defer stop()
		a.Service.Deliveries.SetReceivers(receivers)
		if err := a.Demo(ctx, demoDir, devices...); err != nil {
			a.Close()
			return err
		}
	}
	if cfg.WorkOnly {
		fmt.Fprintln(out, "taking work (Ctrl-C stops it)")
		return stopApp(out, a, a.Wait(ctx))
	}
	fmt.Fprintf(out, "Excavate is at %s (ready in %.1f s; Ctrl-C stops it)\n", a.Address, time.Since(start).Seconds())
	err = a.Wait(ctx)
	return stopApp(out, a, err)
}

func stopApp(out io.Writer, a *app.App, err error) error {
	fmt.Fprintln(out, "stopping")
	if e := a.Close(); err == nil && e != context.Canceled {
		err = e
	}
	return err
}
