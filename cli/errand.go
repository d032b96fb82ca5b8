package cli

import (
	"fmt"
	"strings"

	"jugate/apiclient"
	"jugate/core/errand"

	"github.com/spf13/cobra"

	"jugate/api"
)

// errandCommand shows what waits for workstations.
func (a *app) errandCommand() *cobra.Command {
	list := list(a, lister[api.Errand]{
		short: "List what workstations do and what waits for them, in the order in which they get it", example: "  jugate errand list\n  jugate errand list --workstation herb-03 --all",
		what: "errands", none: "no workstation has anything to do; --all lists what was done, too",
		fetch: (*apiclient.Client).Errands, sort: []string{"created", "workstation", "kind", "state"},
		filters: []filter{{name: "workstation", help: "only errands of a workstation", complete: a.complete(workstationNames)}, {name: "all", param: "open", help: "errands that have ended, too", truth: true, inverse: true}},
		columns: []column[api.Errand]{
			{title: "errand", value: func(e api.Errand) string { return fmt.Sprint(e.ID) }, right: true},
			{title: "workstation", value: func(e api.Errand) string { return e.Workstation }},
			{title: "kind", value: func(e api.Errand) string { return string(e.Kind) }},
			{title: "image", value: func(e api.Errand) string { return e.Image }},
			{title: "command", value: commandOf},
			{title: "delivery", value: func(e api.Errand) string { return strings.TrimPrefix(fmt.Sprint(e.Delivery), "0") }, right: true},
			{title: "state", value: func(e api.Errand) string { return string(e.State) }},
			{title: "not before", value: func(e api.Errand) string {
				if e.NotBefore == nil || e.Ended != nil {
					return ""
				}
				return when(*e.NotBefore)
			}},
			{title: "error", value: func(e api.Errand) string { return e.Error }},
		},
	})
	verb := func(use, short string, do func(cmd *cobra.Command, c *apiclient.Client, id int64) (api.Errand, error)) *cobra.Command {
		return &cobra.Command{
			Use: use, Short: short, Args: cobra.ExactArgs(1), Example: "  jugate errand " + strings.Replace(use, "ERRAND", "7", 1),
			RunE: func(cmd *cobra.Command, args []string) error {
				id, err := numberOf("an errand", args[0])
				if err != nil {
					return err
				}
				c, err := a.client()
				if err != nil {
					return err
				}
				e, err := do(cmd, c, id)
				if err != nil {
					return err
				}
				return a.printErrand(cmd, e)
			},
		}
	}
	return noun("errand", "See, watch and stop what workstations are asked to do", list,
		verb("show ERRAND", "Show how far an errand is", func(cmd *cobra.Command, c *apiclient.Client, id int64) (api.Errand, error) {
			return c.Errand(cmd.Context(), id)
		}),
		verb("watch ERRAND", "Watch an errand until it has ended", func(cmd *cobra.Command, c *apiclient.Client, id int64) (api.Errand, error) {
			e, err := a.watchErrand(cmd.Context(), c, id, cmd.ErrOrStderr())
			return e, leaving(err, fmt.Sprintf("errand %d", id))
		}),
		verb("stop ERRAND", "Stop an errand that is not part of a delivery", func(cmd *cobra.Command, c *apiclient.Client, id int64) (api.Errand, error) {
			return c.StopErrand(cmd.Context(), id)
		}))
}

// printErrand prints an errand; one that has failed is an error, too.
func (a *app) printErrand(cmd *cobra.Command, e api.Errand) error {
	image, of := e.Image, ""
	if e.Version > 0 {
		image = fmt.Sprintf("%s@%d", e.Image, e.Version)
	}
	if e.Total > 0 && e.Ended == nil {
		of = fmt.Sprintf("%s of %s", size(e.Done), size(e.Total))
	}
	if err := show(cmd, a, e,
		field{"errand", fmt.Sprint(e.ID)}, field{"workstation", e.Workstation}, field{"kind", string(e.Kind)}, field{"image", image},
		field{"delivery", strings.TrimPrefix(fmt.Sprint(e.Delivery), "0")}, field{"state", string(e.State)}, field{"done", of},
		field{"ordered", when(e.Created)}, field{"not before", whenPtr(e.NotBefore)}, field{"ended", whenPtr(e.Ended)},
		field{"command", commandOf(e)}, field{"result", strings.Join(e.Result, "; ")}, field{"error", e.Error}); err != nil {
		return err
	}
	if a.output == "table" {
		printOutput(cmd.OutOrStdout(), e.Command)
	}
	if e.State == errand.Failed {
		return fmt.Errorf("errand %d of %s failed", e.ID, e.Workstation)
	}
	return nil
}
