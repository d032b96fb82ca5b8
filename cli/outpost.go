package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) outpostCommand() *cobra.Command {
	return noun("outpost", "Keep outposts: programs at other sites that answer network boot there", a.outpostAdd(), a.outpostList(), a.outpostShow(), a.outpostSet(), a.outpostCode(),
		a.silent(&cobra.Command{
			Use: "withdraw OUTPOST", Short: "End the trust in an outpost, from its next request on", Args: cobra.ExactArgs(1),
			Long:    "Its machines find no service by it from then on. Its name stays: a code lets it, or another\nmachine in its place, join again.",
			Example: "  jugate outpost withdraw alpine", ValidArgsFunction: a.complete(outpostNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.WithdrawOutpost(ctx, args[0])
		}),
		a.silent(&cobra.Command{
			Use: "remove OUTPOST", Short: "Withdraw an outpost and forget it", Args: cobra.ExactArgs(1),
			Example: "  jugate outpost remove alpine", ValidArgsFunction: a.complete(outpostNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveOutpost(ctx, args[0])
		}))
}

func (a *app) outpostAdd() *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use: "add OUTPOST", Short: "Enter an outpost, and show the code that it joins by", Args: cobra.ExactArgs(1),
		Long:    "The outpost is named after its site. The code is good for a day, once; it names the service's\nauthority, too, so that the outpost tells it to nobody else.",
		Example: "  jugate outpost add alpine --note 'in the Alpine house, across the river'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			code, err := c.AddOutpost(cmd.Context(), api.NewOutpost{Name: args[0], Note: note})
			if err != nil {
				return err
			}
			return a.printCode(cmd, c, code)
		},
	}
	cmd.Flags().StringVar(&note, "note", "", "what people should know of it")
	return cmd
}

func (a *app) outpostCode() *cobra.Command {
	return &cobra.Command{
		Use: "code OUTPOST", Short: "Make another code for an outpost, also for another machine in its place", Args: cobra.ExactArgs(1),
		Example: "  jugate outpost code alpine", ValidArgsFunction: a.complete(outpostNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			code, err := c.CodeOutpost(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printCode(cmd, c, code)
		},
	}
}

// printCode shows a code with the command that it is for.
func (a *app) printCode(cmd *cobra.Command, c *apiclient.Client, code api.OutpostCode) error {
	if a.output != "table" {
		return show(cmd, a, code)
	}
	out := cmd.OutOrStdout()
	printFields(out, []field{{"outpost", code.Name}, {"code", code.Code}, {"good until", when(code.Until) + ", once"}})
	_, err := fmt.Fprintf(out, "\non the machine there:\n  jugate-outpost --service %s --join %s --listen ADDRESS:7460 --netboot INTERFACE=beside\n", c.Server(), code.Code)
	return err
}

func (a *app) outpostList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List outposts, with what each holds", Args: cobra.NoArgs, Example: "  jugate outpost list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.Outposts(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Outpost]{
				{title: "outpost", value: func(o api.Outpost) string { return o.Name }},
				{title: "state", value: outpostState},
				{title: "seen", value: func(o api.Outpost) string { return maybeWhen(o.Seen) }},
				{title: "address", value: func(o api.Outpost) string { return o.Address }},
				{title: "workstations", value: func(o api.Outpost) string { return strconv.Itoa(o.Callers) }},
				{title: "builds", value: buildsOf},
				{title: "slabs", value: func(o api.Outpost) string { return humanize.IBytes(uint64(o.Bytes)) }},
				{title: "trouble", value: func(o api.Outpost) string { return o.Trouble }},
			}, "no outpost yet; jugate outpost add enters one")
		},
	}
}

// outpostState is whether an outpost is there, and whether it comes and goes with its media.
func outpostState(o api.Outpost) string {
	if o.OnMedia {
		return o.State + ", on media"
	}
	return o.State
}

// buildsOf are the builds that an outpost holds, in one text.
func buildsOf(o api.Outpost) string {
	var all []string
	for _, n := range slices.Backward(o.Builds) { // the newest first
		if all = append(all, strconv.Itoa(n)); len(all) == 5 && len(o.Builds) > 5 {
			all = append(all, "…")
			break
		}
	}
	return strings.Join(all, ", ")
}

func maybeWhen(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

func (a *app) outpostShow() *cobra.Command {
	return &cobra.Command{
		Use: "show OUTPOST", Short: "Show an outpost: what it answers, what it holds, what has come over its line", Args: cobra.ExactArgs(1),
		Example: "  jugate outpost show alpine", ValidArgsFunction: a.complete(outpostNames),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			o, err := c.Outpost(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, o)
			}
			fields := []field{{"outpost", o.Name}, {"note", o.Note}, {"state", outpostState(o)}, {"trouble", o.Trouble}, {"seen", maybeWhen(o.Seen)}, {"joined", maybeWhen(o.Joined)},
				{"address", o.Address}, {"version", o.Version}, {"workstations", strconv.Itoa(o.Callers)}}
			for _, l := range o.Links {
				fields = append(fields, field{"network boot", fmt.Sprintf("%s, %s, %s: %s", l.Interface, l.Mode, l.Address, l.State)})
			}
			fields = append(fields, field{"builds", cmp.Or(buildsOf(o), "none")}, field{"files of boot entries", strconv.Itoa(o.Entries)},
				field{"slabs", fmt.Sprintf("%d, %s", o.Slabs, humanize.IBytes(uint64(o.Bytes)))},
				field{"over the line", humanize.IBytes(uint64(o.Fetched)) + " since it started"}, field{"to single machines", humanize.IBytes(uint64(o.Served)) + " of slabs since it started"})
			if o.Until != nil {
				fields = append(fields, field{"certificate", "until " + when(*o.Until)})
			}
			printFields(cmd.OutOrStdout(), append(fields, lineFields(o)...))
			if len(o.Placements) == 0 {
				return nil
			}
			fmt.Fprintln(cmd.OutOrStdout())
			return a.printPlacements(cmd, o)
		},
	}
}
