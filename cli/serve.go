package cli

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jugate/api"
	"jugate/core/lease"
	"jugate/privileges"
	"jugate/service"
	"jugate/supervised"
	"jugate/wire"
)

func serveCommand(a *app) *cobra.Command { return newServer(a).cmd }

// server is the command that runs a service. Its flags are settings: configure fills them from the environment and the file.
type server struct {
	app    *app
	cmd    *cobra.Command
	config service.Config

	listen, groups, rate, ceiling string
	ttl                           int
	boot                          netbootFlags
}

func newServer(a *app) *server {
	s := &server{app: a}
	s.cmd = &cobra.Command{
		Use: "serve --data DIR", Short: "Run the service", Args: cobra.NoArgs,
		Long: "Run the service. Its settings come from flags, the environment, or the configuration file. On SIGHUP it reads them\nagain: those that jugate config list shows as live take effect at once.",
		RunE: func(cmd *cobra.Command, _ []string) error { return s.run(cmd.Context()) },
	}
	c, flags := &s.config, s.cmd.Flags()
	flags.StringVar(&c.Data, "data", "", "folder for records, images and slabs")
	flags.StringVar(&s.listen, "listen", "127.0.0.1:7460", "address to answer on: by TLS, and for boot files by plain HTTP")
	flags.StringSliceVar(&c.Names.Also, "name", nil, "DNS names of the service, for its certificate, beside that of this machine")
	flags.StringVar(&c.Names.Certificate, "certificate", "", "PEM file of a certificate that the console shows to who calls it by a name in that; read again when it changes")
	flags.StringVar(&c.Names.Key, "certificate-key", "", "PEM file of its key")
	flags.StringVar(&c.Multicast.Interface, "multicast-interface", "", "network interface for streams (default: the one with the --listen address)")
	flags.StringVar(&s.groups, "multicast-groups", "239.255.0.0/24", "range of multicast addresses for streams")
	flags.Uint16Var(&c.Multicast.Port, "multicast-port", 6003, "port of streams; workstations answer at the 64 ports after it")
	flags.IntVar(&s.ttl, "multicast-ttl", 1, "how many routers a stream may pass, plus one")
	flags.StringVar(&s.rate, "rate", "100Mbit", service.SettingText("rate"))
	flags.StringVar(&s.ceiling, "ceiling", "", service.SettingText("ceiling"))
	flags.StringSliceVar(&c.IdentityFiles, "identity-files", nil, "patterns of files that tell one machine from another, which no golden disk may have (default: names that agents usually use)")
	flags.DurationVar(&c.ArrivalWithin, "arrival-within", 2*time.Hour, service.SettingText("arrival-within"))
	flags.DurationVar(&c.KeepLines, "keep-lines", 0, service.SettingText("keep-lines"))
	flags.BoolVar(&c.AcceptCards, "accept-cards", false, service.SettingText("accept-cards"))
	flags.StringSliceVar(&c.BuildFrom, "build-from", nil, "folders that systems for builds of the boot environment may be read from, beside this machine's own")
	flags.StringSliceVar(&c.At, "at", nil, "addresses that the service is reached by, for who asks the store who is the service (default: that of --listen)")
	flags.DurationVar(&c.LeaseFor, "lease-for", lease.For, "with jugate standby: how long another machine waits, when this one falls silent, before it becomes the service")
	s.boot.add(flags)
	s.cmd.MarkFlagRequired("data")
	return s
}

// fill completes the configuration with what flags say as texts.
func (s *server) fill(settings []configured) (err error) {
	c := &s.config
	if c.Multicast.Groups, err = netip.ParsePrefix(s.groups); err != nil || !c.Multicast.Groups.Addr().IsMulticast() {
		return usageError{fmt.Errorf("--multicast-groups: %q is not a range of multicast addresses", s.groups)}
	}
	if c.Multicast.Ceiling, err = wire.ParseRate(s.ceiling); err != nil {
		return usageError{fmt.Errorf("--ceiling: %w", err)}
	}
	if c.Multicast.Rate, err = wire.ParseRate(s.rate); err != nil {
		return usageError{fmt.Errorf("--rate: %w", err)}
	}
	if c.Multicast.TTL = s.ttl; s.ttl == 0 {
		c.Multicast.TTL = service.NoTTL
	}
	c.File = configFileOf(s.cmd)
	c.Settings = shownSettings(s.cmd.Flags(), settings)
	return s.boot.fill(c)
}

// shownSettings are the settings of a service as its interface shows them. Those that are about calling a service are not among them.
func shownSettings(flags *pflag.FlagSet, settings []configured) (all []api.Setting) {
	for _, c := range settings {
		f := flags.Lookup(c.Name)
		if f == nil || isGlobal(c.Name) {
			continue
		}
		values := []string{}
		if many, is := f.Value.(pflag.SliceValue); is {
			values = append(values, many.GetSlice()...)
		} else if text := f.Value.String(); text != "" {
			values = append(values, text)
		}
		all = append(all, api.Setting{Name: c.Name, Values: values, From: c.Source, What: f.Usage})
	}
	return all
}

// again is the configuration as it would be now: the environment and the file may have changed; flags stay as they were given.
func (s *server) again() (service.Config, error) {
	fresh := newServer(&app{})
	root := &cobra.Command{Use: s.cmd.Root().Use}
	fresh.app.declare(root.PersistentFlags())
	root.AddCommand(fresh.cmd)
	fresh.cmd.InheritedFlags() // merges those of the root
	given := []string{"config"}
	for _, c := range s.app.settings {
		if c.Source == byFlag {
			given = append(given, c.Name)
		}
	}
	for _, name := range given {
		from, to := s.cmd.Flags().Lookup(name), fresh.cmd.Flags().Lookup(name)
		if from == nil || !from.Changed {
			continue
		}
		to.Changed = true
		if many, is := from.Value.(pflag.SliceValue); is {
			if err := to.Value.(pflag.SliceValue).Replace(many.GetSlice()); err != nil {
				return service.Config{}, err
			}
		} else if err := to.Value.Set(from.Value.String()); err != nil {
			return service.Config{}, err
		}
	}
	settings, err := configure(fresh.cmd)
	if err == nil {
		err = fresh.fill(settings)
	}
	return fresh.config, err
}

func (s *server) run(ctx context.Context) error {
	c := &s.config
	if err := s.fill(s.app.settings); err != nil {
		return err
	}
	c.Log = supervised.Logger(s.cmd.ErrOrStderr())
	if err := privileges.GiveUp(c.Log, c.Data, len(s.boot.interfaces) > 0); err != nil {
		return fmt.Errorf("give up privileges: %w", err)
	}
	listener, err := supervised.Listen(s.listen)
	if err != nil {
		return err
	}
	defer listener.Close()
	at := listener.Addr().(*net.TCPAddr)
	if at.IP.IsLoopback() {
		c.Multicast.TTL = service.NoTTL // nothing of a service on loopback leaves the machine
	}
	if c.Multicast.Interface == "" {
		c.Multicast.Interface = interfaceOf(at.IP)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	if len(c.At) == 0 {
		c.At = []string{"https://" + listener.Addr().String()}
	}
	c.Answers = func() { supervised.Ready(c.Log) }
	running, err := service.Open(ctx, *c)
	if err != nil {
		return err
	}
	defer running.Close()
	if !supervised.Is() { // which nobody types commands under
		forget, err := keepStarted(at, c.Data)
		defer forget()
		if err != nil {
			c.Log.Warn("the command line will not find this service by itself", "error", err)
		}
	}
	if err := s.greet(ctx, running, at); err != nil {
		return err
	}
	go supervised.Watch(ctx, c.Log, running.Ready)
	go s.reload(ctx, running)
	defer supervised.Stopping(c.Log)
	return running.Serve(ctx, listener)
}

// greet says where the service is, and who may become its first administrator. What the first one signs in with is shown at a
// terminal, and not to a journal that others may read.
func (s *server) greet(ctx context.Context, running *service.Service, at net.Addr) error {
	link, err := running.FirstLink(ctx)
	if err != nil {
		return err
	}
	data := s.config.Data
	out := s.cmd.OutOrStdout()
	fmt.Fprintf(out, "console and interface: https://%s\nits authority:         %s, in %s\nkey of last resort:    in %s\n", at, running.Fingerprint(), filepath.Join(data, "authority.pem"), filepath.Join(data, "admin.token"))
	switch {
	case link.Secret == "":
	case supervised.Is():
		fmt.Fprintln(out, "nobody can sign in by name yet; jugate setup, on this machine, makes the first administrator")
	default:
		fmt.Fprintf(out, "nobody can sign in by name yet; the first administrator does so at https://%s/welcome#%s until %s\n", at, link.Secret, when(link.Expires))
	}
	return nil
}

// reload takes the settings anew whenever somebody asks for that by SIGHUP.
func (s *server) reload(ctx context.Context, running *service.Service) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGHUP)
	defer signal.Stop(asked)
	log := s.config.Log
	for {
		select {
		case <-asked:
		case <-ctx.Done():
			return
		}
		supervised.Reloading(log)
		c, err := s.again()
		var restart []string
		if err == nil {
			restart, err = running.Reload(c)
		}
		switch {
		case err != nil:
			log.Error("the settings stay as they are", "error", err)
		case len(restart) > 0:
			log.Warn("the settings were read again; some take effect when the service is started again", "settings", strings.Join(restart, ", "))
		default:
			log.Info("the settings were read again")
		}
		supervised.Ready(log)
	}
}

// interfaceOf is the name of the interface that has an address; empty for an
// address that stands for all.
func interfaceOf(ip net.IP) string {
	interfaces, err := net.Interfaces()
	if err != nil || ip.IsUnspecified() {
		return ""
	}
	for _, i := range interfaces {
		addresses, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addresses {
			if n, ok := a.(*net.IPNet); ok && (n.IP.Equal(ip) || ip.IsLoopback() && n.IP.IsLoopback()) {
				return i.Name
			}
		}
	}
	return ""
}

// memoryLimit is what the service keeps its memory below, in bytes, as long as it can:
// thousands of agents that wait leave room behind that is given back only when it is
// looked for.
const memoryLimit = 400 << 20
