package cli

import (
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"jugate/core/lease"
	"jugate/privileges"
	"jugate/service"
	"jugate/supervised"
	"jugate/wire"
)

func serveCommand() *cobra.Command {
	cmd, _ := serving()
	return cmd
}

// serving is the command that runs a service, and the configuration that its flags fill.
func serving() (*cobra.Command, *service.Config) {
	config := &service.Config{}
	var listen, groups, rate, ceiling string
	var ttl int
	var boot netbootFlags
	cmd := &cobra.Command{
		Use: "serve --data DIR", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if config.Multicast.Groups, err = netip.ParsePrefix(groups); err != nil || !config.Multicast.Groups.Addr().IsMulticast() {
				return usageError{fmt.Errorf("--multicast-groups: %q is not a range of multicast addresses", groups)}
			}
			if config.Multicast.Ceiling, err = wire.ParseRate(ceiling); err != nil {
				return usageError{fmt.Errorf("--ceiling: %w", err)}
			}
			if config.Multicast.Rate, err = wire.ParseRate(rate); err != nil {
				return usageError{fmt.Errorf("--rate: %w", err)}
			}
			config.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if err := privileges.GiveUp(config.Log, config.Data, len(boot.interfaces) > 0); err != nil {
				return fmt.Errorf("give up privileges: %w", err)
			}
			listener, err := supervised.Listen(listen)
			if err != nil {
				return err
			}
			defer listener.Close()
			if config.Multicast.TTL = ttl; ttl == 0 {
				config.Multicast.TTL = service.NoTTL
			}
			local := listener.Addr().(*net.TCPAddr).IP
			if local.IsLoopback() {
				config.Multicast.TTL = service.NoTTL // nothing of a service on loopback leaves the machine
			}
			if config.Multicast.Interface == "" {
				config.Multicast.Interface = interfaceOf(local)
			}
			if err := boot.fill(config); err != nil {
				return err
			}
			if os.Getenv("GOMEMLIMIT") == "" {
				debug.SetMemoryLimit(memoryLimit)
			}
			if len(config.At) == 0 {
				config.At = []string{"https://" + listener.Addr().String()}
			}
			config.File, config.Answers = configFileOf(cmd), func() { supervised.Ready(config.Log) }
			s, err := service.Open(cmd.Context(), *config)
			if err != nil {
				return err
			}
			defer s.Close()
			forget, err := keepStarted(listener.Addr().(*net.TCPAddr), config.Data)
			defer forget()
			if err != nil {
				config.Log.Warn("the command line will not find this service by itself", "error", err)
			}
			link, err := s.FirstLink(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "console and interface: https://%s\nits authority:         %s, in %s\nkey of last resort:    in %s\n", listener.Addr(), s.Fingerprint(), filepath.Join(config.Data, "authority.pem"), filepath.Join(config.Data, "admin.token"))
			if link.Secret != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "nobody can sign in by name yet; the first administrator does so at https://%s/welcome#%s until %s\n", listener.Addr(), link.Secret, when(link.Expires))
			}
			go supervised.Watch(cmd.Context(), config.Log, s.Ready)
			defer supervised.Stopping(config.Log)
			return s.Serve(cmd.Context(), listener)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&config.Data, "data", "", "folder for records, images and slabs")
	flags.StringVar(&listen, "listen", "127.0.0.1:7460", "address to answer on: by TLS, and for boot files by plain HTTP")
	flags.StringSliceVar(&config.Names.Also, "name", nil, "DNS names of the service, for its certificate, beside that of this machine")
	flags.StringVar(&config.Names.Certificate, "certificate", "", "PEM file of a certificate that the console shows to who calls it by a name in that; read again when it changes")
	flags.StringVar(&config.Names.Key, "certificate-key", "", "PEM file of its key")
	flags.StringVar(&config.Multicast.Interface, "multicast-interface", "", "network interface for streams (default: the one with the --listen address)")
	flags.StringVar(&groups, "multicast-groups", "239.255.0.0/24", "range of multicast addresses for streams")
	flags.Uint16Var(&config.Multicast.Port, "multicast-port", 6003, "port of streams")
	flags.IntVar(&ttl, "multicast-ttl", 1, "how many routers a stream may pass, plus one")
	flags.StringVar(&rate, "rate", "100Mbit", "rate of one stream")
	flags.StringVar(&ceiling, "ceiling", "", "what all streams together may take, such as 800Mbit (default: no bound)")
	flags.StringSliceVar(&config.IdentityFiles, "identity-files", nil, "patterns of files that tell one machine from another, which no golden disk may have (default: names that agents usually use)")
	flags.DurationVar(&config.ArrivalWithin, "arrival-within", 2*time.Hour, "how long after its delivery a copy is to have started and reported")
	flags.DurationVar(&config.KeepLines, "keep-lines", 0, "how long lines of the logbook are kept, such as 17520h (default: for ever); receipts are kept in any case")
	flags.BoolVar(&config.AcceptCards, "accept-cards", false, "accept unknown network cards at once, where the workstation is known by UUID and serial number")
	flags.StringSliceVar(&config.BuildFrom, "build-from", nil, "folders that systems for builds of the boot environment may be read from, beside this machine's own")
	flags.StringSliceVar(&config.At, "at", nil, "addresses that the service is reached by, for who asks the store who is the service (default: that of --listen)")
	flags.DurationVar(&config.LeaseFor, "lease-for", lease.For, "with jugate standby: how long another machine waits, when this one falls silent, before it becomes the service")
	boot.add(flags)
	cmd.MarkFlagRequired("data")
	return cmd, config
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
