// Command tavrin is the service, its client and its runner in one program. See tavrin help.
package main

import (
	"os"

	"tavrin/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
