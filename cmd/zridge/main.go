// Command zridge is the service and its client in one program.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"zenithridge.example/zridge/command"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(command.Run(ctx, os.Args, command.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
}
