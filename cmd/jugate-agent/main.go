// Command jugate-agent runs on a workstation and works for one service.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"

	"jugate/agent"
	"jugate/agent/machine"
	"jugate/apiclient"
	"jugate/core/disk"
	"jugate/core/version"
)

func main() {
	if filepath.Base(os.Args[0]) == "modprobe" { // the kernel calls it so, in the boot environment
		if err := machine.Modprobe(os.Args[1:]); err != nil {
			os.Exit(1)
		}
		return
	}
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + disk.Waiting)
	if machine.First() {
		machine.Run()
	}
	if len(os.Args) == 3 && os.Args[1] == "arrive" {
		if err := arrive(os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, "jugate-agent:", err)
			os.Exit(1)
		}
		return
	}
	server := flag.String("server", os.Getenv("JUGATE_SERVER"), "address of the service (JUGATE_SERVER)")
	authority := flag.String("authority", os.Getenv("JUGATE_AUTHORITY"), "file with the certificate of the service's authority (JUGATE_AUTHORITY)")
	ifi := flag.String("interface", "", "network interface that carries the multicast")
	showVersion := flag.Bool("version", false, "print the version and end")
	flag.Parse()
	if *showVersion {
		fmt.Println("jugate-agent", version.Program())
		return
	}
	if err := run(*server, *authority, *ifi); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "jugate-agent:", err)
		os.Exit(1)
	}
}

func run(server, authority, ifi string) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	certificate, err := os.ReadFile(authority)
	if err != nil {
		return fmt.Errorf("the authority's certificate: %w", err)
	}
	c, err := apiclient.ForAgent(server, certificate)
	if err != nil {
		return err
	}
	return agent.New(c, agent.Hardware{Interface: ifi}, agent.Options{Show: agent.Screen(os.Stdout)}).Run(ctx)
}

// arrive reports the first start of the system that it runs in, and stays as a helper if that
// is wanted.
func arrive(config string) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a, err := agent.ReadArrival(config)
	if err != nil {
		return err
	}
	c, err := agent.ArrivalClient(a, "/")
	if err != nil {
		return err
	}
	if a.Token != "" {
		if err := agent.Arrive(ctx, c, a, "/"); err != nil {
			return err
		}
	}
	if !a.Helper {
		return nil
	}
	sys := agent.RunningSystem{}
	err = agent.Stay(ctx, c, sys.Boot(), sys)
	switch {
	case errors.Is(err, agent.ErrReplaced): // to try again would be of no use
		fmt.Fprintln(os.Stderr, "jugate-agent:", err)
		return nil
	case ctx.Err() != nil:
		return nil
	}
	return err
}
