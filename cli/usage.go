package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// usageError is a call with wrong words.
type usageError struct{ error }

// checkWords makes every complaint about commands, arguments and missing flags a sentence,
// and wrong use.
func checkWords(cmd *cobra.Command) {
	check := cmd.Args
	if check == nil {
		check = cobra.NoArgs
	}
	cmd.Args = func(cmd *cobra.Command, args []string) error {
		if cmd.HasSubCommands() && len(args) > 0 {
			return usageError{noSuchCommand(cmd, args[0])}
		}
		if err := check(cmd, args); err != nil {
			return usageError{withUsage(cmd, wrongArguments(cmd, args))}
		}
		return nil
	}
	cmd.PreRunE = func(cmd *cobra.Command, _ []string) error {
		var missing []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Annotations[cobra.BashCompOneRequiredFlag] != nil && !f.Changed {
				missing = append(missing, "--"+f.Name)
			}
		})
		if one := missingOfGroups(cmd); one != "" && len(missing) == 0 {
			missing = append(missing, one)
		}
		switch len(missing) {
		case 0:
			return nil
		case 1:
			return usageError{withUsage(cmd, missing[0]+" is missing")}
		}
		return usageError{withUsage(cmd, strings.Join(missing, " and ")+" are missing")}
	}
	for _, sub := range cmd.Commands() {
		checkWords(sub)
	}
}

// missingOfGroups names the flags of a group of which none was given (oneRequired), or is
// empty.
func missingOfGroups(cmd *cobra.Command) (missing string) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		for _, group := range f.Annotations[oneRequired] {
			names := strings.Fields(group)
			if !slices.ContainsFunc(names, cmd.Flags().Changed) {
				missing = "--" + strings.Join(names, " or --")
			}
		}
	})
	return missing
}

// oneRequired is the annotation of flags of which one has to be given.
const oneRequired = "jugate_one_required"

func withUsage(cmd *cobra.Command, text string) error {
	return fmt.Errorf("%s\nUsage: %s", text, cmd.UseLine())
}

// wrongArguments says which argument is missing, or which is too many.
func wrongArguments(cmd *cobra.Command, args []string) string {
	var wanted, needed []string
	for _, word := range strings.Fields(cmd.Use)[1:] {
		if strings.HasPrefix(word, "-") {
			break
		}
		wanted = append(wanted, word)
		if !strings.HasPrefix(word, "[") {
			needed = append(needed, word)
		}
	}
	switch {
	case len(args) < len(needed):
		return strings.Join(needed[len(args):], " and ") + pick(len(needed)-len(args) == 1, " is", " are") + " missing"
	case len(wanted) == 0:
		return fmt.Sprintf("%s takes no arguments, and %q is one", cmd.CommandPath(), args[0])
	}
	return fmt.Sprintf("%q is one argument too many", args[min(len(wanted), len(args)-1)])
}

func pick(first bool, a, b string) string {
	if first {
		return a
	}
	return b
}

// noSuchCommand names the commands that may have been meant.
func noSuchCommand(cmd *cobra.Command, word string) error {
	text := fmt.Sprintf("there is no command %q", cmd.CommandPath()+" "+word)
	cmd.SuggestionsMinimumDistance = 2
	if near := cmd.SuggestionsFor(word); len(near) > 0 {
		return fmt.Errorf("%s; did you mean %q?", text, cmd.CommandPath()+" "+near[0])
	}
	if !cmd.HasParent() {
		return fmt.Errorf("%s; jugate help lists them", text)
	}
	var verbs []string
	for _, sub := range cmd.Commands() {
		if sub.IsAvailableCommand() {
			verbs = append(verbs, sub.Name())
		}
	}
	return fmt.Errorf("%s; there are %s", text, strings.Join(verbs, ", "))
}
