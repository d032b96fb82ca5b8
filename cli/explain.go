package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/glossary"
)

// explainCommand says what words mean. It needs no service.
func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use: "explain TERM", Short: "Say what a word, a state or a finding means", Args: cobra.MinimumNArgs(1),
		Example: "  jugate explain mending\n  jugate explain set aside\n  jugate explain no-efi-partition",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var names []string
			for _, t := range glossary.Terms {
				names = append(names, t.Name+"\t"+t.Kind)
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			name := strings.Join(args, " ")
			var found []api.Term
			for _, t := range glossary.Find(name) {
				found = append(found, api.Term{Name: t.Name, Kind: t.Kind, Text: t.Text})
			}
			if found == nil {
				if near := glossary.Near(name); near != nil {
					return fmt.Errorf("no term is called %q; did you mean %s?", name, strings.Join(near, ", "))
				}
				return fmt.Errorf("no term is called %q; docs/reference/terms.md lists them all", name)
			}
			if a.output != "table" {
				return printList(cmd, a, found, nil)
			}
			for i, t := range found {
				if i > 0 {
					fmt.Fprintln(cmd.OutOrStdout())
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s (%s)\n%s\n", t.Name, t.Kind, wrapped(t.Text, 80))
			}
			return nil
		},
	}
}

// wrapped breaks a text into lines of at most so many characters.
func wrapped(text string, width int) string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && len(line)+1+len(word) > width {
			lines = append(lines, line)
			line = ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return strings.Join(append(lines, line), "\n")
}

// referenceCommand writes the reference pages, whose text is that of the program.
func referenceCommand() *cobra.Command {
	manual := false
	cmd := &cobra.Command{
		Use: "reference DIR", Short: "Write the reference pages", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if manual {
				return writeManual(cmd.Root(), args[0])
			}
			return writeReference(cmd.Root(), args[0])
		},
	}
	cmd.Flags().BoolVar(&manual, "manual", false, "write manual pages and completions for packages")
	return cmd
}
