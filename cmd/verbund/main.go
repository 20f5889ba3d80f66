// Command verbund raises, upgrades and keeps Kubernetes clusters on machines.
package main

import (
	"os"

	"verbund/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
