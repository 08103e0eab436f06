// Command gharbor defines and tests connection profiles for database servers. See gharbor help.
package main

import (
	"context"
	"io"
	"log"
	"os"
	"os/signal"
	"strconv"
	"syscall"

	"github.com/sirupsen/logrus"

	"gentle-harbor/internal/cli"
)

// walletWork is another work factor of wallets. The linker sets it in the tests' build alone, so
// that a passphrase costs them milliseconds; a wallet with another factor than a program's is
// refused by it.
var walletWork string

func main() {
	noCore()
	// Libraries write into these logs, also what a stranger sent, and nothing cleans it on the
	// way to a terminal.
	log.SetOutput(io.Discard)
	logrus.SetOutput(io.Discard)
	collectSeldom()
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	for _, each := range []os.Signal{syscall.SIGHUP, syscall.SIGQUIT} {
		if !signal.Ignored(each) { // as nohup and a shell's background have it
			signal.Notify(signals, each)
		}
	}
	app := &cli.App{Args: os.Args[1:], Environ: os.Environ(), Stdin: os.Stdin, Stdout: os.Stdout,
		Stderr: os.Stderr, Broken: cancel}
	app.WalletWork, _ = strconv.Atoi(walletWork)
	// The first signal ends the work in good order and leaves the terminal as it was; a second
	// one ends the program immediately.
	go func() {
		for ended := false; ; {
			s := <-signals
			if s == os.Interrupt && app.Interrupt() {
				continue
			}
			if ended {
				app.AtOnce()
				os.Exit(cli.Interrupted)
			}
			ended = true
			app.Ended(s)
			cancel()
		}
	}()
	// A write to a closed pipe is an error like any other, so that a statement is ended and
	// folders are taken away.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	os.Exit(app.Main(ctx))
}
