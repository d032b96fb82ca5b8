package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) captureCommand() *cobra.Command {
	var image, note string
	var noWait bool
	var how api.CaptureOptions
	cmd := &cobra.Command{
		Use: "capture WORKSTATION --as IMAGE", Short: "Capture a workstation's disk as the next version of an image", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.complete(workstationNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			e, err := c.Capture(cmd.Context(), api.NewCapture{Workstation: args[0], Image: image, Note: note, CaptureOptions: how})
			if err != nil {
				return err
			}
			if !noWait {
				if e, err = a.watchErrand(cmd.Context(), c, e.ID, cmd.ErrOrStderr()); err != nil {
					return leaving(err, fmt.Sprintf("errand %d", e.ID))
				}
			}
			return a.printCapture(cmd, c, e)
		},
	}
	cmd.Flags().StringVar(&image, "as", "", "name of the image")
	cmd.Flags().StringVar(&note, "note", "", "what is new in this version")
	cmd.Flags().StringVar(&how.Disk, "disk", "only", diskRuleHelp)
	cmd.Flags().StringVar(&how.Despite, "despite", "", "reason to go on in spite of blocking findings; the version keeps it for ever")
	cmd.Flags().BoolVar(&how.PastBadSectors, "past-bad-sectors", false, "go on where the disk cannot be read, and name the places in the version")
	cmd.Flags().BoolVar(&how.KeepPageFiles, "keep-page-files", false, "take page and hibernation files along instead of leaving them out")
	cmd.Flags().BoolVar(&how.CopyEncrypted, "copy-encrypted", false, "copy encrypted volumes whole")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "order it and return at once")
	cmd.MarkFlagRequired("as")
	cmd.RegisterFlagCompletionFunc("as", a.complete(imageNames))
	return cmd
}

func (a *app) printCapture(cmd *cobra.Command, c *apiclient.Client, e api.Errand) error {
	if a.output == "json" {
		if err := printJSON(cmd.OutOrStdout(), e); err != nil {
			return err
		}
	}
	switch {
	case e.State == "failed" || e.State == "stopped":
		return fmt.Errorf("the capture of %s %s: %s", e.Workstation, e.State, e.Error)
	case a.output == "json":
		return nil
	case e.Ended == nil:
		_, err := fmt.Fprintf(cmd.OutOrStdout(), "errand %d: %s will capture its disk as %s\n", e.ID, e.Workstation, e.Image)
		return err
	}
	v, err := c.Version(cmd.Context(), fmt.Sprintf("%s@%d", e.Image, e.Version))
	if err != nil {
		return err
	}
	return printList(cmd, a, []api.Version{v}, versionColumns)
}

// diskRuleHelp says how a disk is chosen on workstations that may have several.
const diskRuleHelp = "which disk: only, serial:NUMBER or size:200GB-600GB"

// leaving says, when the waiting was interrupted, that the work goes on.
func leaving(err error, what string) error {
	if errors.Is(err, context.Canceled) {
		return fmt.Errorf("no longer watching; %s goes on", what)
	}
	return err
}

func (a *app) deliverCommand() *cobra.Command {
	var to []string
	var start, rate string
	var noWait bool
	var how api.RestoreOptions
	cmd := &cobra.Command{
		Use: "deliver IMAGE[@VERSION] --to GROUP|WORKSTATION…", Short: "Bring an image version to groups and workstations", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.complete(imageNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			bits, err := parseRate(rate)
			if err != nil {
				return usageError{err}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.Deliver(cmd.Context(), api.NewDelivery{Image: args[0], To: to, Start: start, Rate: bits, RestoreOptions: how})
			if err != nil {
				return err
			}
			if noWait {
				return a.printDelivery(cmd, d)
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "delivery %d\n", d.ID)
			return a.followDelivery(cmd, c, d.ID)
		},
	}
	cmd.Flags().StringSliceVar(&to, "to", nil, "groups and workstations")
	cmd.Flags().StringVar(&start, "start", "all", "when the stream starts: first, all, or ready:N")
	cmd.Flags().StringVar(&how.Disk, "disk", "only", diskRuleHelp)
	cmd.Flags().StringVar(&how.Grow, "grow", "last", "partition that takes the room of a larger disk: a number, last, or none")
	cmd.Flags().BoolVar(&how.Trim, "trim", false, "tell the disks first that nothing on them is needed")
	cmd.Flags().StringVar(&rate, "rate", "", "rate of the stream, such as 200Mbit (default: the service's)")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "order it and return at once")
	cmd.MarkFlagRequired("to")
	cmd.RegisterFlagCompletionFunc("to", a.complete(func(ctx context.Context, c *apiclient.Client) ([]string, error) {
		groups, err := groupNames(ctx, c)
		names, err2 := workstationNames(ctx, c)
		return append(groups, names...), errors.Join(err, err2)
	}))
	return cmd
}

func (a *app) followDelivery(cmd *cobra.Command, c *apiclient.Client, id int64) error {
	d, err := a.watchDelivery(cmd.Context(), c, id, cmd.ErrOrStderr())
	if err != nil {
		return leaving(err, fmt.Sprintf("delivery %d", id))
	}
	if err := a.printDelivery(cmd, d); err != nil {
		return err
	}
	delivered := 0
	for _, m := range d.Members {
		if m.Outcome == "delivered" {
			delivered++
		}
	}
	switch {
	case delivered == len(d.Members):
		return nil
	case delivered == 0:
		return errors.New("no workstation got the image")
	}
	return fmt.Errorf("%w: %d of %d did", errPartly, delivered, len(d.Members))
}

func (a *app) deliveryCommand() *cobra.Command {
	return noun("delivery", "See, watch and stop deliveries",
		a.deliveryList(),
		a.deliveryVerb("show ID", "Show a delivery with its workstations", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
			d, err := c.Delivery(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.printDelivery(cmd, d)
		}),
		a.deliveryVerb("watch ID", "Watch a delivery until it is over", a.followDelivery),
		a.deliveryVerb("stop ID", "Stop a delivery for everyone who is not through", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
			d, err := c.StopDelivery(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.printDelivery(cmd, d)
		}),
	)
}

func (a *app) deliveryVerb(use, short string, do func(cmd *cobra.Command, c *apiclient.Client, id int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no delivery's number", args[0])}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return do(cmd, c, id)
		},
	}
}

func (a *app) deliveryList() *cobra.Command {
	var flags listFlags
	var open bool
	cmd := &cobra.Command{
		Use: "list", Short: "List deliveries, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			filter := map[string]string{}
			if open {
				filter["open"] = "true"
			}
			items, err := every(cmd.Context(), flags.list(filter), c.Deliveries)
			if err != nil {
				return err
			}
			return printList(cmd, a, items, []column[api.Delivery]{
				{title: "delivery", value: func(d api.Delivery) string { return fmt.Sprint(d.ID) }, right: true},
				{title: "image", value: func(d api.Delivery) string { return fmt.Sprintf("%s@%d", d.Image, d.Version) }},
				{title: "to", value: func(d api.Delivery) string { return strings.Join(d.Targets, " ") }},
				{title: "start", value: func(d api.Delivery) string { return d.Start }},
				{title: "state", value: func(d api.Delivery) string { return d.State }},
				{title: "ordered", value: func(d api.Delivery) string { return when(d.Created) }},
				{title: "ended", value: func(d api.Delivery) string { return whenPtr(d.Ended) }},
				{title: "on the wire", value: func(d api.Delivery) string { return size(d.WireBytes) }, right: true},
				{title: "reason", value: func(d api.Delivery) string { return d.Reason }},
			})
		},
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&open, "open", false, "only those that are not over")
	return cmd
}

func (a *app) printDelivery(cmd *cobra.Command, d api.Delivery) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), d)
	}
	if a.output == "table" {
		printFields(cmd.OutOrStdout(), []field{
			{"delivery", fmt.Sprint(d.ID)}, {"image", fmt.Sprintf("%s@%d", d.Image, d.Version)}, {"to", strings.Join(d.Targets, " ")}, {"start", d.Start},
			{"state", d.State}, {"reason", d.Reason}, {"channel", d.Channel}, {"rate", humanize.SIWithDigits(float64(d.Rate), 0, "bit/s")},
			{"ordered", when(d.Created) + " by the " + d.OrderedBy}, {"started", whenPtr(d.Started)}, {"ended", whenPtr(d.Ended)},
			{"image bytes", size(d.UsedBytes)}, {"on the wire", size(d.WireBytes)},
		})
		fmt.Fprintln(cmd.OutOrStdout())
	}
	return printList(cmd, a, d.Members, []column[api.Member]{
		{title: "workstation", value: func(m api.Member) string { return m.Workstation }},
		{title: "hardware address", value: func(m api.Member) string { return m.Address }},
		{title: "phase", value: func(m api.Member) string { return m.Phase }},
		{title: "outcome", value: func(m api.Member) string { return m.Outcome }},
		{title: "multicast", value: func(m api.Member) string { return size(m.Multicast) }, right: true},
		{title: "unicast", value: func(m api.Member) string { return size(m.Unicast) }, right: true},
		{title: "reason", value: func(m api.Member) string { return m.Reason }},
	})
}
