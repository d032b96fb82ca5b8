package cli

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"jugate/apiclient"
	"jugate/core/slabstore"
	"jugate/wire"
)

func (a *app) benchCommand() *cobra.Command {
	return noun("bench", "Measure what this very network and disk can do, in terms of the work", a.benchNetwork(), benchStore(a), a.benchMulticast())
}

// goldenSize is what a golden disk usually has in use, in bytes; figures are told for one.
const goldenSize = 20 << 30

// figure is one that was measured, with what it means for the work.
type figure struct {
	Measured string  `json:"measured"`
	Value    float64 `json:"value"`
	Unit     string  `json:"unit"`
	Means    string  `json:"means"`
}

func printFigures(cmd *cobra.Command, a *app, all []figure) error {
	return printList(cmd, a, all, []column[figure]{
		{title: "measured", value: func(f figure) string { return f.Measured }},
		{title: "value", value: func(f figure) string { return fmt.Sprintf("%.1f %s", f.Value, f.Unit) }, right: true},
		{title: "means", value: func(f figure) string { return f.Means }},
	})
}

// takes says how long a golden disk takes at a rate, in bytes a second.
func takes(what string, rate float64) string {
	return fmt.Sprintf("%s 20 GiB takes %s", what, (time.Duration(goldenSize / rate * float64(time.Second))).Round(time.Second))
}

func (a *app) benchNetwork() *cobra.Command {
	var bytes int64
	cmd := &cobra.Command{
		Use: "network", Short: "Measure the way from the service to this machine", Args: cobra.NoArgs, Example: "  jugate bench network",
		Long: "Measure the way from the service to this machine: how long an answer takes, and how fast bytes come by TLS, which\nis how one workstation alone gets an image.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var answers []float64
			for range 21 { // the first opens the connection
				began := time.Now()
				if _, err := c.Health(cmd.Context()); err != nil {
					return err
				}
				answers = append(answers, time.Since(began).Seconds()*1000)
			}
			answers = answers[1:]
			slices.Sort(answers)
			content, err := c.MeasureBytes(cmd.Context(), bytes)
			if err != nil {
				return err
			}
			defer content.Close()
			began := time.Now()
			n, err := io.Copy(io.Discard, content)
			if err != nil {
				return err
			}
			rate := float64(n) / time.Since(began).Seconds()
			return printFigures(cmd, a, []figure{
				{"an answer", answers[len(answers)/2], "ms", fmt.Sprintf("the slowest of 20 took %.3g ms", answers[len(answers)-1])},
				{"bytes from the service", rate * 8 / 1e6, "Mbit/s", takes("one workstation alone:", rate)},
			})
		},
	}
	cmd.Flags().Int64Var(&bytes, "bytes", 256<<20, "how much is fetched, up to 1 GiB")
	return cmd
}

func benchStore(a *app) *cobra.Command {
	slabs := 256
	cmd := &cobra.Command{
		Use: "store FOLDER", Short: "Measure a disk as a store of slabs", Args: cobra.ExactArgs(1), Example: "  jugate bench store /var/lib",
		Long: "Measure a disk as a store of slabs: a new folder in FOLDER is filled as captures do it, with every slab synced, is\nread back and compared, and is removed. It needs no service.",
		RunE: func(cmd *cobra.Command, args []string) error {
			dir, err := os.MkdirTemp(args[0], "jugate-bench")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			all, err := measureStore(cmd.Context(), dir, slabs)
			if err != nil {
				return err
			}
			return printFigures(cmd, a, all)
		},
	}
	cmd.Flags().IntVar(&slabs, "slabs", slabs, "how many slabs of 1 MiB are written")
	return cmd
}

// measureStore writes slabs that nobody can compress into a new store, and reads them back.
func measureStore(ctx context.Context, dir string, slabs int) ([]figure, error) {
	const slab = 1 << 20
	store, err := slabstore.Open(dir)
	if err != nil {
		return nil, err
	}
	random := rand.NewChaCha8([32]byte{})
	plain := make([]byte, slab)
	digests := make([]slabstore.Digest, 0, slabs)
	var writing time.Duration
	for range slabs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		random.Read(plain)
		d, frame := slabstore.Sum(plain), slabstore.Compress(nil, plain)
		began := time.Now()
		if _, err := store.Keep(d, frame); err != nil {
			return nil, err
		}
		writing += time.Since(began)
		digests = append(digests, d)
	}
	began := time.Now()
	for _, d := range digests {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if _, err := store.Check(d); err != nil {
			return nil, err
		}
	}
	reading := time.Since(began)
	write, read := float64(slabs*slab)/writing.Seconds(), float64(slabs*slab)/reading.Seconds()
	return []figure{
		{"written and synced", write / 1e6, "MB/s", takes("the capture of", write)},
		{"a slab, until it is safe", writing.Seconds() * 1000 / float64(slabs), "ms", fmt.Sprintf("of %d", slabs)},
		{"read and compared", read / 1e6, "MB/s", fmt.Sprintf("feeds streams of %.0f Mbit/s together; what was just written may come from memory", read*8/1e6)},
	}, nil
}

func (a *app) benchMulticast() *cobra.Command {
	var ifname, upTo string
	cmd := &cobra.Command{
		Use: "multicast --interface IF", Short: "Measure at which rate multicast of the service comes here whole", Args: cobra.NoArgs, Example: "  jugate bench multicast --interface eth0\n  jugate bench multicast --interface eth0 --up-to 1Gbit",
		Long: "Measure at which rate multicast of the service comes here whole: for a second each, packets are sent at one rate\nafter another, until more than one of a hundred is lost. Others in the network notice it, so choose a quiet time; no\nrate exceeds the ceiling of streams.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			most, err := wire.ParseRate(upTo)
			if err != nil || most == 0 {
				return usageError{fmt.Errorf("--up-to: %q is not a rate", upTo)}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := measureMulticast(cmd.Context(), c, ifname, most)
			if err != nil {
				return err
			}
			return printFigures(cmd, a, all)
		},
	}
	cmd.Flags().StringVar(&ifname, "interface", "", "network interface to listen at")
	cmd.Flags().StringVar(&upTo, "up-to", "400Mbit", "the highest rate that is tried")
	cmd.MarkFlagRequired("interface")
	return cmd
}

// measureMulticast listens for trials at rising rates.
func measureMulticast(ctx context.Context, c *apiclient.Client, ifname string, most int64) (all []figure, err error) {
	whole := int64(0)
	for rate := min(int64(25e6), most); ; rate = min(rate*2, most) {
		began := time.Now()
		sent, heard, err := listenForTrial(ctx, c, ifname, rate)
		if err != nil {
			return nil, err
		}
		truly := float64(sent) * wire.TrialSize * 8 / max(time.Since(began)-wire.TrialLate, time.Second).Seconds()
		lost := 100 * float64(sent-heard) / float64(max(sent, 1))
		all = append(all, figure{fmt.Sprintf("lost at %.0f Mbit/s", truly/1e6), lost, "%", fmt.Sprintf("%d of %d packets were heard", heard, sent)})
		if lost > 1 {
			break
		}
		if whole = int64(truly); rate == most {
			break
		}
	}
	if whole == 0 {
		return append(all, figure{"comes whole", 0, "Mbit/s", "jugate doctor --interface " + ifname + " says what may be the cause"}), nil
	}
	return append(all, figure{"comes whole", float64(whole) / 1e6, "Mbit/s", takes("a whole room:", float64(whole)/8) + "; jugate config set rate"}), nil
}
