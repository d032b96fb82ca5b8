package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) logbookCommand() *cobra.Command {
	cmd := list(a, lister[api.Line]{
		short:   "List changes, the newest first",
		example: "  jugate logbook list --who ines --since 2026-03-01T00:00:00Z\n  jugate logbook list --search herb-01 --output csv",
		what:    "lines", none: "nothing was changed yet", fetch: (*apiclient.Client).Lines,
		sort: []string{"at", "who", "operation"},
		filters: []filter{
			{name: "who", help: "changes of this person alone"},
			{name: "operation", help: "this operation of the interface alone, such as deliver"},
			{name: "since", help: "from then on, as 2026-03-01T00:00:00Z"},
			{name: "until", help: "before then"},
		},
		columns: []column[api.Line]{
			{title: "at", value: func(l api.Line) string { return when(l.At) }},
			{title: "who", value: func(l api.Line) string { return l.Who }},
			{title: "from", value: func(l api.Line) string { return l.From }},
			{title: "through", value: func(l api.Line) string { return l.Through }},
			{title: "what", value: func(l api.Line) string { return l.Operation }},
			{title: "of", value: func(l api.Line) string { return l.Subject }},
			{title: "changed, or sent", value: func(l api.Line) string {
				if l.Changes != nil {
					text, _ := json.Marshal(l.Changes)
					return string(text)
				}
				text, _ := json.Marshal(l.Details)
				return pick(string(text) == "{}", "", string(text))
			}},
		},
	})
	cmd.Long = "Each line says who has changed what, from where and through what, and what differs since,\nor what was sent, with secrets left out. All of them are listed: with --output csv or json it is an export."
	return noun("logbook", "Tell who changed what", cmd)
}
