package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) logbookCommand() *cobra.Command {
	return noun("logbook", "Tell who changed what", a.logbookList())
}

func (a *app) logbookList() *cobra.Command {
	var who, operation, since, until, search string
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List changes, the newest first", Args: cobra.NoArgs,
		Long:    "Each line says who has changed what, from where and through what, and what was sent, with\nsecrets left out. With --output csv or json it is an export.",
		Example: "  jugate logbook list --who ines --since 2026-03-01T00:00:00Z\n  jugate logbook list --search herb-01 --output csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l := apiclient.List{Search: search, Limit: limit, Filter: map[string]string{"who": who, "operation": operation, "since": since, "until": until}}
			page, err := c.Lines(cmd.Context(), l)
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.Line]{
				{title: "at", value: func(l api.Line) string { return when(l.At) }},
				{title: "who", value: func(l api.Line) string { return l.Who }},
				{title: "from", value: func(l api.Line) string { return l.From }},
				{title: "through", value: func(l api.Line) string { return l.Through }},
				{title: "what", value: func(l api.Line) string { return l.Operation }},
				{title: "of", value: func(l api.Line) string { return l.Subject }},
				{title: "sent", value: func(l api.Line) string {
					text, _ := json.Marshal(l.Details)
					return pick(string(text) == "{}", "", string(text))
				}},
			}, "nothing was changed yet")
		},
	}
	cmd.Flags().StringVar(&who, "who", "", "changes of this person alone")
	cmd.Flags().StringVar(&operation, "operation", "", "this operation of the interface alone, such as deliver")
	cmd.Flags().StringVar(&since, "since", "", "from then on, as 2026-03-01T00:00:00Z")
	cmd.Flags().StringVar(&until, "until", "", "before then")
	cmd.Flags().StringVar(&search, "search", "", "lines that contain this text")
	cmd.Flags().IntVar(&limit, "limit", 100, "how many at the most")
	return cmd
}
