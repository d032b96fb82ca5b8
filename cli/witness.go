package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) witnessCommand() *cobra.Command {
	return noun("witness", "Have other services countersign the records, and countersign theirs", a.witnessAdd(), a.witnessList(), a.witnessAsk(), a.witnessKey(),
		a.silent(&cobra.Command{
			Use: "remove WITNESS", Short: "Have a witness countersign no more", Args: cobra.ExactArgs(1), Example: "  jugate witness remove alpine-house",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveWitness(ctx, args[0])
		}),
		a.witnessWatch(), a.witnessWatched(),
		a.silent(&cobra.Command{
			Use: "unwatch SERVICE", Short: "Countersign the heads of a service no more", Args: cobra.ExactArgs(1), Example: "  jugate witness unwatch garden",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.Unwatch(ctx, args[0])
		}),
		a.silent(&cobra.Command{
			Use: "confirm SERVICE", Short: "Confirm that a watched service was restored from a backup", Args: cobra.ExactArgs(1),
			Long:    "Confirm that a watched service was restored from a backup. Confirm only what somebody has told you\nin another way: whoever has stolen the keys of the service can say so, too.",
			Example: "  jugate witness confirm garden",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.ConfirmRestore(ctx, args[0])
		}))
}

func (a *app) witnessAdd() *cobra.Command {
	var in api.NewWitness
	var authority string
	cmd := &cobra.Command{
		Use: "add WITNESS URL --key KEY", Short: "Have somebody countersign the heads of the records every hour", Args: cobra.ExactArgs(2),
		Long:    "Have somebody countersign the heads of the records every hour (C2SP tlog-witness): another Jugate, at\nhttps://HOST:PORT/witness/v1, where this service is watched (jugate witness watch). From then on\nnobody who holds all of this service can change what was countersigned.",
		Example: "  jugate witness add alpine-house https://203.0.113.5:7460/witness/v1 --key alpine-house.key --its-authority alpine-authority.pem",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			in.Name, in.URL = args[0], args[1]
			if in.Key, err = readKey(cmd, in.Key); err != nil {
				return err
			}
			if in.Authority, err = readAuthority(cmd, authority); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.AddWitness(cmd.Context(), in)
			if err != nil {
				return err
			}
			return show(cmd, a, w, field{"witness", w.Name}, field{"countersigned", fmt.Sprintf("%d leaves", w.Leaves)}, field{"at", whenPtr(w.At)})
		},
	}
	keyFlag(cmd, &in.Key)
	cmd.Flags().StringVar(&authority, "its-authority", "", "a PEM file with the authority of its certificate, if the service's machine does not trust it")
	return cmd
}

func witnessColumns() []column[api.Witness] {
	return []column[api.Witness]{
		{title: "witness", value: func(w api.Witness) string { return w.Name }},
		{title: "leaves", value: func(w api.Witness) string { return fmt.Sprint(w.Leaves) }, right: true},
		{title: "countersigned", value: func(w api.Witness) string { return whenPtr(w.At) }},
		{title: "url", value: func(w api.Witness) string { return w.URL }},
		{title: "problem", value: func(w api.Witness) string { return w.Problem }},
	}
}

func (a *app) witnessList() *cobra.Command {
	return list(a, lister[api.Witness]{
		short: "List who countersigns, and what keeps them from it", example: "  jugate witness list", what: "witnesses", none: "nobody countersigns the records of this service; jugate witness add enters one",
		fetch: uncut((*apiclient.Client).Witnesses), columns: witnessColumns(),
	})
}

func (a *app) witnessAsk() *cobra.Command {
	return &cobra.Command{
		Use: "ask", Short: "Have all witnesses countersign now", Args: cobra.NoArgs, Example: "  jugate witness ask",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.AskWitnesses(cmd.Context())
			if err != nil {
				return err
			}
			for _, w := range page.Items {
				if w.Problem != "" {
					err = partlyDone{errors.New("not all have countersigned")}
				}
			}
			return errors.Join(printList(cmd, a, page.Items, witnessColumns()), err)
		},
	}
}

func (a *app) witnessKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Show the public keys that heads and countersignatures are checked with", Args: cobra.NoArgs, Example: "  jugate witness key",
		Long: "Show the public keys of the service: the log key checks its heads and proofs (write it down elsewhere),\nthe witness key what it countersigns for others.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			k, err := c.LogKeys(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, a, k, field{"log key", k.Log}, field{"witness key", k.Witness})
		},
	}
}

func (a *app) witnessWatch() *cobra.Command {
	var in api.NewWatched
	cmd := &cobra.Command{
		Use: "watch SERVICE --key KEY", Short: "Countersign the heads of another service", Args: cobra.ExactArgs(1), Example: "  jugate witness watch garden --key garden.key",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			in.Name = args[0]
			if in.Key, err = readKey(cmd, in.Key); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.Watch(cmd.Context(), in)
		},
	}
	keyFlag(cmd, &in.Key)
	return cmd
}

func (a *app) witnessWatched() *cobra.Command {
	cmd := list(a, lister[api.Watched]{
		short: "List services whose heads are countersigned here", example: "  jugate witness watched", what: "services", none: "no service is watched here; jugate witness watch begins with one",
		fetch: uncut((*apiclient.Client).Watched),
		columns: []column[api.Watched]{
			{title: "service", value: func(w api.Watched) string { return w.Name }},
			{title: "leaves", value: func(w api.Watched) string { return fmt.Sprint(w.Leaves) }, right: true},
			{title: "seen", value: func(w api.Watched) string { return whenPtr(w.At) }},
			{title: "to be confirmed", value: func(w api.Watched) string {
				if w.Restored == nil {
					return ""
				}
				return fmt.Sprintf("%s says that %d leaves were restored, where %d were: %s", w.Restored.Who, w.Restored.Leaves, w.Restored.LostLeaves, w.Restored.Why)
			}},
		},
	})
	cmd.Use = "watched"
	return cmd
}
