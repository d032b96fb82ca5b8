package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
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
	var rate, aside string
	var atLatest string
	var noWait bool
	var order api.NewDelivery
	cmd := &cobra.Command{
		Use: "deliver IMAGE[@VERSION] --to GROUP|WORKSTATION…", Short: "Bring an image version to groups and workstations", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.complete(imageNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			order.Image = args[0]
			var err error
			if order.Rate, err = parseRate(rate); err != nil {
				return usageError{err}
			}
			if order.Start, order.AtLatest, err = startTimes(order.Start, atLatest, time.Now()); err != nil {
				return usageError{err}
			}
			if order.Aside, err = parseAside(aside); err != nil {
				return usageError{err}
			}
			if !slices.Contains(whenDone, order.WhenDone) {
				return usageError{fmt.Errorf("--when-done is one of %s, not %q", strings.Join(whenDone, ", "), order.WhenDone)}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.Deliver(cmd.Context(), order)
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
	cmd.Flags().StringSliceVar(&order.To, "to", nil, "groups and workstations")
	cmd.Flags().StringVar(&order.Start, "start", "all", "when the stream starts: first, all, ready:N or at:TIME; the earliest of several with commas, the latest with pluses")
	cmd.Flags().StringVar(&atLatest, "at-latest", "", "when it starts at the latest, with whoever is ready: a time such as 18:30, or how long from now (or from the time in --start), such as 10m (default 1h)")
	cmd.Flags().StringVar(&rate, "rate", "", "rate of the stream, such as 200Mbit (default: the service's)")
	cmd.Flags().StringVar(&order.WhenDone, "when-done", "stay", "what a workstation does then: restart, power-off or stay")
	cmd.Flags().BoolVar(&order.Reuse, "reuse", false, "workstations check their disks first, and only what differs is sent")
	cmd.Flags().BoolVar(&order.Sealed, "sealed", false, "encrypt the slabs on the wire")
	cmd.Flags().StringVar(&aside, "aside", "", "who is served alone: never, or loss=10,disk=4s,silent=20s (percent of packets, time its disk does not keep up, time without a word)")
	cmd.Flags().StringVar(&order.Disk, "disk", "only", diskRuleHelp)
	cmd.Flags().StringVar(&order.Grow, "grow", "system", "partition that takes the room of a larger disk: system (the one with the operating system), a number, last, or none")
	cmd.Flags().BoolVar(&order.Trim, "trim", false, "tell the disks first that nothing on them is needed")
	cmd.Flags().StringSliceVar(&order.Drivers, "drivers", nil, driversHelp)
	cmd.Flags().BoolVar(&order.DriversWhole, "drivers-whole", false, "put in everything that the sets have, matched or not")
	cmd.Flags().BoolVar(&order.DespiteDrivers, "despite-drivers", false, "deliver although a disk controller or network card would have no driver")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "order it and return at once")
	cmd.MarkFlagRequired("to")
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
	cmd.RegisterFlagCompletionFunc("drivers", a.complete(driverSetNames))
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

var whenDone = []string{"stay", "restart", "power-off"}

func targetNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	groups, err := groupNames(ctx, c)
	names, err2 := workstationNames(ctx, c)
	return append(groups, names...), errors.Join(err, err2)
}

// startsAtLatest is when a delivery starts at the latest, as long as that is of interest.
func startsAtLatest(d api.Delivery) string {
	if d.State != delivery.Gathering {
		return ""
	}
	return when(d.AtLatest)
}

// startTimes reads when a delivery starts, by its gather rule and at the latest.
func startTimes(start, atLatest string, now time.Time) (rule string, latest *time.Time, err error) {
	if rule, err = startRule(start, now); err != nil || atLatest == "" {
		return rule, nil, err
	}
	parsed, err := delivery.ParseRule(rule)
	if err != nil {
		return rule, nil, err
	}
	var at time.Time
	if wait, err := time.ParseDuration(atLatest); err == nil {
		if wait < time.Second {
			return rule, nil, fmt.Errorf("--at-latest: %s is too short", atLatest)
		}
		at = parsed.WaitsFrom(now).Add(wait)
	} else if at, err = parseTime(atLatest, now); err != nil {
		return rule, nil, fmt.Errorf("--at-latest: %w, nor how long to wait (such as 10m)", err)
	}
	at = at.UTC()
	return rule, &at, nil
}

// startRule completes the times of a gather rule.
func startRule(rule string, now time.Time) (string, error) {
	parts := strings.FieldsFunc(rule, func(r rune) bool { return r == ',' || r == '+' })
	for _, part := range parts {
		text, isTime := strings.CutPrefix(part, "at:")
		if !isTime {
			continue
		}
		at, err := parseTime(text, now)
		if err != nil {
			return "", fmt.Errorf("--start: %w", err)
		}
		rule = strings.Replace(rule, part, "at:"+at.UTC().Format(time.RFC3339), 1)
	}
	_, err := delivery.ParseRule(rule)
	return rule, err
}

// parseTime reads a time of this place: 18:30 is the next time that a clock here shows
// that.
func parseTime(text string, now time.Time) (time.Time, error) {
	if clock, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), clock.Hour(), clock.Minute(), 0, 0, now.Location())
		if at.Before(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at, nil
	}
	if at, err := time.ParseInLocation("2006-01-02T15:04", text, now.Location()); err == nil {
		return at, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, fmt.Errorf("%q is not a time (such as 18:30 or 2026-03-01T18:30)", text)
	}
	return at, nil
}

// parseAside reads who is set aside.
func parseAside(s string) (rule api.AsideRule, err error) {
	switch s {
	case "":
		return rule, nil
	case "never":
		return api.AsideRule{Never: true}, nil
	}
	for _, part := range strings.Split(s, ",") {
		key, value, _ := strings.Cut(part, "=")
		var d time.Duration
		switch key {
		case "loss":
			rule.LossPercent, err = strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
			if rule.LossPercent <= 0 || rule.LossPercent > 100 {
				err = errors.New("no percentage")
			}
		case "disk":
			d, err = time.ParseDuration(value)
			rule.DiskSeconds = int(d.Seconds())
		case "silent":
			d, err = time.ParseDuration(value)
			rule.SilentSeconds = int(d.Seconds())
		default:
			err = errors.New("no such rule")
		}
		if err == nil && key != "loss" && d < time.Second {
			err = errors.New("at least a second")
		}
		if err != nil {
			return rule, fmt.Errorf("--aside: %q: %w (never, or some of loss=10,disk=4s,silent=20s)", part, err)
		}
	}
	return rule, nil
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
	return noun("delivery", "See, watch and change deliveries",
		a.deliveryList(), a.deliveryRate(), a.deliveryExtend(),
		a.deliveryVerb("pause ID", "Hold the stream of a delivery", a.changed((*apiclient.Client).PauseDelivery)),
		a.deliveryVerb("resume ID", "Let the stream of a delivery go on", a.changed((*apiclient.Client).ResumeDelivery)),
		a.deliveryVerb("show ID", "Show a delivery with its workstations", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
			d, err := c.Delivery(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.printDelivery(cmd, d)
		}),
		a.deliveryVerb("watch ID", "Watch a delivery until it is over", a.followDelivery),
		a.deliveryVerb("stop ID", "Stop a delivery for everyone who is not through", a.changed((*apiclient.Client).StopDelivery)),
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

// deliveryVerb is a command on one delivery; what stands behind its number is in
// the command's own arguments.
func (a *app) deliveryVerb(use, short string, do func(cmd *cobra.Command, c *apiclient.Client, id int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(strings.Count(use, " ")),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is not the number of a delivery", args[0])}
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
	return a.deliveryVerb("rate ID RATE", "Slow a delivery down or speed it up", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
		bits, err := parseRate(cmd.Flags().Arg(1))
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
	var to []string
	cmd := a.deliveryVerb("extend ID", "Bring a running delivery to more groups and workstations", func(cmd *cobra.Command, c *apiclient.Client, id int64) error {
		d, err := c.ExtendDelivery(cmd.Context(), id, to...)
		if err != nil {
			return err
		}
		return a.printDelivery(cmd, d)
	})
	cmd.Use += " --to GROUP|WORKSTATION…"
	cmd.Flags().StringSliceVar(&to, "to", nil, "groups and workstations")
	cmd.MarkFlagRequired("to")
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
	return cmd
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
				{title: "state", value: func(d api.Delivery) string { return string(d.State) }},
				{title: "ordered", value: func(d api.Delivery) string { return when(d.Created) }},
				{title: "ended", value: func(d api.Delivery) string { return whenPtr(d.Ended) }},
				{title: "on the wire", value: func(d api.Delivery) string { return size(d.WireBytes) }, right: true},
				{title: "reason", value: func(d api.Delivery) string { return cmp.Or(d.Reason, d.Warning) }},
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
			{"starts at the latest", startsAtLatest(d)}, {"when done", strings.TrimPrefix(d.WhenDone, "stay")}, {"how", how(d)},
			{"state", stateText(d)}, {"reason", d.Reason}, {"waits for", d.Warning}, {"channel", d.Channel}, {"rate", humanize.SIWithDigits(float64(d.Rate), 0, "bit/s")},
			{"ordered", when(d.Created) + " by the " + d.OrderedBy}, {"started", whenPtr(d.Started)}, {"ended", whenPtr(d.Ended)},
			{"image bytes", size(d.UsedBytes)}, {"on the wire", size(d.WireBytes)},
		})
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
	columns = append(columns, column[api.Member]{title: "reason", value: reasonText})
	if err := printList(cmd, a, d.Members, columns); err != nil || a.output == "csv" || len(d.Changes) == 0 {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	return printList(cmd, a, d.Changes, []column[api.DeliveryChange]{
		{title: "at", value: func(c api.DeliveryChange) string { return when(c.At) }},
		{title: "by", value: func(c api.DeliveryChange) string { return c.By }},
		{title: "what", value: func(c api.DeliveryChange) string { return c.What }},
	})
}
