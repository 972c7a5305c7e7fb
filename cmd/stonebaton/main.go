// Command stonebaton is the service and its client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"stonebaton.example/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	if self, err := os.Executable(); err == nil && os.Getenv("STONEBATON") == "" {
		_ = os.Setenv("STONEBATON", self) // files name this program as ${STONEBATON}; the name and value can be set
	}
	code := cli.Run(ctx, os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	stop()
	os.Exit(code)
}
