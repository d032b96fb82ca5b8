package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/rights"
)

func (a *app) tokenCommand() *cobra.Command {
	return noun("token", "Make tokens for programs, and end them", a.tokenAdd(), a.tokenList(), a.tokenLastResort(),
		a.silent(&cobra.Command{
			Use: "remove TOKEN", Short: "End a token; programs that have it are refused at once", Args: cobra.ExactArgs(1), Example: "  jugate token remove nightly-capture",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveToken(ctx, args[0])
		}))
}

func (a *app) tokenAdd() *cobra.Command {
	var in api.NewToken
	var given []string
	cmd := &cobra.Command{
		Use: "add TOKEN", Short: "Make a token for a program, whose secret is shown once", Args: cobra.ExactArgs(1),
		Long:    "It may do what its person may, and no more than the rights that are given.",
		Example: "  jugate token add nightly-capture --right see,capture --days 365",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, r := range given {
				in.Rights = append(in.Rights, rights.Right(r))
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.AddToken(cmd.Context(), in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, t)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n\nThis is shown once. %s calls with it as %s until %s.\n", t.Secret, t.Name, t.Person, when(t.Expires))
			return err
		},
	}
	cmd.Flags().StringSliceVar(&given, "right", nil, "what it may do at the most (default: what its person may)")
	cmd.Flags().IntVar(&in.Days, "days", 90, "how many days it is good")
	cmd.Flags().StringVar(&in.Person, "of", "", "whose it is (default: yours)")
	return cmd
}

func (a *app) tokenList() *cobra.Command {
	return list(a, lister[api.Token]{
		short: "List tokens: your own, or with the right to administer those of all", example: "  jugate token list",
		what: "tokens", none: "no token; jugate token add makes one", fetch: uncut((*apiclient.Client).Tokens),
		columns: []column[api.Token]{
			{title: "token", value: func(t api.Token) string { return t.Name }},
			{title: "person", value: func(t api.Token) string { return t.Person }},
			{title: "rights", value: func(t api.Token) string { return pick(len(t.Rights) == 0, "all of the person's", rightWords(t.Rights)) }},
			{title: "until", value: func(t api.Token) string { return when(t.Expires) }},
			{title: "last used", value: func(t api.Token) string { return lastTime(t.Used) }},
			{title: "from", value: func(t api.Token) string { return t.UsedFrom }},
		},
	})
}

func (a *app) tokenLastResort() *cobra.Command {
	var in api.LastResort
	var renew bool
	cmd := &cobra.Command{
		Use: "last-resort --renew|--off", Short: "Renew the key of last resort, or switch it off", Args: cobra.NoArgs,
		Long:    "Renew the key of last resort, or switch it off. It opens everything to whoever can read the file\nadmin.token in the service's data folder. Once it is off, whoever is root on the machine has another made\nby removing that file and starting the service again.",
		Example: "  jugate token last-resort --renew\n  jugate token last-resort --off",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if renew == in.Off {
				return usageError{errors.New("say --renew or --off")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			k, err := c.ChangeLastResort(cmd.Context(), in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return show(cmd, a, k)
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), pick(in.Off, "the key of last resort is switched off", "the key of last resort is another one; it is in admin.token, in the service's data folder"))
			return err
		},
	}
	cmd.Flags().BoolVar(&renew, "renew", false, "make another")
	cmd.Flags().BoolVar(&in.Off, "off", false, "switch it off")
	return cmd
}
