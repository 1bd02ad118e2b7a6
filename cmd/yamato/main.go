// Command yamato is the whole product: the service, the host, and the client.
package main

import (
	"os"

	"yamato/internal/cli"
	"yamato/internal/host/keeper"
	"yamato/internal/host/standin/sandbox"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == sandbox.Argument {
		os.Exit(sandbox.Run())
	}
	if len(os.Args) > 1 && os.Args[1] == keeper.Argument {
		os.Exit(keeper.Run(os.Args[2:]))
	}
	os.Exit(cli.Main())
}
