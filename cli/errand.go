package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
)

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
				{title: "kind", value: func(e api.Errand) string { return string(e.Kind) }},
				{title: "image", value: func(e api.Errand) string { return e.Image }},
				{title: "delivery", value: func(e api.Errand) string { return strings.TrimPrefix(fmt.Sprint(e.Delivery), "0") }, right: true},
				{title: "state", value: func(e api.Errand) string { return string(e.State) }},
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
