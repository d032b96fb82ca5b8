package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/order"
	"jugate/core/sheet"
)

func (a *app) orderCommand() *cobra.Command {
	return noun("order", "Prepare work once, and have it run by a command, a schedule or a program", a.orderAdd(), a.orderEdit(), a.orderList(), a.orderShow(), a.orderRun(), a.orderStop(), a.orderGoOn(), a.orderNext(),
		a.orderHistory(), a.orderExport(), a.orderImport(), a.quietCommand(),
		a.silent(&cobra.Command{
			Use: "remove ORDER", Short: "Forget an order; what it has done stays on record", Args: cobra.ExactArgs(1), Example: "  jugate order remove herbarium-weekly",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveOrder(ctx, args[0])
		}))
}

// orderWords is what an order does, in words.
func orderWords(work []order.Work) string { return strings.Join(texts(work), ", then ") }

// byItself says when an order runs by itself.
func byItself(o api.Order) string {
	var words []string
	if s := o.Schedule; s != nil {
		words = append(words, strings.TrimSpace(s.When+" "+s.Zone))
	}
	if o.WhenBehind {
		words = append(words, "when one is behind")
	}
	return strings.Join(words, "; ")
}

func runWords(r *api.OrderRun) string {
	if r == nil {
		return "never"
	}
	return fmt.Sprintf("%s, %s", when(r.Began), r.State)
}

func (a *app) orderList() *cobra.Command {
	return list(a, lister[api.KeptOrder]{
		short: "List orders", example: "  jugate order list", what: "orders", none: "no order was prepared; jugate order add does that", fetch: (*apiclient.Client).Orders, sort: []string{"name", "saved", "due"},
		columns: []column[api.KeptOrder]{
			{title: "order", value: func(k api.KeptOrder) string { return k.Name }},
			{title: "does", value: func(k api.KeptOrder) string { return orderWords(k.Work) }},
			{title: "by itself", value: func(k api.KeptOrder) string { return byItself(k.Order) }},
			{title: "next", value: func(k api.KeptOrder) string { return whenPtr(k.Next) }},
			{title: "last", value: func(k api.KeptOrder) string { return runWords(k.Last) }},
			{title: "problem", value: func(k api.KeptOrder) string { return k.Problem }},
			{title: "note", value: func(k api.KeptOrder) string { return k.Note }},
		},
	})
}

// orderNamed fetches the order that a command names.
func (a *app) orderNamed(cmd *cobra.Command, name string) (c *apiclient.Client, k api.KeptOrder, err error) {
	if c, err = a.client(); err == nil {
		k, err = c.Order(cmd.Context(), name)
	}
	return c, k, err
}

func (a *app) orderShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ORDER", Short: "Show an order", Args: cobra.ExactArgs(1), Example: "  jugate order show herbarium-weekly",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, k, err := a.orderNamed(cmd, args[0])
			if err != nil {
				return err
			}
			return a.printOrder(cmd, k)
		},
	}
}

func (a *app) printOrder(cmd *cobra.Command, k api.KeptOrder) error {
	switch a.output {
	case "json":
		return printJSON(cmd.OutOrStdout(), k)
	case "csv":
		return sheet.Write(cmd.OutOrStdout(), []api.KeptOrder{k})
	}
	text, err := orderText(k.Order)
	if err != nil {
		return err
	}
	printFields(cmd.OutOrStdout(), []field{{"does", orderWords(k.Work)}, {"saved", when(k.Saved) + " by " + k.SavedBy}, {"problem", k.Problem}, {"next run", whenPtr(k.Next)}, {"last run", runWords(k.Last)}})
	fmt.Fprintf(cmd.OutOrStdout(), "\n%s", text)
	return nil
}

func (a *app) orderRun() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "run ORDER", Short: "Run an order now", Args: cobra.ExactArgs(1), Example: "  jugate order run herbarium-weekly --yes",
		Long: "Run an order now. First it shows what would be done, and asks. It takes the rights of\nwhat the order does, unless it was released for a role of yours.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, k, err := a.orderNamed(cmd, args[0])
			if err != nil {
				return err
			}
			if !yes {
				if err := describeOrder(cmd, c, k); err != nil {
					return err
				}
				if err := confirm(cmd, false, "the order "+k.Name+" would run", "Run it?"); err != nil {
					return err
				}
			}
			r, err := c.RunOrder(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printRun(cmd, r)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask: what is on the disks may go")
	return cmd
}

// describeOrder says what running an order would do.
func describeOrder(cmd *cobra.Command, c *apiclient.Client, k api.KeptOrder) error {
	w := cmd.ErrOrStderr()
	for _, c := range k.Commands {
		fmt.Fprintf(w, "%s\n", commandWords(c))
	}
	if k.Capture != nil {
		fmt.Fprintf(w, "capture the disk of %s as the next version of %s\n", k.Capture.Workstation, k.Capture.Image)
	}
	if k.Check != nil {
		fmt.Fprintf(w, "check %s: %s\n", targetWords(k.Check.To, k.Check.Where), lookedAt(*k.Check))
	}
	if k.SaveDays > 0 {
		fmt.Fprintf(w, "save what is on the disks first, for %s%s\n", count(k.SaveDays, "day"), pick(len(k.Folders) == 0, "", "; these go back: "+strings.Join(k.Folders, ", ")))
	}
	if k.Wipe != nil {
		fmt.Fprintf(w, "wipe the disks of %s: all that is on them is lost\n", strings.Join(k.Wipe.Workstations, ", "))
	}
	if k.Deliver != nil {
		plan, err := c.PlanDelivery(cmd.Context(), k.Deliver.NewDelivery)
		switch {
		case err != nil && k.Capture != nil:
			fmt.Fprintf(w, "then deliver %s, of which cannot be said yet what it does: %v\n", k.Deliver.Image, err)
		case err != nil:
			return err
		default:
			describeDelivery(w, plan)
			if plan.Refused != "" {
				fmt.Fprintf(w, "now it would be refused: %s\n", plan.Refused)
			}
		}
	}
	if k.Drivers != nil {
		fmt.Fprintf(w, "install drivers on %s\n", targetWords(k.Drivers.To, k.Drivers.Where))
	}
	if k.Payloads != nil {
		fmt.Fprintf(w, "bring %s to %s\n", strings.Join(k.Payloads.Payloads, ", "), targetWords(k.Payloads.To, k.Payloads.Where))
	}
	fmt.Fprintln(w)
	return nil
}

// lookedAt is what a check looks at.
func lookedAt(c api.PreparedCheck) string {
	var all []string
	if c.Memory != "" && c.Memory != "none" {
		all = append(all, c.Memory+" walk over the memory")
	}
	if c.Surface != "" && c.Surface != "none" {
		all = append(all, c.Surface+" of the disk's surface")
	}
	if c.Health {
		all = append(all, "the disk's health")
	}
	if c.Network {
		all = append(all, "the network")
	}
	for _, r := range c.Require {
		all = append(all, "requires "+r)
	}
	return strings.Join(all, ", ")
}

func targetWords(to []string, where string) string {
	if where == "" {
		return strings.Join(to, ", ")
	}
	return strings.TrimSpace(strings.Join(to, ", ") + " where " + where)
}

func (a *app) orderStop() *cobra.Command {
	return a.withRun(&cobra.Command{Use: "stop RUN", Short: "End a run of an order, with what it has under way", Example: "  jugate order stop 7"}, (*apiclient.Client).StopRun)
}

func (a *app) orderGoOn() *cobra.Command {
	return a.withRun(&cobra.Command{
		Use: "go-on RUN", Short: "Go on for the workstations that a run failed for, from the part that failed", Example: "  jugate order go-on 7",
		Long: "Go on for the workstations that a run failed for, from the part that failed. That is a\nrun of its own. Disks are overwritten as the order says; nothing is asked again.",
	}, (*apiclient.Client).GoOn)
}

// withRun does something with the run of a number, and shows it.
func (a *app) withRun(cmd *cobra.Command, do func(c *apiclient.Client, ctx context.Context, id int64) (api.OrderRun, error)) *cobra.Command {
	cmd.Args = cobra.ExactArgs(1)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usageError{fmt.Errorf("%q is not the number of a run (jugate order history)", args[0])}
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		r, err := do(c, cmd.Context(), id)
		if err != nil {
			return err
		}
		return a.printRun(cmd, r)
	}
	return cmd
}

func (a *app) orderNext() *cobra.Command {
	var most int
	cmd := &cobra.Command{
		Use: "next [ORDER]", Short: "List when an order, or all of them, run by themselves next", Args: cobra.MaximumNArgs(1), Example: "  jugate order next\n  jugate order next herbarium-weekly --most 20",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.NextRuns(cmd.Context(), strings.Join(args, ""), most)
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.OrderTime]{
				{title: "at", value: func(t api.OrderTime) string { return t.At.Format("Mon 2006-01-02 15:04 MST") }}, // by the clock of its place
				{title: "order", value: func(t api.OrderTime) string { return t.Order }},
				{title: "schedule", value: func(t api.OrderTime) string { return t.Words }},
				{title: "problem", value: func(t api.OrderTime) string { return t.Problem }},
			}, "no order runs by itself; jugate order edit gives one a schedule")
		},
	}
	cmd.Flags().IntVar(&most, "most", 10, "how many times")
	return cmd
}

func (a *app) orderHistory() *cobra.Command {
	var run int64
	cmd := &cobra.Command{
		Use: "history [ORDER]", Short: "List what an order, or all of them, have done, the newest first", Args: cobra.MaximumNArgs(1),
		Example: "  jugate order history herbarium-weekly\n  jugate order history --run 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if run != 0 {
				r, err := c.Run(cmd.Context(), run)
				if err != nil {
					return err
				}
				return a.printRun(cmd, r)
			}
			filter := map[string]string{}
			if len(args) > 0 {
				filter["order"] = args[0]
			}
			all, err := every(cmd.Context(), apiclient.List{Filter: filter}, c.Runs)
			if err != nil {
				return err
			}
			return printList(cmd, a, all, []column[api.OrderRun]{
				{title: "run", value: func(r api.OrderRun) string { return strconv.FormatInt(r.ID, 10) }, right: true},
				{title: "order", value: func(r api.OrderRun) string { return r.Order }},
				{title: "began", value: func(r api.OrderRun) string { return when(r.Began) }},
				{title: "ended", value: func(r api.OrderRun) string { return whenPtr(r.Ended) }},
				{title: "state", value: func(r api.OrderRun) string { return string(r.State) }},
				{title: "ordered by", value: func(r api.OrderRun) string { return r.OrderedBy }},
				{title: "reason", value: func(r api.OrderRun) string { return r.Reason }},
			}, "nothing has run yet")
		},
	}
	cmd.Flags().Int64Var(&run, "run", 0, "show this run, with its parts")
	return cmd
}

// printRun shows a run with its parts.
func (a *app) printRun(cmd *cobra.Command, r api.OrderRun) error {
	switch a.output {
	case "json":
		return printJSON(cmd.OutOrStdout(), r)
	case "csv":
		return sheet.Write(cmd.OutOrStdout(), []api.OrderRun{r})
	}
	printFields(cmd.OutOrStdout(), []field{{"run", strconv.FormatInt(r.ID, 10)}, {"order", r.Order}, {"state", string(r.State)}, {"reason", r.Reason}, {"ordered by", r.OrderedBy}, {"only for", strings.Join(r.Only, ", ")}, {"goes on for", pick(r.Continues == 0, "", fmt.Sprintf("run %d (attempt %d)", r.Continues, r.Attempt))}, {"began", when(r.Began)}, {"ended", whenPtr(r.Ended)}})
	fmt.Fprintln(cmd.OutOrStdout())
	if err := printList(cmd, a, r.Parts, []column[api.RunPart]{
		{title: "part", value: func(p api.RunPart) string { return string(p.Work) }},
		{title: "state", value: func(p api.RunPart) string { return string(p.State) }},
		{title: "began", value: func(p api.RunPart) string { return whenPtr(p.Began) }},
		{title: "ended", value: func(p api.RunPart) string { return whenPtr(p.Ended) }},
		{title: "made", value: madeWords},
		{title: "taken out", value: func(p api.RunPart) string {
			names := make([]string, len(p.LeftOut))
			for i, l := range p.LeftOut {
				names[i] = l.Workstation
			}
			return strings.Join(names, ", ")
		}},
		{title: "reason", value: func(p api.RunPart) string { return p.Reason }},
	}, "it has no parts"); err != nil {
		return err
	}
	return a.printCommands(cmd, r)
}

// madeWords are the deliveries and errands of a part.
func madeWords(p api.RunPart) string {
	var all []string
	for _, d := range p.Deliveries {
		all = append(all, fmt.Sprintf("delivery %d", d))
	}
	for _, e := range p.Errands {
		all = append(all, fmt.Sprintf("errand %d", e))
	}
	return strings.Join(all, ", ")
}
