package cli

import (
	"context"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

// strangerVerbs are about machines that nobody wants, or that are not what they were.
func (a *app) strangerVerbs() []*cobra.Command {
	var note string
	refuse := a.silent(&cobra.Command{
		Use: "refuse MACHINE", Short: "Turn a machine away for good, by hardware address or system UUID", Args: cobra.ExactArgs(1),
		Example: "  jugate workstation refuse 00:00:5e:00:53:66 --note \"a visitor's\"",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		return c.Refuse(ctx, api.NewRefusal{Machine: args[0], Note: note})
	})
	refuse.Flags().StringVar(&note, "note", "", "why")

	refusals := list(a, lister[api.Refusal]{
		short: "List the machines that are turned away", example: "  jugate workstation refusals", what: "refused machines", none: "no machine is turned away; jugate workstation refuse MACHINE does that",
		fetch: (*apiclient.Client).Refusals, sort: []string{"value", "at"},
		columns: []column[api.Refusal]{
			{title: "machine", value: func(r api.Refusal) string { return r.Value }},
			{title: "since", value: func(r api.Refusal) string { return when(r.At) }},
			{title: "by", value: func(r api.Refusal) string { return r.By }},
			{title: "note", value: func(r api.Refusal) string { return r.Note }},
		},
	})
	refusals.Use = "refusals"
	return []*cobra.Command{
		a.silent(&cobra.Command{
			Use: "forget WORKSTATION", Short: "Forget a newcomer, or a retired workstation of which nothing is recorded; it may come again", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation forget 00:00:5e:00:53:66",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.Forget(ctx, args[0]) }),
		a.silent(&cobra.Command{
			Use: "relearn WORKSTATION", Short: "Accept a workstation's new UUID and serial number at its next check-in: its main board was exchanged", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation relearn herb-03",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			_, err := c.Relearn(ctx, args[0])
			return err
		}),
		refuse, refusals,
		a.silent(&cobra.Command{
			Use: "welcome MACHINE", Short: "Let a machine call again that was turned away", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation welcome 00:00:5e:00:53:66",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.EndRefusal(ctx, args[0]) }),
	}
}
