package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

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
			}, "no media yet; make the image of a stick with: jugate environment media")
		},
	}
	var group string
	var life time.Duration
	limit := a.silent(&cobra.Command{
		Use: "limit KEY", Short: "Limit a key to a group or a time; without flags, lift its limits", Args: cobra.ExactArgs(1),
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
	limit.Flags().StringVar(&group, "group", "", "limit it to workstations of this group")
	limit.Flags().DurationVar(&life, "for", 0, "how long it stays valid, such as 72h")
	limit.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	return noun("key", "See, limit and withdraw the keys of media", list, limit,
		a.silent(&cobra.Command{
			Use: "withdraw KEY", Short: "End a key: media that have it cannot check in any more", Args: cobra.ExactArgs(1), Example: "  jugate key withdraw 3f9c",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.WithdrawMediaKey(ctx, args[0])
		}))
}
