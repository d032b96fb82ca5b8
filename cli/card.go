package cli

import (
	"context"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

// cardCommand is about hardware addresses: which workstation has which.
func (a *app) cardCommand() *cobra.Command {
	list := list(a, lister[api.HardwareAddress]{
		short: "List hardware addresses and their workstations", example: "  jugate card list --state proposed", what: "hardware addresses", none: "no workstation has called yet",
		fetch: (*apiclient.Client).Cards, sort: []string{"hardware_address", "workstation", "state"},
		filters: []filter{{name: "state", help: "only hardware addresses in a state", values: []string{"accepted", "proposed", "shared"}}},
		columns: []column[api.HardwareAddress]{
			{title: "hardware address", value: func(h api.HardwareAddress) string { return h.Address }},
			{title: "workstation", value: func(h api.HardwareAddress) string { return h.Workstation }},
			{title: "state", value: func(h api.HardwareAddress) string { return string(h.State) }},
		},
	})
	var off bool
	share := a.silent(&cobra.Command{
		Use: "share HARDWARE-ADDRESS", Short: "Mark a hardware address as that of an adapter or dock that several machines use", Args: cobra.ExactArgs(1),
		Example: "  jugate card share 00:00:5e:00:53:99\n  jugate card share 00:00:5e:00:53:99 --off",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		return c.ShareCard(ctx, args[0], !off)
	})
	share.Flags().BoolVar(&off, "off", false, "mark it as one machine's again")
	return noun("card", "Say which workstation has which network card", list,
		a.silent(&cobra.Command{
			Use: "accept WORKSTATION HARDWARE-ADDRESS", Short: "Accept a hardware address that was seen in a workstation", Args: cobra.ExactArgs(2),
			Example: "  jugate card accept herb-03 00:00:5e:00:53:99",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.AcceptCard(ctx, args[0], args[1])
		}),
		a.silent(&cobra.Command{
			Use: "move HARDWARE-ADDRESS WORKSTATION", Short: "Give a hardware address to a workstation, whoever had it: the card was moved", Args: cobra.ExactArgs(2),
			Example: "  jugate card move 00:00:5e:00:53:99 herb-04",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.MoveCard(ctx, args[1], args[0])
		}),
		a.silent(&cobra.Command{
			Use: "remove HARDWARE-ADDRESS", Short: "Take a hardware address away from its workstation", Args: cobra.ExactArgs(1),
			Example: "  jugate card remove 00:00:5e:00:53:99",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.RemoveCard(ctx, args[0]) }),
		share)
}
