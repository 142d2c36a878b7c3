// Command fiume is the streaming ETL service, its client and a local runner.
package main

import (
	"os"

	"fiume/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
