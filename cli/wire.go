package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/core/fec"
	"jugate/core/norm"
	"jugate/wire"
)

func (a *app) wireCommand() *cobra.Command {
	return noun("wire", "Check what multicast does between two ports, with plain files", a.wireSend(), a.wireReceive())
}

// channelFlags say where a stream goes.
type channelFlags struct {
	group, ifi string
	ttl        int
}

func (c *channelFlags) add(cmd *cobra.Command, name string) {
	cmd.Flags().StringVar(&c.group, name, "", "multicast address and port, such as 233.252.0.7:6003 or [ff15::7]:6003")
	cmd.Flags().StringVar(&c.ifi, "interface", "", "network interface")
	cmd.Flags().IntVar(&c.ttl, "ttl", 1, "networks that packets may pass; 0 never leaves this machine")
	cmd.MarkFlagRequired(name)
	cmd.MarkFlagRequired("interface")
}

func (c *channelFlags) config() (wire.Config, error) {
	group, err := netip.ParseAddrPort(c.group)
	if err != nil || !group.Addr().IsMulticast() || group.Port() == 0 {
		return wire.Config{}, usageError{fmt.Errorf("%q is not a multicast address with a port (such as 233.252.0.7:6003)", c.group)}
	}
	if c.ttl < 0 || c.ttl > 255 {
		return wire.Config{}, usageError{fmt.Errorf("a TTL is between 0 and 255, not %d", c.ttl)}
	}
	config := wire.Config{Group: group, Interface: c.ifi, TTL: c.ttl}
	if c.ttl == 0 || c.ifi == "lo" {
		config.TTL = wire.NoTTL
	}
	return config, nil
}

// codes are the names of parity codes.
var codes = map[string]fec.Points{"standard": fec.Standard, "zero-first": fec.ZeroFirst}

func (a *app) wireSend() *cobra.Command {
	var to channelFlags
	var rate, code string
	var config norm.SenderConfig
	cmd := &cobra.Command{
		Use: "send FILE… --to ADDRESS:PORT --interface IF", Short: "Send files by multicast (RFC 5740), or a stream from standard input (-)",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			socket, err := to.config()
			if err != nil {
				return err
			}
			points, known := codes[code]
			if !known {
				return usageError{fmt.Errorf("--code is standard or zero-first, not %q", code)}
			}
			config.Points = points
			if config.Rate, config.Congestion, err = parseRateRange(rate); err != nil {
				return usageError{err}
			}
			meter := newMeter(cmd.ErrOrStderr(), "sending")
			defer meter.end()
			progress := func(done, total int64) { meter.set("sending", done, total) }
			away := func(err error) { fmt.Fprintf(cmd.ErrOrStderr(), "%v; waiting for it\n", err) }
			var report wire.SendReport
			if len(args) == 1 && args[0] == "-" {
				report, err = wire.SendStream(cmd.Context(), socket, config, "stream", cmd.InOrStdin(), progress, away)
			} else {
				report, err = wire.SendFiles(cmd.Context(), socket, config, args, progress, away)
			}
			if err != nil {
				return err
			}
			meter.done = meter.total
			return a.printSent(cmd, report)
		},
	}
	to.add(cmd, "to")
	cmd.Flags().StringVar(&rate, "rate", "100Mbit", "bits a second on the wire; a range, such as 20Mbit-400Mbit, adapts to the slowest receiver")
	cmd.Flags().IntVar(&config.MaxBlock, "block", 0, "source symbols of a block (default 192)")
	cmd.Flags().IntVar(&config.MaxParity, "parity", 0, "parity symbols that can be made for a block (default as many as there are)")
	cmd.Flags().IntVar(&config.Ahead, "ahead", 0, "parity symbols sent with each block unasked")
	cmd.Flags().IntVar(&config.SymbolSize, "symbol", 0, "bytes of a symbol (default what fills a packet)")
	cmd.Flags().IntVar(&config.GroupSize, "group-size", 0, "receivers that the timers are made for (default 100)")
	cmd.Flags().StringVar(&code, "code", "standard", "parity code: standard (RFC 5510), or zero-first, which older implementations of RFC 5740 use")
	cmd.RegisterFlagCompletionFunc("code", cobra.FixedCompletions(toCompletions([]string{"standard", "zero-first"}), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// parseRateRange reads a rate, or a floor and a ceiling.
func parseRateRange(s string) (rate float64, c *norm.Congestion, err error) {
	low, high, isRange := strings.Cut(s, "-")
	first, err := wire.ParseRate(low)
	if err == nil && first == 0 {
		err = errors.New("a rate is needed")
	}
	if err != nil || !isRange {
		return float64(first), nil, err
	}
	last, err := wire.ParseRate(high)
	if err == nil && last < first {
		err = fmt.Errorf("%q: the ceiling is below the floor", s)
	}
	return float64(first), &norm.Congestion{Floor: float64(first), Ceiling: float64(last)}, err
}

func (a *app) printSent(cmd *cobra.Command, r wire.SendReport) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), r)
	}
	printFields(cmd.OutOrStdout(), []field{
		{"files", fmt.Sprint(r.Files)}, {"bytes", size(r.Bytes)},
		{"on the wire", fmt.Sprintf("%s in %d packets (%s)", size(r.SenderStats.Bytes), r.Packets, ratio(r.SenderStats.Bytes, r.Bytes))},
		{"time", fmt.Sprintf("%.2f s", r.Seconds)},
		{"sent again", fmt.Sprintf("%d symbols, %d of them parity", r.Repairs, r.Parity)},
		{"heard", fmt.Sprintf("%d repair requests, %d acknowledgements", r.Nacks, r.Acks)},
		{"round trip", r.GRTT.Round(time.Microsecond).String()},
	})
	if r.Nacks+r.Acks == 0 {
		fmt.Fprintln(cmd.ErrOrStderr(), "nobody answered: there may be no receiver, or what they say does not reach this port")
	}
	return nil
}

func ratio(a, b int64) string {
	if b == 0 {
		return "nothing to send"
	}
	return fmt.Sprintf("%.3f of the bytes", float64(a)/float64(b))
}

func (a *app) wireReceive() *cobra.Command {
	var from channelFlags
	var dir string
	var config norm.ReceiverConfig
	var options wire.ReceiveOptions
	cmd := &cobra.Command{
		Use: "receive --from ADDRESS:PORT --interface IF --into DIR", Short: "Receive files by multicast (RFC 5740)", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			socket, err := from.config()
			if err != nil {
				return err
			}
			if options.Count < 0 {
				return usageError{fmt.Errorf("%d files cannot be waited for", options.Count)}
			}
			meter := newMeter(cmd.ErrOrStderr(), "receiving")
			defer meter.end()
			options.Progress = func(_ string, done, total int64) { meter.set("receiving", done, total) }
			report, err := wire.ReceiveFiles(cmd.Context(), socket, config, dir, options)
			if err == nil {
				meter.done = meter.total
			}
			if !errors.Is(err, context.Canceled) && errors.Is(err, wire.ErrIncompleteFiles) && len(report.Files) > 0 {
				err = partlyDone{err}
			}
			return errors.Join(a.printReceived(cmd, report), err)
		},
	}
	from.add(cmd, "from")
	cmd.Flags().StringVar(&dir, "into", "", "folder for the files")
	cmd.Flags().IntVar(&options.Count, "count", 0, "files to wait for (default: until the sender says that it is done)")
	cmd.Flags().DurationVar(&options.Wait, "wait", 30*time.Second, "longest time in which nothing comes; 0 waits without end")
	cmd.Flags().BoolVar(&options.Replace, "replace", false, "replace files that are there already")
	cmd.Flags().BoolVar(&config.Unicast, "unicast", false, "answer the sender's own address, where this port cannot multicast")
	cmd.Flags().BoolVar(&config.Silent, "silent", false, "never answer; what is lost stays lost")
	cmd.MarkFlagRequired("into")
	cmd.MarkFlagDirname("into")
	return cmd
}

func (a *app) printReceived(cmd *cobra.Command, r wire.ReceiveReport) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), struct {
			wire.ReceiveReport
			LossShare float64
		}{r, r.LossShare()})
	}
	err := printList(cmd, a, r.Files, []column[wire.ReceivedFile]{
		{title: "file", value: func(f wire.ReceivedFile) string { return f.Name }},
		{title: "size", value: func(f wire.ReceivedFile) string { return size(f.Bytes) }, right: true},
		{title: "after", value: func(f wire.ReceivedFile) string { return fmt.Sprintf("%.2f s", f.At) }, right: true},
		{title: "sender", value: func(f wire.ReceivedFile) string { return fmt.Sprint(f.Sender) }, right: true},
	})
	if err != nil || a.output == "csv" {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	printFields(cmd.OutOrStdout(), []field{
		{"packets", fmt.Sprintf("%d came, %d were lost (%.2f %%)", r.Packets, r.Lost, 100*r.LossShare())},
		{"mended", fmt.Sprintf("%d symbols, %d source symbols made from parity", r.Repairs, r.Recovered)},
		{"asked", fmt.Sprintf("%d times, %d times others had asked already", r.Nacks, r.Suppressed)},
	})
	return nil
}
