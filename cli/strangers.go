package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

// silent is a command that changes something of the service and prints nothing.
func (a *app) silent(cmd *cobra.Command, do func(ctx context.Context, c *apiclient.Client, args []string) error) *cobra.Command {
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, args)
	}
	return cmd
}

// strangerVerbs are about machines that nobody wants, or that are not what they were.
func (a *app) strangerVerbs() []*cobra.Command {
	var note string
	refuse := a.silent(&cobra.Command{
		Use: "refuse MACHINE", Short: "Turn a machine away for good, by hardware address or system UUID", Args: cobra.ExactArgs(1),
		Example:           "  jugate workstation refuse 00:00:5e:00:53:66 --note \"a visitor's\"",
		ValidArgsFunction: a.complete(workstationNames),
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		return c.Refuse(ctx, api.NewRefusal{Machine: args[0], Note: note})
	})
	refuse.Flags().StringVar(&note, "note", "", "why")

	var flags listFlags
	refusals := &cobra.Command{
		Use: "refusals", Short: "List the machines that are turned away", Args: cobra.NoArgs, Example: "  jugate workstation refusals",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			items, err := every(cmd.Context(), flags.list(nil), c.Refusals)
			if err != nil {
				return err
			}
			return printList(cmd, a, items, []column[api.Refusal]{
				{title: "machine", value: func(r api.Refusal) string { return r.Value }},
				{title: "since", value: func(r api.Refusal) string { return when(r.At) }},
				{title: "by", value: func(r api.Refusal) string { return r.By }},
				{title: "note", value: func(r api.Refusal) string { return r.Note }},
			})
		},
	}
	flags.add(refusals)
	return []*cobra.Command{
		a.silent(&cobra.Command{
			Use: "forget WORKSTATION", Short: "Forget a newcomer, or a retired workstation of which nothing is recorded; it may come again", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation forget 00:00:5e:00:53:66", ValidArgsFunction: a.complete(workstationNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.Forget(ctx, args[0]) }),
		a.silent(&cobra.Command{
			Use: "relearn WORKSTATION", Short: "Take the UUID and serial number that a workstation tells next: its main board was exchanged", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation relearn herb-03", ValidArgsFunction: a.complete(workstationNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			_, err := c.Relearn(ctx, args[0])
			return err
		}),
		refuse, refusals,
		a.silent(&cobra.Command{
			Use: "welcome MACHINE", Short: "Let a machine come again that was turned away", Args: cobra.ExactArgs(1),
			Example: "  jugate workstation welcome 00:00:5e:00:53:66",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.EndRefusal(ctx, args[0]) }),
	}
}

// cardCommand is about hardware addresses: which workstation has which.
func (a *app) cardCommand() *cobra.Command {
	var flags listFlags
	var state string
	list := &cobra.Command{
		Use: "list", Short: "List hardware addresses and their workstations", Args: cobra.NoArgs, Example: "  jugate card list --state proposed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			items, err := every(cmd.Context(), flags.list(map[string]string{"state": state}), c.Cards)
			if err != nil {
				return err
			}
			return printList(cmd, a, items, []column[api.HardwareAddress]{
				{title: "hardware address", value: func(h api.HardwareAddress) string { return h.Address }},
				{title: "workstation", value: func(h api.HardwareAddress) string { return h.Workstation }},
				{title: "state", value: func(h api.HardwareAddress) string { return h.State }},
			})
		},
	}
	flags.add(list)
	list.Flags().StringVar(&state, "state", "", "accepted, proposed (seen, and accepted by nobody yet) or shared")
	var off bool
	share := a.silent(&cobra.Command{
		Use: "share HARDWARE-ADDRESS", Short: "Say that an address is of an adapter or dock that several machines use, and tells none of them apart", Args: cobra.ExactArgs(1),
		Example: "  jugate card share 00:00:5e:00:53:99\n  jugate card share 00:00:5e:00:53:99 --off",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		return c.ShareCard(ctx, args[0], !off)
	})
	share.Flags().BoolVar(&off, "off", false, "it is one machine's")
	return noun("card", "Say which workstation has which network card", list,
		a.silent(&cobra.Command{
			Use: "accept WORKSTATION HARDWARE-ADDRESS", Short: "Make an address that was seen in a workstation one of its own", Args: cobra.ExactArgs(2),
			Example: "  jugate card accept herb-03 00:00:5e:00:53:99", ValidArgsFunction: a.complete(workstationNames),
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.AcceptCard(ctx, args[0], args[1])
		}),
		a.silent(&cobra.Command{
			Use: "move HARDWARE-ADDRESS WORKSTATION", Short: "Make an address a workstation's, whoever had it: the card was moved", Args: cobra.ExactArgs(2),
			Example: "  jugate card move 00:00:5e:00:53:99 herb-04",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.MoveCard(ctx, args[1], args[0])
		}),
		a.silent(&cobra.Command{
			Use: "remove HARDWARE-ADDRESS", Short: "Take an address away from its workstation", Args: cobra.ExactArgs(1),
			Example: "  jugate card remove 00:00:5e:00:53:99",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error { return c.RemoveCard(ctx, args[0]) }),
		share)
}

// keyCommand is about what media check in with.
func (a *app) keyCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the keys of media", Args: cobra.NoArgs, Example: "  jugate key list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.MediaKeys(cmd.Context())
			if err != nil {
				return err
			}
			at := func(t *time.Time) string {
				if t == nil {
					return ""
				}
				return when(*t)
			}
			return printList(cmd, a, page.Items, []column[api.MediaKey]{
				{title: "id", value: func(k api.MediaKey) string { return k.ID }},
				{title: "made", value: func(k api.MediaKey) string { return when(k.Made) }},
				{title: "good for", value: func(k api.MediaKey) string {
					if k.Group == "" {
						return "any workstation"
					}
					return "the group " + k.Group
				}},
				{title: "until", value: func(k api.MediaKey) string { return at(k.Until) }},
				{title: "last used", value: func(k api.MediaKey) string { return at(k.Used) }},
				{title: "note", value: func(k api.MediaKey) string { return k.Note }},
			})
		},
	}
	var group string
	var life time.Duration
	limit := a.silent(&cobra.Command{
		Use: "limit ID", Short: "Say for which group a key is good, and for how long; without flags it is good for any workstation, without end", Args: cobra.ExactArgs(1),
		Example: "  jugate key limit 3f9c --group herbarium --for 72h",
	}, func(ctx context.Context, c *apiclient.Client, args []string) error {
		limits := api.KeyLimits{Group: group}
		if life < 0 {
			return usageError{errors.New("--for: a time that is over")}
		}
		if life > 0 {
			until := time.Now().Add(life).UTC()
			limits.Until = &until
		}
		return c.LimitMediaKey(ctx, args[0], limits)
	})
	limit.Flags().StringVar(&group, "group", "", "good for workstations of this group alone")
	limit.Flags().DurationVar(&life, "for", 0, "how long it is still good, such as 72h")
	limit.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	return noun("key", "See, limit and withdraw the keys of media", list, limit,
		a.silent(&cobra.Command{
			Use: "withdraw ID", Short: "End a key: media that have it can check in no more", Args: cobra.ExactArgs(1), Example: "  jugate key withdraw 3f9c",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.WithdrawMediaKey(ctx, args[0])
		}))
}

// errandCommand shows what waits for workstations.
func (a *app) errandCommand() *cobra.Command {
	var flags listFlags
	var workstation string
	var all bool
	list := &cobra.Command{
		Use: "list", Short: "List what workstations do and what waits for them, in the order in which they get it", Args: cobra.NoArgs,
		Example: "  jugate errand list\n  jugate errand list --workstation herb-03 --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			filter := map[string]string{"workstation": workstation}
			if !all {
				filter["open"] = "true"
			}
			items, err := every(cmd.Context(), flags.list(filter), c.Errands)
			if err != nil {
				return err
			}
			return printList(cmd, a, items, []column[api.Errand]{
				{title: "errand", value: func(e api.Errand) string { return fmt.Sprint(e.ID) }, right: true},
				{title: "workstation", value: func(e api.Errand) string { return e.Workstation }},
				{title: "kind", value: func(e api.Errand) string { return e.Kind }},
				{title: "image", value: func(e api.Errand) string { return e.Image }},
				{title: "delivery", value: func(e api.Errand) string { return strings.TrimPrefix(fmt.Sprint(e.Delivery), "0") }, right: true},
				{title: "state", value: func(e api.Errand) string { return e.State }},
				{title: "not before", value: func(e api.Errand) string {
					if e.NotBefore == nil || e.Ended != nil {
						return ""
					}
					return when(*e.NotBefore)
				}},
				{title: "error", value: func(e api.Errand) string { return e.Error }},
			})
		},
	}
	flags.add(list)
	list.Flags().StringVar(&workstation, "workstation", "", "only those of a workstation")
	list.Flags().BoolVar(&all, "all", false, "those that have ended, too")
	list.RegisterFlagCompletionFunc("workstation", a.complete(workstationNames))
	return noun("errand", "See what workstations are asked to do", list)
}
