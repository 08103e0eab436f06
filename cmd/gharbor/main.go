// Command gharbor defines and tests connection profiles for database servers. See gharbor help.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"gentle-harbor/internal/cli"
)

func main() {
	noCore()
	// A run is short and its memory is bounded elsewhere; collecting less often makes a long list quicker.
	debug.SetGCPercent(400)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// The first signal ends the work in good order; a second one ends the program at once.
	context.AfterFunc(ctx, stop)
	app := cli.App{Args: os.Args[1:], Environ: os.Environ(), Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	os.Exit(app.Main(ctx))
}
