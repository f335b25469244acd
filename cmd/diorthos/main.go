// Command diorthos is the one program: service, client, local tools.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"diorthos/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	status := cli.Run(
		ctx,
		os.Args,
		os.Stdin,
		os.Stdout,
		os.Stderr,
		serveCommand(),
		backupCommand(),
		restoreCommand(),
		moveBagsCommand(),
		doctorCommand(),
		demoCommand(),
		standinCommand(),
	)
	stop()
	os.Exit(status)
}
