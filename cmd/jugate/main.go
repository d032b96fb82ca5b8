// Command jugate is the service and its command line.
package main

import (
	"os"

	"jugate/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
