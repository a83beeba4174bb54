// Command spindle is the service, the demo and the command line.
package main

import (
	"os"

	"spindle/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args, cli.System())) }
