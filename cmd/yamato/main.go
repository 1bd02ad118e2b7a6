// Command yamato is the whole product: the service, the host, and the client.
package main

import (
	"os"

	"yamato/internal/cli"
	"yamato/internal/host/standin"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == standin.SandboxArgument {
		os.Exit(standin.RunSandbox())
	}
	os.Exit(cli.Main())
}
