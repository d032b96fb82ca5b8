package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/delivery"
	"jugate/core/sheet"
	"jugate/wire"
)

func (a *app) deliverCommand() *cobra.Command {
	var rate, aside, atLatest string
	var noWait, yes, dryRun bool
	var order api.NewDelivery
	cmd := &cobra.Command{
		Use: "deliver IMAGE[@VERSION] --to GROUP|WORKSTATION…", Short: "Bring an image version to groups and workstations", Args: cobra.ExactArgs(1),
		Long: "Bring an image version to groups and workstations.\n\nFirst it shows what will be overwritten, on which workstations, and what speaks\nagainst it; on a terminal it asks then. Nothing is ordered if a disk is too small,\nthe firmware cannot start the system, or a network card or disk controller has no\ndriver in it.",
		Example: "  jugate deliver garden-desk --to herbarium --dry-run\n" +
			"  jugate deliver garden-desk@3 --to herb-03,herb-04 --when-done restart --yes\n" +
			"  jugate deliver garden-desk --to seed-bank-lab --start at:18:30 --at-latest 30m --yes\n" +
			"  jugate deliver garden-desk --to herbarium --answer 'time_zone=Europe/Vienna' --answer 'commands=[systemctl enable --now scanner]' --yes\n" +
			"  jugate deliver garden-desk --to herbarium --keep label=DATA --yes\n" +
			"  jugate deliver garden-desk --to herb-03 --partition 3 --onto-partition label=SYSTEM --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			order.Image = args[0]
			var err error
			if order.Rate, err = wire.ParseRate(rate); err != nil {
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
			if dryRun || !yes {
				plan, err := c.PlanDelivery(cmd.Context(), order)
				if err != nil {
					return err
				}
				if dryRun {
					return a.printDeliveryPlan(cmd, plan)
				}
				describeDelivery(cmd.ErrOrStderr(), plan)
				fmt.Fprintln(cmd.ErrOrStderr())
				if plan.Refused != "" {
					return errors.New(plan.Refused)
				}
				if err := confirm(cmd, false, fmt.Sprintf("the disks of %s would be overwritten", count(len(plan.Members), "workstation")), "Overwrite these disks?"); err != nil {
					return err
				}
				orderAsShown(&order, plan)
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
	a.targetFlags(cmd, &order.To, &order.Where)
	cmd.Flags().StringVar(&order.Start, "start", "all", "when the stream starts: all, first, ready:N (when N are ready) or at:TIME; with a comma between two when one of them holds, with a plus when both do")
	cmd.Flags().StringVar(&atLatest, "at-latest", "", "when it starts at the latest, with whoever is ready: a time such as 18:30, or how long from now (or from the time in --start), such as 10m (default 1h)")
	cmd.Flags().StringVar(&rate, "rate", "", "rate of the stream, such as 200Mbit (default: the service's)")
	cmd.Flags().StringVar(&order.WhenDone, "when-done", "stay", "what a workstation does then: restart, power-off or stay")
	cmd.Flags().BoolVar(&order.Reuse, "reuse", false, "workstations check their disks first, and only what differs is sent")
	cmd.Flags().BoolVar(&order.Sealed, "sealed", false, "encrypt the slabs on the wire")
	cmd.Flags().StringVar(&aside, "aside", "", "who is served alone: never, or limits such as loss=10,disk=4s,silent=20s (percent of packets lost, how long its disk lags behind, how long it reports nothing)")
	a.copyFlags(cmd, &order)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask: what is on the disks may go")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be done, and order nothing")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "order it and return at once")
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// copyFlags say how copies are to lie on disks, and what goes into them.
func (a *app) copyFlags(cmd *cobra.Command, order *api.NewDelivery) {
	cmd.Flags().StringVar(&order.Disk, "disk", "only", diskRuleHelp)
	placementFlags(cmd, &order.RestoreOptions)
	cmd.Flags().StringVar(&order.Confirm, "confirm", "", "text that somebody has to confirm at each workstation's screen before anything is written")
	cmd.Flags().BoolVar(&order.Trim, "trim", false, "tell the disks first that nothing on them is needed")
	cmd.Flags().StringVar(&order.DomainAway, "domain-away", "refuse", "what to do with who is to join a domain that does not answer: refuse, wait or go-on")
	cmd.RegisterFlagCompletionFunc("domain-away", cobra.FixedCompletions([]cobra.Completion{"refuse", "wait", "go-on"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.Flags().StringVar(&order.Answers, "answers", "set", "what copies become: set (what is set for their workstation) or none (as the golden machine was)")
	cmd.RegisterFlagCompletionFunc("answers", cobra.FixedCompletions([]cobra.Completion{"set", "none"}, cobra.ShellCompDirectiveNoFileComp))
	ownAnswersFlag(cmd, order)
	cmd.Flags().StringSliceVar(&order.Drivers, "drivers", nil, driversHelp)
	cmd.RegisterFlagCompletionFunc("drivers", a.complete(driverSetNames))
	cmd.Flags().BoolVar(&order.DriversWhole, "drivers-whole", false, "install everything that the sets have, matched or not")
	cmd.Flags().BoolVar(&order.DespiteDrivers, "despite-drivers", false, "deliver although a disk controller or network card would have no driver")
	cmd.Flags().BoolVar(&order.DespiteFirmware, "despite-firmware", false, "deliver although a workstation's firmware, as it was seen last, does not start the system")
}

// ownAnswersFlag takes answers of a delivery's own.
func ownAnswersFlag(cmd *cobra.Command, order *api.NewDelivery) {
	cmd.Flags().Var(&ownAnswers{order}, "answer", "answer of this delivery's own, KEY=VALUE, which counts before all that is set; can be given several times")
	cmd.RegisterFlagCompletionFunc("answer", func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		var keys []cobra.Completion
		for _, k := range answers.Keys {
			if !k.Secret && k.Name != "computer_name" {
				keys = append(keys, k.Name+"=")
			}
		}
		return keys, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	})
}

// ownAnswers is the value of that flag.
type ownAnswers struct{ of *api.NewDelivery }

func (o *ownAnswers) Set(text string) error {
	key, value, found := strings.Cut(text, "=")
	if !found || key == "" {
		return fmt.Errorf("%q is not KEY=VALUE", text)
	}
	if o.of.OwnAnswers == nil {
		o.of.OwnAnswers = map[string]any{}
	}
	o.of.OwnAnswers[key] = value
	return nil
}

func (o *ownAnswers) String() string { return "" }
func (o *ownAnswers) Type() string   { return "KEY=VALUE" }

// placementFlags say how an image is to lie on a disk.
func placementFlags(cmd *cobra.Command, o *api.RestoreOptions) {
	cmd.Flags().StringVar(&o.Grow, "grow", "system", "partition that takes the room of a larger disk: system (the one with the operating system), a number, last, or none")
	cmd.Flags().StringSliceVar(&o.Keep, "keep", nil, "partition of the disk that stays as it is: a number, label=TEXT, type=GUID or (in an MBR) type=HEX")
	cmd.Flags().StringSliceVar(&o.Sizes, "sizes", nil, "sizes of partitions, such as 3=60%,DATA=rest: NUMBER=SIZE, or NAME=SIZE for an empty one that is added; SIZE is bytes (100GB), per cent of the room, or rest")
	cmd.Flags().IntVar(&o.Partition, "partition", 0, "bring just this partition of the image")
	cmd.Flags().StringVar(&o.Onto, "onto-partition", "", "with --partition: which one of the disk it replaces, named as for --keep; all others stay")
}

// orderAsShown names the workstations of a plan in an order that had a condition: nobody else
// may fit that meanwhile.
func orderAsShown(order *api.NewDelivery, p api.DeliveryPlan) {
	const namesAtMost = 1000 // of an order
	if order.Where == "" || len(p.Members) > namesAtMost {
		return
	}
	order.To, order.Where = nil, ""
	for _, m := range p.Members {
		order.To = append(order.To, m.Workstation)
	}
}

var whenDone = []string{"stay", "restart", "power-off"}

// carriedBy are the media that carry a delivery.
func carriedBy(d api.Delivery) string {
	if d.CarriedBy == "" {
		return ""
	}
	return "the media of the outpost " + d.CarriedBy
}

// startsAtLatest is when a delivery starts at the latest, as long as that is of interest.
func startsAtLatest(d api.Delivery) string {
	if d.State != delivery.Gathering || d.CarriedBy != "" {
		return ""
	}
	return when(d.AtLatest)
}

// startTimes reads when a delivery starts, by its gather rule and at the latest.
func startTimes(start, atLatest string, now time.Time) (string, *time.Time, error) {
	rule, err := startRule(start, now)
	if err != nil || atLatest == "" {
		return rule.String(), nil, err
	}
	var at time.Time
	if wait, err := time.ParseDuration(atLatest); err == nil {
		if wait < time.Second {
			return "", nil, fmt.Errorf("--at-latest: %s is too short", atLatest)
		}
		at = rule.WaitsFrom(now).Add(wait)
	} else if at, err = parseTime(atLatest, now); err != nil {
		return "", nil, fmt.Errorf("--at-latest: %w, nor how long to wait (such as 10m)", err)
	}
	at = at.UTC()
	return rule.String(), &at, nil
}

// startRule reads a gather rule whose times may be those of a clock here.
func startRule(rule string, now time.Time) (delivery.Rule, error) {
	parts := strings.FieldsFunc(rule, func(r rune) bool { return r == ',' || r == '+' })
	for _, part := range parts {
		text, isTime := strings.CutPrefix(part, "at:")
		if !isTime {
			continue
		}
		at, err := parseTime(text, now)
		if err != nil {
			return delivery.Rule{}, fmt.Errorf("--start: %w", err)
		}
		rule = strings.Replace(rule, part, "at:"+at.UTC().Format(time.RFC3339), 1)
	}
	return delivery.ParseRule(rule)
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

// printDeliveryPlan prints what a delivery would do; the exit code tells whether it would be refused.
func (a *app) printDeliveryPlan(cmd *cobra.Command, p api.DeliveryPlan) error {
	var err error
	switch a.output {
	case "json":
		err = printJSON(cmd.OutOrStdout(), p)
	case "csv":
		err = sheet.Write(cmd.OutOrStdout(), p.Members)
	default:
		describeDelivery(cmd.OutOrStdout(), p)
	}
	if err == nil && p.Refused != "" {
		err = errors.New(p.Refused)
	}
	return err
}

// describeDelivery says in words what a delivery will do, and what speaks against it.
func describeDelivery(w io.Writer, p api.DeliveryPlan) {
	starts := make([]string, len(p.StartsBy))
	for i, f := range p.StartsBy {
		starts[i] = string(f)
	}
	estimate := "unknown, as nothing was delivered yet"
	if p.Earlier > 0 {
		estimate = fmt.Sprintf("about %s once the stream runs, by %s", cmp.Or(seconds(p.Seconds), "a second"), count(p.Earlier, "earlier receipt"))
	}
	printFields(w, []field{
		{"image", fmt.Sprintf("%s@%d", p.Image, p.Version)}, {"bytes in use", size(p.UsedBytes)}, {"fits onto", fmt.Sprintf("disks of at least %s (%d bytes)", size(p.NeedBytes), p.NeedBytes)},
		{"starts by", cmp.Or(strings.Join(starts, " or "), "unknown")},
		{"stream starts", startInWords(p.Start) + "; at " + when(p.AtLatest) + " at the latest, with whoever is ready then"},
		{"rate", humanize.SIWithDigits(float64(p.Rate), 0, "bit/s")}, {"takes", estimate},
	})
	fmt.Fprintln(w)
	fmt.Fprintln(w, pick(p.Refused == "", "These disks will be overwritten:", "These disks would be overwritten:"))
	fmt.Fprintln(w)
	columns := []column[api.PlannedWorkstation]{
		{title: "workstation", value: func(p api.PlannedWorkstation) string { return p.Workstation }},
		{title: "hardware address", value: func(p api.PlannedWorkstation) string { return p.Address }},
		{title: "model", value: func(p api.PlannedWorkstation) string { return strings.TrimSpace(p.Maker + " " + p.Model) }},
		{title: "disk", value: plannedDisk},
		{title: "has now", value: func(p api.PlannedWorkstation) string { return p.Image + pick(p.Unfinished, ", unfinished", "") }},
		{title: "is", value: func(p api.PlannedWorkstation) string { return pick(p.Online, "there", "away") }},
	}
	if slices.ContainsFunc(p.Members, func(p api.PlannedWorkstation) bool { return len(p.Stays) > 0 }) {
		columns = append(columns, column[api.PlannedWorkstation]{title: "stays", value: func(p api.PlannedWorkstation) string { return strings.Join(p.Stays, "; ") }})
	}
	printLines(w, listText(p.Members, columns))
	for _, x := range p.Members {
		for _, text := range x.Problems {
			fmt.Fprintf(w, "%s: refused: %s\n", x.Workstation, text)
		}
		for _, text := range x.Warnings {
			fmt.Fprintf(w, "%s: warning: %s\n", x.Workstation, text)
		}
	}
}

func plannedDisk(p api.PlannedWorkstation) string {
	if p.Disk == nil {
		return "unknown"
	}
	return strings.Join(slices.DeleteFunc([]string{size(p.Disk.Size), p.Disk.Model, p.Disk.Serial}, func(s string) bool { return s == "" }), ", ")
}

// startInWords says a gather rule.
func startInWords(rule string) string {
	var terms []string
	for term := range strings.SplitSeq(rule, ",") {
		var all []string
		for c := range strings.SplitSeq(term, "+") {
			kind, value, _ := strings.Cut(c, ":")
			switch kind {
			case "all":
				c = "all are ready"
			case "first":
				c = "the first is ready"
			case "ready":
				c = value + " are ready"
			case "at":
				if at, err := time.Parse(time.RFC3339, value); err == nil {
					c = "it is " + when(at)
				}
			}
			all = append(all, c)
		}
		terms = append(terms, strings.Join(all, " and "))
	}
	return "when " + strings.Join(terms, ", or when ")
}

// count is a number of things.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
