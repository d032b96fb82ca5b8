// Command jugate is the service and its command line.
package main

import (
	"os"
	"runtime"

	"jugate/cli"
	"jugate/core/disk"
)

func main() {
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + disk.Waiting)
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
