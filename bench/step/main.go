// Command step does one step of a benchmark, for bench.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"os/signal"
	"runtime"
	"strconv"
	"syscall"

	"jugate/bench/steps"
	"jugate/core/disk"
)

func main() {
	log.SetFlags(0)
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + disk.Waiting) // as the programs do
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if len(os.Args) < 2 {
		log.Fatal("step: say which")
	}
	os.Exit(steps.Profiled(os.Args[1], func() int {
		if err := run(ctx, os.Args[1], os.Args[2:]); err != nil {
			log.Print("step: ", err)
			return 1
		}
		return 0
	}))
}

func run(ctx context.Context, what string, args []string) error {
	args = append(args, "", "", "") // what is missing cannot be opened
	switch what {
	case "capture":
		return steps.Capture(ctx, args[0], args[1], args[2])
	case "restore":
		return steps.Restore(ctx, args[0], args[1], args[2])
	case "lean":
		return steps.Lean(ctx, args[0], args[1], args[2])
	case "plan":
		slabs, err := strconv.Atoi(args[0])
		if err != nil {
			return err
		}
		return steps.Plan(slabs)
	case "drivers-read":
		return steps.ReadModules(args[0])
	case "drivers-match":
		return steps.MatchRoster()
	}
	return fmt.Errorf("there is no step %q", what)
}
