package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

// lister is a command that lists things of the service.
type lister[T any] struct {
	short, example string
	what           string // in the plural: "workstations"
	none           string // why there may be none, and what makes one
	fetch          func(c *apiclient.Client, ctx context.Context, l apiclient.List) (api.Page[T], error)
	sort           []string // fields
	filters        []filter
	columns        []column[T]
	// within lists what a thing has that may be named, such as the versions of an image.
	within func(c *apiclient.Client, ctx context.Context, name string) (api.Page[T], error)
	thing  string // what may be named: "image"
}

// filter narrows a list.
type filter struct {
	name, help string
	values     []string // all that it can have, if they are few
	complete   cobra.CompletionFunc
	truth      bool   // it is a flag without a value
	inverse    bool   // the list is narrowed unless the flag is given
	param      string // of the interface, if that has another name
}

func (f filter) parameter() string {
	if f.param != "" {
		return f.param
	}
	return f.name
}

// uncut fetches a list that the service never cuts into pages, and does not narrow.
func uncut[T any](fetch func(*apiclient.Client, context.Context) (api.Page[T], error)) func(*apiclient.Client, context.Context, apiclient.List) (api.Page[T], error) {
	return func(c *apiclient.Client, ctx context.Context, _ apiclient.List) (api.Page[T], error) {
		return fetch(c, ctx)
	}
}

// list makes the command.
func list[T any](a *app, l lister[T]) *cobra.Command {
	var search, order string
	texts, truths := map[string]*string{}, map[string]*bool{}
	cmd := &cobra.Command{
		Use: "list", Short: l.short, Example: l.example, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			chosen := map[string]string{}
			for _, f := range l.filters {
				switch {
				case f.truth:
					if *truths[f.name] != f.inverse {
						chosen[f.parameter()] = "true"
					}
				default:
					chosen[f.parameter()] = *texts[f.name]
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				if search != "" || order != "" {
					return usageError{errors.New("--search and --sort are for the list of all " + l.what)}
				}
				page, err := l.within(c, cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return printList(cmd, a, page.Items, l.columns)
			}
			items, err := every(cmd.Context(), apiclient.List{Search: search, Sort: order, Filter: chosen},
				func(ctx context.Context, q apiclient.List) (api.Page[T], error) { return l.fetch(c, ctx, q) })
			if err != nil {
				return err
			}
			narrowed := search != ""
			for _, value := range texts {
				narrowed = narrowed || *value != ""
			}
			return printList(cmd, a, items, l.columns, pick(narrowed, "no "+l.what+" match", l.none))
		},
	}
	if l.within != nil {
		cmd.Use, cmd.Args = "list ["+strings.ToUpper(l.thing)+"]", cobra.MaximumNArgs(1)
	}
	flags := cmd.Flags()
	if l.sort != nil {
		flags.StringVar(&search, "search", "", "only "+l.what+" that contain this text")
		flags.StringVar(&order, "sort", "", "field to sort by: "+strings.Join(l.sort, ", ")+"; with a hyphen in front, descending")
		var fields []string
		for _, s := range l.sort {
			fields = append(fields, s, "-"+s)
		}
		cmd.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions(toCompletions(fields), cobra.ShellCompDirectiveNoFileComp))
	}
	for _, f := range l.filters {
		if f.truth {
			truths[f.name] = flags.Bool(f.name, false, f.help)
			continue
		}
		help := f.help
		if f.values != nil {
			help = fmt.Sprintf("%s: %s", f.help, strings.Join(f.values, ", "))
			f.complete = cobra.FixedCompletions(toCompletions(f.values), cobra.ShellCompDirectiveNoFileComp)
		}
		texts[f.name] = flags.String(f.name, "", help)
		if f.complete != nil {
			cmd.RegisterFlagCompletionFunc(f.name, f.complete)
		}
	}
	return cmd
}
