package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/check"
)

func (a *app) checkCommand() *cobra.Command {
	return noun("check", "Check workstations themselves: memory, disk and network", a.checkRun(), a.checkList(), a.checkShow())
}

// checkFlags adds the flags that say what is checked.
func checkFlags(cmd *cobra.Command, o *api.CheckOptions) {
	f := cmd.Flags()
	f.StringVar(&o.Memory, "memory", "none", "walk patterns over all free memory: quick (two of them), full (six), or none")
	f.StringVar(&o.Surface, "surface", "none", "read the disk: sample (some of each stretch), whole, or none")
	f.BoolVar(&o.Health, "health", false, "ask the disk how it is")
	f.BoolVar(&o.Network, "network", false, "fetch from the service as fast as it goes, and listen whether multicast is heard")
	f.StringVar(&o.Disk, "disk", "only", "which disk: only, serial:NUMBER or size:200GB-600GB")
	f.StringVar(&o.WhenDone, "when-done", "stay", "what the workstation does afterwards: stay, restart or power-off")
	cmd.RegisterFlagCompletionFunc("memory", cobra.FixedCompletions([]cobra.Completion{"quick", "full", "none"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("surface", cobra.FixedCompletions([]cobra.Completion{"sample", "whole", "none"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("when-done", cobra.FixedCompletions(toCompletions(whenDone), cobra.ShellCompDirectiveNoFileComp))
}

func (a *app) checkRun() *cobra.Command {
	in := api.NewCheck{}
	cmd := &cobra.Command{
		Use: "run [WORKSTATION|GROUP…]", Short: "Have workstations check themselves, once they are in the boot environment",
		Long:    "Have workstations check themselves, once they are in the boot environment. Without a flag\nthe disk's health, a sample of its surface and the network are checked. Nothing on the\ndisk is changed. jugate check list says what was found.",
		Example: "  jugate check run herbarium\n  jugate check run herb-03 --memory full --surface whole --health",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.To = args
			if in.Memory == "none" && in.Surface == "none" && !in.Health && !in.Network {
				in.Surface, in.Health, in.Network = "sample", true, true
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Check(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.printErrands(cmd, all)
		},
	}
	cmd.Args = namedOr(cmd, 0)
	checkFlags(cmd, &in.CheckOptions)
	whereFlag(cmd, &in.Where, "of those, or of the whole roster, whoever fits a condition")
	return cmd
}

// printErrands shows errands that were just ordered.
func (a *app) printErrands(cmd *cobra.Command, all []api.Errand) error {
	return printList(cmd, a, all, []column[api.Errand]{
		{title: "errand", value: func(e api.Errand) string { return fmt.Sprint(e.ID) }, right: true},
		{title: "workstation", value: func(e api.Errand) string { return e.Workstation }},
		{title: "kind", value: func(e api.Errand) string { return string(e.Kind) }},
		{title: "state", value: func(e api.Errand) string { return string(e.State) }},
	}, "nothing was ordered")
}

// foundWords are findings in words: what is not good, or if all is how it is.
func foundWords(all []check.Judgement) string {
	var bad, good []string
	for _, f := range all {
		if f.Verdict == check.Good {
			good = append(good, fmt.Sprintf("%s: %s", f.About, f.Text))
		} else {
			bad = append(bad, fmt.Sprintf("%s: %s", f.About, f.Text))
		}
	}
	if bad != nil {
		return strings.Join(bad, "; ")
	}
	return strings.Join(good, "; ")
}

func (a *app) checkList() *cobra.Command {
	return list(a, lister[api.Check]{
		short: "List what checks have found out, the newest first", example: "  jugate check list --workstation herb-03\n  jugate check list --verdict bad\n  jugate check list --model 'Alder Works A*' --sort ended",
		what: "checks", none: "no workstation was checked yet; jugate check run does that", fetch: (*apiclient.Client).Checks, sort: []string{"ended", "workstation", "model", "verdict"},
		filters: []filter{{name: "workstation", help: "only checks of a workstation", complete: a.complete(workstationNames)}, {name: "model", help: "only checks of machines of a maker and model, with wildcards"},
			{name: "verdict", help: "only checks with a verdict", values: texts(check.Verdicts)}, {name: "errand", help: "only that of an errand, by its number", complete: a.complete(errandNumbers)}},
		columns: []column[api.Check]{
			{title: "check", value: func(c api.Check) string { return fmt.Sprint(c.ID) }, right: true},
			{title: "ended", value: func(c api.Check) string { return when(c.Ended) }},
			{title: "workstation", value: func(c api.Check) string { return c.Workstation }},
			{title: "model", value: func(c api.Check) string { return strings.TrimSpace(c.Maker + " " + c.Model) }},
			{title: "verdict", value: func(c api.Check) string { return string(c.Verdict) }},
			{title: "found", value: func(c api.Check) string { return foundWords(c.Findings) }},
		},
	})
}

func (a *app) checkShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CHECK", Short: "Show what a check has found out, with the speed of each part of the disk", Args: cobra.ExactArgs(1), Example: "  jugate check show 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := numberOf("a check", args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			one, err := c.CheckNumbered(cmd.Context(), id)
			if err != nil {
				return err
			}
			fields := []field{{"check", fmt.Sprint(one.ID)}, {"workstation", one.Workstation}, {"hardware address", one.Address}, {"model", strings.TrimSpace(one.Maker + " " + one.Model)}, {"serial", one.Serial},
				{"ended", when(one.Ended)}, {"ordered by", one.OrderedBy}, {"verdict", string(one.Verdict)}}
			for _, f := range one.Findings {
				fields = append(fields, field{string(f.About), fmt.Sprintf("%s: %s", f.Verdict, f.Text)})
			}
			return show(cmd, a, one, append(fields, figures(one.Result)...)...)
		},
	}
}

// figures are the numbers of a check that a person may want.
func figures(r *check.Result) (fields []field) {
	if r == nil {
		return nil
	}
	if s := r.Surface; s != nil {
		fields = append(fields, field{"speed", speedLine(s)})
		for _, u := range s.Unreadable {
			fields = append(fields, field{"unreadable", fmt.Sprintf("%d bytes from byte %d", u.Length, u.Start)})
		}
		for _, u := range s.Slow() {
			fields = append(fields, field{"slow", fmt.Sprintf("%s from byte %d", size(u.Length), u.Start)})
		}
	}
	if m := r.Memory; m != nil {
		for _, f := range m.Faults {
			fields = append(fields, field{"faulty word", fmt.Sprintf("physical address %#x, bits %#x, %d times", f.Address, f.Bits, f.Times)})
		}
	}
	return fields
}

// eighths are an eighth each, from nothing to all.
const eighths = " ▁▂▃▄▅▆▇█"

// speedLine draws the speeds of a disk from its start to its end, each of 64 characters the slowest of its stretches; x is what cannot be
// read.
func speedLine(s *check.SurfaceReport) string {
	if len(s.Speeds) == 0 {
		return ""
	}
	most := 0.0
	for _, v := range s.Speeds {
		most = max(most, v)
	}
	each := (s.Size + int64(len(s.Speeds)) - 1) / int64(len(s.Speeds))
	lost := func(i int) bool {
		for _, u := range s.Unreadable {
			if u.Start < int64(i+1)*each && u.Start+u.Length > int64(i)*each {
				return true
			}
		}
		return false
	}
	at := (len(s.Speeds) + 63) / 64
	var b strings.Builder
	for from := 0; from < len(s.Speeds); from += at {
		slowest, bad := most, false
		for i := from; i < min(from+at, len(s.Speeds)); i++ {
			slowest, bad = min(slowest, s.Speeds[i]), bad || lost(i)
		}
		switch {
		case bad:
			b.WriteByte('x')
		case most > 0:
			b.WriteRune([]rune(eighths)[int(slowest/most*8)])
		}
	}
	return fmt.Sprintf("|%s| up to %s/s", b.String(), size(int64(most)))
}

func checkNumbers(ctx context.Context, c *apiclient.Client) ([]string, error) {
	page, err := c.Checks(ctx, apiclient.List{Limit: most})
	return named(page, err, func(one api.Check) string { return fmt.Sprintf("%d\t%s, %s", one.ID, one.Workstation, one.Verdict) })
}
