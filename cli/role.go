package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/rights"
)

func (a *app) roleCommand() *cobra.Command {
	return noun("role", "Say what roles are there, and what each may do", a.roleList(), a.roleAdd(),
		a.silent(&cobra.Command{
			Use: "remove ROLE", Short: "Remove a role that nobody has", Args: cobra.ExactArgs(1), Example: "  jugate role remove keeper",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveRole(ctx, args[0])
		}))
}

func rightWords(all []rights.Right) string {
	if len(all) == len(rights.All) {
		return "everything"
	}
	return strings.Join(texts(all), ", ")
}

func (a *app) roleList() *cobra.Command {
	return list(a, lister[api.Role]{
		short: "List roles", example: "  jugate role list", what: "roles", fetch: uncut((*apiclient.Client).Roles),
		columns: []column[api.Role]{
			{title: "role", value: func(r api.Role) string { return r.Name }},
			{title: "rights", value: func(r api.Role) string { return rightWords(r.Rights) }},
			{title: "note", value: func(r api.Role) string { return r.Note }},
			{title: "built in", value: func(r api.Role) string { return pick(r.BuiltIn, "yes", "") }},
		},
	})
}

func (a *app) roleAdd() *cobra.Command {
	var in api.NewRole
	var given []string
	cmd := &cobra.Command{
		Use: "add ROLE --right RIGHT…", Short: "Keep a role of your own, in place of one of that name", Args: cobra.ExactArgs(1),
		Long:    "Rights are " + strings.Join(texts(rights.All), ", ") + ".\nA change takes effect at once for all who have the role.",
		Example: "  jugate role add keeper --right see,keep-images --note 'keeps images'",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, r := range given {
				in.Rights = append(in.Rights, rights.Right(r))
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			_, err = c.PutRole(cmd.Context(), in)
			return err
		},
	}
	cmd.Flags().StringSliceVar(&given, "right", nil, "rights of the role")
	cmd.Flags().StringVar(&in.Note, "note", "", "what there is to say of it")
	cmd.MarkFlagRequired("right")
	return cmd
}
