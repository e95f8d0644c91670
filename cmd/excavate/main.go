// Command excavate extracts models, pictures and skeletons from game archives
// and rebuilds them for another engine. Without a server or a database it
// lists, unpacks, links, inspects, converts, checks and renders; with serve or demo
// it runs the web application.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"excavate/core/find"
	"excavate/core/source"
	"excavate/internal/notices"
	"excavate/internal/shipped"
	"excavate/internal/version"

	"github.com/spf13/cobra"
)

// errQuiet ends with status 1 without another message: what went wrong has
// been reported where it happened.
var errQuiet = errors.New("")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root().ExecuteContext(ctx)
	os.Exit(status(ctx, err))
}

// stopped is the exit status of a program that Ctrl-C has ended: 128 and the
// number of the signal.
const stopped = 130

// status tells what went wrong, and gives the exit status.
func status(ctx context.Context, err error) int {
	switch {
	case err == nil:
		return 0
	case ctx.Err() != nil: // whatever broke, it broke because of that
		fmt.Fprintln(os.Stderr, "excavate: stopped")
		return stopped
	case err != errQuiet:
		fmt.Fprintln(os.Stderr, tint(os.Stderr, fault, "excavate:"), harmless(err.Error()))
	}
	return 1
}

type options struct {
	layouts  []string
	sources  []string
	binds    map[string]string // what names stand for, by hand
	readings map[string]string
	anywhere bool // a list that the user wrote may name what lies outside its folder
}

func root() *cobra.Command {
	o := &options{}
	c := &cobra.Command{
		Use: "excavate", Version: version.Version, SilenceErrors: true, SilenceUsage: true,
		Short: "Extract models, pictures and skeletons from game archives and rebuild them for another engine",
	}
	c.PersistentFlags().StringArrayVar(&o.layouts, "layouts", nil, "a folder of `DIR` with more layouts; they win over those that ship")
	c.AddCommand(listCommand(o), unpackCommand(o), linksCommand(o), namesCommand(o), pullCommand(),
		explainCommand(o), coverCommand(o), inspectCommand(o), compareCommand(o), rigCommand(o),
		convertCommand(o), assembleCommand(o), stepsCommand(), formatsCommand(), checkCommand(o),
		portCommand(o), verifyCommand(o), recipeCommand(o), targetsCommand(o), renderCommand(o),
		unfoldCommand(o), blocksCommand(o),
		demoDataCommand(), serveCommand(o), workerCommand(o), demoCommand(o), noticesCommand())
	return c
}

func noticesCommand() *cobra.Command {
	return &cobra.Command{Use: "notices", Short: "Print the licences of all that is in the program", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := fmt.Fprint(cmd.OutOrStdout(), notices.Text)
			return err
		}}
}

// library compiles the layouts.
func (o *options) library() (*find.Library, error) {
	return shipped.Library(func(err error) { fmt.Fprintln(os.Stderr, "excavate:", err) }, o.layouts...)
}

// stack mounts the --source paths in their order.
func (o *options) stack(ctx context.Context, lib *find.Library) (source.Stack, func(), error) {
	var st source.Stack
	closeAll := func() {
		for _, s := range st {
			s.Close()
		}
	}
	for _, p := range o.sources {
		s, err := source.Open(ctx, p, source.Options{Layouts: lib.Layouts})
		if err != nil {
			closeAll()
			return nil, nil, err
		}
		st = append(st, s)
	}
	return st, closeAll, nil
}

// open compiles the layouts and mounts the sources.
func (o *options) open(ctx context.Context) (*find.Library, source.Stack, func(), error) {
	lib, err := o.library()
	if err != nil {
		return nil, nil, nil, err
	}
	stack, done, err := o.stack(ctx, lib)
	return lib, stack, done, err
}

func (o *options) sourceFlag(c *cobra.Command) {
	c.Flags().StringToStringVar(&o.binds, "bind", nil, "`NAME=ENTRY`: what a name stands for that a model asks for, such as a memory segment; may be given more than once")
	c.Flags().StringToStringVar(&o.readings, "reading", nil, "`NAME=CHOICE`: what is read where a file or its layout leaves it open, as inspect tells; may be given more than once")
	c.Flags().StringArrayVar(&o.sources, "source", nil, "an archive or folder at `PATH` where pictures are looked for; may be given more than once, first wins")
}
