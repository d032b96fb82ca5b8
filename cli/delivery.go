package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/wire"
)

func (a *app) captureCommand() *cobra.Command {
	var image, note string
	var noWait bool
	var how api.CaptureOptions
	cmd := &cobra.Command{
		Use: "capture WORKSTATION --as IMAGE", Short: "Capture a workstation's disk as the next version of an image", Args: cobra.ExactArgs(1),
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
	cmd.Flags().StringVar(&how.Despite, "despite", "", "reason to capture in spite of blocking findings; the version keeps it")
	cmd.Flags().StringSliceVar(&how.Only, "only", nil, onlyHelp)
	cmd.Flags().StringSliceVar(&how.Without, "without", nil, withoutHelp)
	cmd.Flags().BoolVar(&how.PastBadSectors, "past-bad-sectors", false, "go on where the disk cannot be read, and name the places in the version")
	cmd.Flags().BoolVar(&how.KeepPageFiles, "keep-page-files", false, "take page and hibernation files along instead of leaving them out")
	cmd.Flags().BoolVar(&how.CopyEncrypted, "copy-encrypted", false, "copy encrypted volumes whole")
	cmd.Flags().BoolVar(&how.KeepEqual, "keep-equal", false, "make a version although nothing has changed since the newest one")
	cmd.Flags().StringVar(&how.WhenDone, "when-done", "stay", "what the workstation does then: restart, power-off or stay")
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
	for _, text := range e.Result {
		fmt.Fprintln(cmd.ErrOrStderr(), text)
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
	return partlyDone{fmt.Errorf("not every workstation got the image: %d of %d did", delivered, len(d.Members))}
}

func (a *app) deliveryCommand() *cobra.Command {
	return noun("delivery", "See, watch and change deliveries",
		a.deliveryList(), a.deliveryRate(), a.deliveryExtend(),
		a.deliveryVerb("pause DELIVERY", "Hold the stream of a delivery", a.changed((*apiclient.Client).PauseDelivery)),
		a.deliveryVerb("resume DELIVERY", "Let the stream of a delivery go on", a.changed((*apiclient.Client).ResumeDelivery)),
		a.deliveryVerb("show DELIVERY", "Show a delivery with its workstations", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
			d, err := c.Delivery(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.printDelivery(cmd, d)
		}),
		a.deliveryVerb("watch DELIVERY", "Watch a delivery until it is over", a.followDelivery),
		a.deliveryVerb("stop DELIVERY", "Stop a delivery for all workstations that are not through", a.changed((*apiclient.Client).StopDelivery)),
	)
}

// changed does something to a delivery and prints how it is now.
func (a *app) changed(do func(c *apiclient.Client, ctx context.Context, id int64) (api.Delivery, error)) func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
	return func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
		d, err := do(c, cmd.Context(), id)
		if err != nil {
			return err
		}
		return a.printDelivery(cmd, d)
	}
}

// numberOf reads the number of a thing, such as "a delivery".
func numberOf(what, text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is not the number of %s", text, what)}
	}
	return id, nil
}

// deliveryVerb is a command on one delivery; what stands behind its number is in
// the command's own arguments.
func (a *app) deliveryVerb(use, short string, do func(cmd *cobra.Command, c *apiclient.Client, id int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(strings.Count(use, " ")),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := numberOf("a delivery", args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return do(cmd, c, id)
		},
	}
}

func (a *app) deliveryRate() *cobra.Command {
	return a.deliveryVerb("rate DELIVERY RATE", "Slow a delivery down or speed it up", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
		bits, err := wire.ParseRate(cmd.Flags().Arg(1))
		if err != nil || bits == 0 {
			return usageError{fmt.Errorf("%q is not a rate (such as 200Mbit)", cmd.Flags().Arg(1))}
		}
		d, err := c.SetDeliveryRate(cmd.Context(), id, bits)
		if err != nil {
			return err
		}
		return a.printDelivery(cmd, d)
	})
}

func (a *app) deliveryExtend() *cobra.Command {
	var in api.MoreTargets
	cmd := a.deliveryVerb("extend DELIVERY", "Bring a running delivery to more groups and workstations", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
		d, err := c.ExtendDelivery(cmd.Context(), id, in)
		if err != nil {
			return err
		}
		return a.printDelivery(cmd, d)
	})
	cmd.Use += " --to GROUP|WORKSTATION…"
	a.targetFlags(cmd, &in.To, &in.Where)
	return cmd
}

func (a *app) deliveryList() *cobra.Command {
	return list(a, lister[api.Delivery]{
		short: "List deliveries, the newest first", example: "  jugate delivery list --open",
		what: "deliveries", none: "no deliveries yet; order one with: jugate deliver IMAGE --to GROUP",
		fetch: (*apiclient.Client).Deliveries, sort: []string{"created", "state", "image"},
		filters: []filter{{name: "open", help: "only deliveries that are not over", truth: true}},
		columns: []column[api.Delivery]{
			{title: "delivery", value: func(d api.Delivery) string { return fmt.Sprint(d.ID) }, right: true},
			{title: "image", value: func(d api.Delivery) string { return fmt.Sprintf("%s@%d", d.Image, d.Version) }},
			{title: "to", value: func(d api.Delivery) string { return strings.Join(d.Targets, " ") }},
			{title: "start", value: func(d api.Delivery) string { return d.Start }},
			{title: "state", value: stateText},
			{title: "ordered", value: func(d api.Delivery) string { return when(d.Created) }},
			{title: "ended", value: func(d api.Delivery) string { return whenPtr(d.Ended) }},
			{title: "on the wire", value: func(d api.Delivery) string { return size(d.WireBytes) }, right: true},
			{title: "reason", value: func(d api.Delivery) string { return cmp.Or(d.Reason, d.Warning) }},
		},
	})
}

func (a *app) printDelivery(cmd *cobra.Command, d api.Delivery) error {
	err := show(cmd, a, d,
		field{"delivery", fmt.Sprint(d.ID)}, field{"image", fmt.Sprintf("%s@%d", d.Image, d.Version)}, field{"to", strings.Join(d.Targets, " ")}, field{"starts", startInWords(d.Start)},
		field{"carried by", carriedBy(d)}, field{"at the latest", startsAtLatest(d)}, field{"when done", strings.TrimPrefix(d.WhenDone, "stay")}, field{"how", how(d)},
		field{"state", stateText(d)}, field{"reason", d.Reason}, field{"waits for", d.Warning}, field{"channel", d.Channel}, field{"rate", humanize.SIWithDigits(float64(d.Rate), 0, "bit/s")},
		field{"ordered", when(d.Created) + " by the " + d.OrderedBy}, field{"started", whenPtr(d.Started)}, field{"ended", whenPtr(d.Ended)},
		field{"image bytes", size(d.UsedBytes)}, field{"on the wire", size(d.WireBytes)})
	if err != nil || a.output != "table" {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	if len(d.Parts) > 0 {
		if err := printList(cmd, a, d.Parts, []column[api.DeliveryPart]{
			{title: "outpost", value: func(p api.DeliveryPart) string { return p.Name }},
			{title: "state", value: func(p api.DeliveryPart) string {
				if p.Away {
					return string(p.State) + ", when it was heard last"
				}
				return string(p.State)
			}},
			{title: "workstations", value: func(p api.DeliveryPart) string { return fmt.Sprint(p.Members) }, right: true},
			{title: "through", value: func(p api.DeliveryPart) string { return fmt.Sprint(p.Members - p.Open) }, right: true},
			{title: "slabs", value: func(p api.DeliveryPart) string {
				if p.Slabs == 0 {
					return ""
				}
				return fmt.Sprintf("%d of %d", p.SentSlabs, p.Slabs)
			}, right: true},
			{title: "rate", value: func(p api.DeliveryPart) string {
				if p.RateNow == 0 {
					return ""
				}
				return humanize.SIWithDigits(float64(p.RateNow), 0, "bit/s")
			}, right: true},
		}); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout())
	}
	columns := []column[api.Member]{
		{title: "workstation", value: func(m api.Member) string { return m.Workstation }},
		{title: "hardware address", value: func(m api.Member) string { return m.Address }},
		{title: "phase", value: func(m api.Member) string { return string(m.Phase) }},
		{title: "outcome", value: func(m api.Member) string { return string(m.Outcome) }},
		{title: "multicast", value: func(m api.Member) string { return size(m.Multicast) }, right: true},
		{title: "unicast", value: func(m api.Member) string { return size(m.Unicast) }, right: true},
	}
	if d.Ended == nil {
		columns = append(columns, liveColumns...)
	}
	if len(d.Parts) > 0 {
		columns = append(columns, column[api.Member]{title: "at", value: func(m api.Member) string { return m.Site }})
	}
	columns = append(columns, column[api.Member]{title: "reason", value: reasonText})
	if err := printList(cmd, a, d.Members, columns); err != nil || len(d.Story)+len(d.Changes) == 0 {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	if len(d.Story) > 0 { // which has the changes
		_, err := fmt.Fprintln(cmd.OutOrStdout(), strings.Join(d.Story, "\n"))
		return err
	}
	return printList(cmd, a, d.Changes, []column[api.DeliveryChange]{
		{title: "at", value: func(c api.DeliveryChange) string { return when(c.At) }},
		{title: "by", value: func(c api.DeliveryChange) string { return c.By }},
		{title: "what", value: func(c api.DeliveryChange) string { return c.What }},
	})
}
