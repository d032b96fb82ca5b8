package cli

import (
	"context"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) partCommand() *cobra.Command {
	return noun("part", "See how the parts of the service are, and begin one anew", a.partList(), a.partRestart())
}

func (a *app) partList() *cobra.Command {
	return list(a, lister[api.PartState]{
		short: "List the parts of the service, and how each is", example: "  jugate part list", what: "parts", none: "no part",
		fetch: uncut(func(c *apiclient.Client, ctx context.Context) (api.Page[api.PartState], error) {
			now, err := c.Overview(ctx)
			return api.Page[api.PartState]{Items: now.Parts, Total: len(now.Parts)}, err
		}),
		columns: append(partColumns[:len(partColumns):len(partColumns)], column[api.PartState]{title: "can be begun anew", value: func(p api.PartState) string { return yes(p.Again != "", "yes") }}),
	})
}

func (a *app) partRestart() *cobra.Command {
	return &cobra.Command{
		Use: "restart PART", Short: "Begin a part of the service anew, such as network boot on an interface, and tell how it is then", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(partNames),
		Long:    "Begin a part of the service anew: network boot on an interface, a store, a directory, or a rule of\nnotifications. What runs elsewhere goes on.",
		Example: "  jugate part restart 'network boot on eth0'\n  jugate part restart 'store big'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.RestartPart(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, a, p, field{"part", p.Part}, field{"state", p.State}, field{"what", p.What}, field{"cure", p.Cure})
		},
	}
}

func partNames(ctx context.Context, c *apiclient.Client) ([]string, error) {
	now, err := c.Overview(ctx)
	var names []string
	for _, p := range now.Parts {
		if p.Again != "" {
			names = append(names, p.Part)
		}
	}
	return names, err
}
