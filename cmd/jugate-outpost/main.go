// Command jugate-outpost works for a service at another site.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"github.com/dustin/go-humanize"

	"jugate/boot"
	"jugate/core/disk"
	"jugate/core/netboot"
	"jugate/outpost"
	"jugate/privileges"
	"jugate/supervised"
)

func main() {
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + disk.Waiting)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, os.Args[1:]); err != nil && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "jugate-outpost:", err)
		os.Exit(1)
	}
}

const usage = `jugate-outpost answers network boot at another site for a service, and holds what its
machines need.

  jugate-outpost --service https://192.0.2.1:7460 --join CODE --listen 198.51.100.2:7460 --netboot eth0=beside

The code is made by jugate outpost add NAME, or in the console. Once it has joined it
starts without --service and --join.

`

func run(ctx context.Context, args []string) error {
	c := outpost.Config{Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	flags := flag.NewFlagSet("jugate-outpost", flag.ExitOnError)
	flags.Usage = func() { fmt.Fprint(flags.Output(), usage); flags.PrintDefaults() }
	version := flags.Bool("version", false, "print the version and end")
	listen := flags.String("listen", "", "`ADDRESS:PORT` to answer machines on: by TLS, and for boot files by plain HTTP")
	flags.StringVar(&c.Data, "data", "/var/lib/jugate-outpost", "`FOLDER` for what it holds")
	flags.StringVar(&c.Service, "service", "", "`URL` of the service; not needed any more once it has joined")
	flags.StringVar(&c.Code, "join", "", "`CODE` to join by; not needed any more once it has joined")
	flags.BoolVar(&c.Netboot.Force, "netboot-force", false, "have mode whole start although another server gives addresses")
	flags.Func("netboot", "an interface that answers network boot, as `NAME=beside`, NAME=whole or NAME=off; may be given again", func(text string) error {
		i, err := boot.ParseInterface(text)
		c.Netboot.Interfaces = append(c.Netboot.Interfaces, i)
		return err
	})
	flags.Func("pool", "`ADDRESSES` that mode whole gives, as \"198.51.100.100-198.51.100.199/24 router 198.51.100.1 dns 198.51.100.53 lease 1h\"; may be given again", func(text string) error {
		p, err := netboot.ParsePool(text)
		c.Netboot.Pools = append(c.Netboot.Pools, p)
		return err
	})
	flags.Func("keep", "how many bytes of slabs to keep, such as `200GB`; 0 for none, as a plain relay (default: all that leave 2 GiB free on the disk)", func(text string) error {
		n, err := humanize.ParseBytes(text)
		c.Slabs = max(int64(n), 1) // no slab is as short
		return err
	})
	flags.StringVar(&c.SlabFolder, "slabs", "", "`FOLDER` for slabs that come over the line, if not in the data folder")
	handIn := flags.Bool("hand-in", false, "hand in the receipts that wait in the data folder, such as that of media, and end")
	if err := flags.Parse(args); err != nil {
		return err
	}
	switch {
	case *version:
		fmt.Println("jugate-outpost", outpost.Version)
		return nil
	case flags.NArg() > 0:
		return fmt.Errorf("what is %q?", strings.Join(flags.Args(), " "))
	case *handIn:
		return outpost.HandIn(ctx, c, os.Stdout)
	case *listen == "":
		return fmt.Errorf("--listen ADDRESS:PORT says where it answers its machines")
	}
	if err := privileges.GiveUp(c.Log, c.Data, len(c.Netboot.Interfaces) > 0); err != nil {
		return fmt.Errorf("give up privileges: %w", err)
	}
	listener, err := supervised.Listen(*listen)
	if err != nil {
		return err
	}
	defer listener.Close()
	c.Answers = func() { supervised.Ready(c.Log) }
	o, err := outpost.Open(ctx, c)
	if err != nil {
		return err
	}
	defer o.Close()
	c.Log.Info("outpost", "outpost", o.Name(), "address", listener.Addr().String())
	go supervised.Watch(ctx, c.Log, o.Ready)
	defer supervised.Stopping(c.Log)
	return o.Serve(ctx, listener)
}
