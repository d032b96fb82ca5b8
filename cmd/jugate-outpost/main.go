// Command jugate-outpost works for a service at another site.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"github.com/dustin/go-humanize"

	"jugate/boot"
	"jugate/core/disk"
	"jugate/core/netboot"
	"jugate/core/version"
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
starts without --service and --join. What flags say can be in a file, too.

`

// options are what the program was started with.
type options struct {
	outpost.Config
	config, listen  string
	version, handIn bool
}

func declare() (*flag.FlagSet, *options) {
	o := &options{}
	flags := flag.NewFlagSet("jugate-outpost", flag.ExitOnError)
	flags.Usage = func() { fmt.Fprint(flags.Output(), usage); flags.PrintDefaults() }
	flags.StringVar(&o.config, "config", settingsFile, "`FILE` with settings, which are called like these flags")
	flags.BoolVar(&o.version, "version", false, "print the version and end")
	flags.StringVar(&o.listen, "listen", "", "`ADDRESS:PORT` to answer machines on: by TLS, and for boot files by plain HTTP")
	flags.StringVar(&o.Data, "data", "/var/lib/jugate-outpost", "`FOLDER` for what it holds")
	flags.StringVar(&o.Service, "service", "", "`URL` of the service; not needed any more once it has joined")
	flags.StringVar(&o.Code, "join", "", "`CODE` to join by; not needed any more once it has joined")
	flags.BoolVar(&o.Netboot.Force, "netboot-force", false, "have mode whole start although another server gives addresses")
	flags.Func("netboot", "an interface that answers network boot, as `NAME=beside`, NAME=whole or NAME=off; may be given again", func(text string) error {
		i, err := boot.ParseInterface(text)
		o.Netboot.Interfaces = append(o.Netboot.Interfaces, i)
		return err
	})
	flags.Func("pool", "`ADDRESSES` that mode whole gives, as \"198.51.100.100-198.51.100.199/24 router 198.51.100.1 dns 198.51.100.53 lease 1h\"; may be given again", func(text string) error {
		p, err := netboot.ParsePool(text)
		o.Netboot.Pools = append(o.Netboot.Pools, p)
		return err
	})
	flags.Func("keep", "how many bytes of slabs to keep, such as `200GB`; 0 for none, as a plain relay (default: all that leave 2 GiB free on the disk)", func(text string) error {
		n, err := humanize.ParseBytes(text)
		o.Slabs = max(int64(n), 1) // no slab is as short
		return err
	})
	flags.StringVar(&o.SlabFolder, "slabs", "", "`FOLDER` for slabs that come over the line, if not in the data folder")
	flags.BoolVar(&o.handIn, "hand-in", false, "hand in the receipts that wait in the data folder, such as that of media, and end")
	return flags, o
}

func run(ctx context.Context, args []string) error {
	flags, c := declare()
	if err := flags.Parse(args); err != nil {
		return err
	}
	switch {
	case c.version:
		fmt.Println("jugate-outpost", version.Program())
		return nil
	case flags.NArg() > 0:
		return fmt.Errorf("what is %q?", strings.Join(flags.Args(), " "))
	}
	if err := readSettings(flags, c.config); err != nil {
		return err
	}
	c.Log = supervised.Logger(os.Stderr)
	c.Netboot.Lenient = supervised.Is() // nobody is there to read why it did not start
	switch {
	case c.handIn:
		return outpost.HandIn(ctx, c.Config, os.Stdout)
	case c.listen == "":
		return fmt.Errorf("--listen ADDRESS:PORT says where it answers its machines")
	}
	if err := privileges.GiveUp(c.Log, c.Data, len(c.Netboot.Interfaces) > 0); err != nil {
		return fmt.Errorf("give up privileges: %w", err)
	}
	listener, err := supervised.Listen(c.listen)
	if err != nil {
		return err
	}
	defer listener.Close()
	c.Answers = func() { supervised.Ready(c.Log) }
	o, err := outpost.Open(ctx, c.Config)
	if err != nil {
		return err
	}
	defer o.Close()
	c.Log.Info("outpost", "outpost", o.Name(), "address", listener.Addr().String())
	go supervised.Watch(ctx, c.Log, o.Ready)
	defer supervised.Stopping(c.Log)
	return o.Serve(ctx, listener)
}
