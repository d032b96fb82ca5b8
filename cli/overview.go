package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
)

func (a *app) overview() *cobra.Command {
	return &cobra.Command{
		Use: "overview", Short: "Tell what needs somebody now, what runs, what is next, and how the service is", Args: cobra.NoArgs,
		Long: "Tell what needs somebody now, what runs, what is next, and how each part of the\nservice is. It is what the console shows first.", Example: "  jugate overview\n  jugate overview -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			now, err := c.Overview(cmd.Context())
			if err != nil {
				return err
			}
			if a.output == "json" {
				return show(cmd, a, now)
			}
			return a.printOverview(cmd, now)
		},
	}
}

func (a *app) printOverview(cmd *cobra.Command, now api.Overview) error {
	out := cmd.OutOrStdout()
	if a.output == "csv" {
		return printList(cmd, a, now.Parts, partColumns, "")
	}
	if len(now.Needs) == 0 {
		fmt.Fprintln(out, "nothing needs anybody now")
	}
	for _, n := range now.Needs {
		fmt.Fprintf(out, "%s\n", n.What)
		for _, name := range n.Names {
			fmt.Fprintf(out, "  %s\n", name)
		}
		if n.Count > len(n.Names) && len(n.Names) > 0 {
			fmt.Fprintf(out, "  and others: %d in all\n", n.Count)
		}
	}
	fmt.Fprintln(out)
	for _, d := range now.Deliveries {
		fmt.Fprintf(out, "delivery %d of %s@%d to %s: %s, %d of %d have it\n", d.ID, d.Image, d.Version, strings.Join(d.Targets, " "), stateText(d), d.Delivered, d.Workstations)
	}
	fmt.Fprintf(out, "%s open; %s in the roster\n", count(now.Errands, "errand"), count(now.Workstations, "workstation"))
	for _, n := range now.Next {
		line := fmt.Sprintf("%s runs %s", n.Order, when(n.At))
		if n.Problem != "" {
			line += ": " + n.Problem
		}
		fmt.Fprintln(out, line)
	}
	fmt.Fprintln(out)
	return printList(cmd, a, now.Parts, partColumns, "")
}

var partColumns = []column[api.PartState]{
	{title: "part", value: func(p api.PartState) string { return p.Part }},
	{title: "state", value: func(p api.PartState) string { return p.State }},
	{title: "what", value: func(p api.PartState) string { return p.What }},
	{title: "cure", value: func(p api.PartState) string { return p.Cure }},
}
