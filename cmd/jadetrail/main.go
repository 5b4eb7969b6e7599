// Command jadetrail is the whole of Jade Trail: the bench commands, which need
// neither a database nor a server, and the web application.
package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"jadetrail/app/drives"
	"jadetrail/app/store"
	"jadetrail/core/block"
	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Exit statuses of the bench commands.
const (
	exitNo      = 1 // understood, and the answer is no
	exitUse     = 2 // wrong use, or input that cannot be read
	exitStopped = 3 // stopped midway; can be resumed or undone
)

// memoryLimit is when a bench command begins to collect garbage more eagerly.
const memoryLimit = 200 << 20

// The clock and the source of randomness of every command.
var (
	now              = time.Now
	random io.Reader = rand.Reader
)

// errUnsound is the answer of a check that found errors, already printed.
var errUnsound = errors.New("unsound")

// errUse marks an error as wrong use.
type errUse struct{ error }

func (e errUse) Unwrap() error { return e.error }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(execute(ctx, os.Args[1:]))
}

func execute(ctx context.Context, args []string) int {
	// A bench command opens block devices by the rights of whoever calls it, or through a helper, and has them for
	// itself until it ends. The application opens none: nothing that is asked of it over the network reaches a device.
	var own interface {
		OpenPath(path string, write bool) (*os.File, error)
		Release() error
	} = &block.Claims{}
	if socket := os.Getenv("JADETRAIL_DRIVES"); socket != "" {
		own = &drives.Client{Socket: socket}
	}
	disk.Devices = nil
	defer func() {
		if err := own.Release(); err != nil {
			fmt.Fprintln(plain{os.Stderr}, "jadetrail:", sentence(err))
		}
	}()
	root := &cobra.Command{
		Use: "jadetrail", Short: "Remove unwanted partitions, merge their space, keep every deletion traceable",
		SilenceErrors: true, SilenceUsage: true,
	}
	root.CompletionOptions.DisableDefaultCmd = true
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return errUse{err} })
	root.AddCommand(
		inspectCmd(), filesCmd(), checkCmd(), routesCmd(), carryOutCmd(), resumeCmd(), backUpCmd(), verifyBackupCmd(),
		bringBackCmd(), searchCmd(), restoreCmd(), verifyTrailCmd(), serveCmd(), migrateCmd(), newKeyCmd(), peopleCmd(),
		demoCmd(), drivesCmd(), versionCmd(),
	)
	root.PersistentPreRun = func(c *cobra.Command, _ []string) {
		if c.Name() != "serve" {
			disk.Devices = own.OpenPath
			debug.SetGCPercent(-1) // a bench command is over before it needs its memory back, up to the limit
			debug.SetMemoryLimit(memoryLimit)
		}
	}
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	code := status(err)
	if !errors.Is(err, errUnsound) {
		fmt.Fprintln(plain{os.Stderr}, "jadetrail:", sentence(err))
	}
	return code
}

// status maps an error to an exit status.
func status(err error) int {
	var use errUse
	var blocked *rehearse.Blocked
	switch {
	case errors.Is(err, drives.ErrNotAllowed), errors.Is(err, block.ErrOwn), errors.Is(err, block.ErrBusy),
		errors.Is(err, block.ErrOther), errors.Is(err, block.ErrReadOnly):
		return exitNo
	case errors.As(err, &use), errors.Is(err, plan.ErrMalformed), errors.Is(err, disk.ErrEmpty), errors.Is(err, disk.ErrNotImage),
		errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.Is(err, trail.ErrChain):
		return exitUse
	case errors.Is(err, carry.ErrStopped), errors.Is(err, context.Canceled), errors.Is(err, prove.ErrDiffers), errors.Is(err, run.ErrWaiting), errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EIO):
		return exitStopped
	case errors.As(err, &blocked), errors.Is(err, errUnsound), errors.Is(err, run.ErrPending), errors.Is(err, ran.ErrBroken), errors.Is(err, run.ErrTrail), errors.Is(err, run.ErrNotBegun), errors.Is(err, run.ErrOther), errors.Is(err, ran.ErrNothing), errors.Is(err, run.ErrSerial),
		errors.Is(err, rehearse.ErrChanged), errors.Is(err, rehearse.ErrRoom), errors.Is(err, shelf.ErrRoom), errors.Is(err, shelf.ErrSame), errors.Is(err, shelf.ErrNoPlace), errors.Is(err, shelf.ErrNoBackup), errors.Is(err, shelf.ErrDamaged),
		errors.Is(err, table.ErrNotWritable), errors.Is(err, trail.ErrNoRecord), errors.Is(err, volume.ErrDamaged), errors.Is(err, volume.ErrNotClean),
		errors.Is(err, volume.ErrNotFound), errors.Is(err, disk.ErrInUse), errors.Is(err, errNotHere), errors.Is(err, errNoRoute), errors.Is(err, errNoFind), errors.Is(err, errWhichFind),
		errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrLogin), errors.Is(err, store.ErrLastLead):
		return exitNo
	}
	return exitUse
}

// oneArg demands exactly one argument.
func oneArg(what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != 1 {
			return errUse{fmt.Errorf("name one %s", what)}
		}
		return nil
	}
}
