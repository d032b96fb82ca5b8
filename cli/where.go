package cli

import "github.com/spf13/cobra"

// whereFlag adds the flag for a condition over the roster.
func whereFlag(cmd *cobra.Command, where *string, help string) {
	cmd.Flags().StringVar(where, "where", "", help+", such as 'memory < 8GiB and \"herbarium\" in groups' (jugate explain condition)")
}

// targetFlags add the flags that say for which workstations something is; one of them has to
// be given.
func (a *app) targetFlags(cmd *cobra.Command, to *[]string, where *string) {
	cmd.Flags().StringSliceVar(to, "to", nil, "groups and workstations")
	whereFlag(cmd, where, "of those, or of the whole roster, whoever fits a condition")
	cmd.Flags().SetAnnotation("to", oneRequired, []string{"to where"})
	cmd.RegisterFlagCompletionFunc("to", a.complete(targetNames))
}

// namedOr asks for names behind the first arguments, unless there is a condition.
func namedOr(cmd *cobra.Command, first int) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) < first {
			return cobra.MinimumNArgs(first)(cmd, args)
		}
		if where, _ := cmd.Flags().GetString("where"); len(args) == first && where == "" {
			return cobra.MinimumNArgs(first+1)(cmd, args)
		}
		return nil
	}
}
