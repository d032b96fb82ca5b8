package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) groupCommand() *cobra.Command {
	return noun("group", "Gather workstations into groups",
		a.groupList(),
		a.groupMenu(),
		a.groupImage(),
		a.groupAdd(),
		a.groupVerb("remove GROUP", "Remove a group; its workstations stay", cobra.ExactArgs(1), func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveGroup(ctx, args[0])
		}),
		a.groupMembers("include GROUP [WORKSTATION|GROUP…]", "Put workstations into a group, all or none", (*apiclient.Client).Include),
		a.groupMembers("exclude GROUP [WORKSTATION|GROUP…]", "Take workstations out of a group, all or none", (*apiclient.Client).Exclude),
	)
}

func (a *app) groupAdd() *cobra.Command {
	var where string
	cmd := a.groupVerb("add NAME", "Make a group: an empty one, or one that a condition fills", cobra.ExactArgs(1), func(ctx context.Context, c *apiclient.Client, args []string) error {
		_, err := c.AddGroup(ctx, api.NewGroup{Name: args[0], Where: where})
		return err
	})
	whereFlag(cmd, &where, "it always has whoever fits a condition")
	return cmd
}

func (a *app) groupMembers(use, short string, change func(c *apiclient.Client, ctx context.Context, group string, in api.GroupMembers) (api.Group, error)) *cobra.Command {
	var where string
	cmd := a.groupVerb(use, short, nil, func(ctx context.Context, c *apiclient.Client, args []string) error {
		_, err := change(c, ctx, args[0], api.GroupMembers{Workstations: args[1:], Where: where})
		return err
	})
	cmd.Args = namedOr(cmd, 1)
	whereFlag(cmd, &where, "of those, or of the whole roster, whoever fits a condition")
	return cmd
}

// groupVerb is a command that changes groups and prints nothing.
func (a *app) groupVerb(use, short string, args cobra.PositionalArgs, do func(context.Context, *apiclient.Client, []string) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: args,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return do(cmd.Context(), c, args)
		},
	}
}

func (a *app) groupList() *cobra.Command {
	return list(a, lister[api.Group]{
		short: "List groups", example: "  jugate group list", what: "groups", none: "no groups yet; add one with: jugate group add NAME",
		fetch: (*apiclient.Client).Groups, sort: []string{"name", "workstation_count"},
		columns: []column[api.Group]{
			{title: "name", value: func(g api.Group) string { return g.Name }},
			{title: "workstations", value: func(g api.Group) string { return strconv.Itoa(g.Workstations) }, right: true},
			{title: "should have", value: func(g api.Group) string { return g.Image }},
			{title: "behind", value: func(g api.Group) string { return orNothing(g.Behind) }, right: true},
			{title: "fills itself", value: func(g api.Group) string { return g.Where }},
			{title: "build", value: func(g api.Group) string { return orNothing(g.Build) }, right: true},
			{title: "menu", value: func(g api.Group) string { return orNothing(g.Menu) }, right: true},
		},
	})
}

// orNothing is a number, but nothing for 0.
func orNothing(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func (a *app) groupMenu() *cobra.Command {
	return &cobra.Command{
		Use: "menu GROUP SECONDS", Short: "Show a boot menu on a group's workstations before they start from their disk; 0 shows none", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			seconds, err := strconv.Atoi(args[1])
			if err != nil {
				return usageError{fmt.Errorf("%q is not a number of seconds", args[1])}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.SetMenu(cmd.Context(), args[0], seconds)
		},
	}
}

func (a *app) groupImage() *cobra.Command {
	var none bool
	cmd := &cobra.Command{
		Use: "image GROUP [IMAGE[@VERSION]]", Short: "Say what a group's workstations should have; from it follows who is behind", Args: cobra.RangeArgs(1, 2),
		Long:    "Say what a group's workstations should have: the newest version of an image, or one\nversion. From it follow who is behind (group list, workstation list --where behind), and\nfor whom orders run by themselves (order add --when-behind).",
		Example: "  jugate group image herbarium garden-desk\n  jugate group image kiosks garden-desk@2\n  jugate group image kiosks --none",
		RunE: func(cmd *cobra.Command, args []string) error {
			if none == (len(args) == 2) {
				return usageError{errors.New("name an image, or say --none")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			g, err := c.SetGroupImage(cmd.Context(), args[0], strings.Join(args[1:], ""))
			if err == nil && g.Image != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s should have %s; %d of %s behind\n", g.Name, g.Image, g.Behind, pick(g.Workstations == 1, "1 workstation is", fmt.Sprintf("%d workstations are", g.Workstations)))
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&none, "none", false, "say nothing any more")
	return cmd
}
