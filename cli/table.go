package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/durable"
	"jugate/core/roster"
)

// tableVerbs take the roster in and out as a table.
func (a *app) tableVerbs() []*cobra.Command {
	return []*cobra.Command{a.workstationImport(), a.workstationExport(), a.workstationName(), a.workstationNote(), a.workstationSite(), a.workstationField()}
}

func (a *app) workstationImport() *cobra.Command {
	var dryRun, whole bool
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Take a table of workstations (CSV) into the roster", Args: cobra.ExactArgs(1),
		Long: `The first line names the columns: name, hardware_addresses, uuid, serial, groups,
note, field.NAME for fields of your own, and answers such as time_zone. A machine that
nobody has seen is expected from then on: it is admitted by itself, under its name and
in its groups, when one with that address, UUID or serial number appears. Newcomers that
the table names are admitted.

An empty cell leaves things as they are, and "-" empties them. The same table twice
changes nothing. A row in doubt is reported with its line, and the others go in.
FILE can be - for standard input.`,
		Example: "  jugate workstation import room.csv --dry-run\n  jugate workstation import room.csv --all-or-nothing",
		RunE: func(cmd *cobra.Command, args []string) error {
			table, err := readFile(cmd, args[0], roster.MaxTable)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			in, err := c.ImportRoster(cmd.Context(), table, dryRun, whole)
			if err != nil {
				return err
			}
			if err := a.printImported(cmd, in); err != nil {
				return err
			}
			switch {
			case in.RowsInDoubt == 0:
				return nil
			case dryRun:
				return fmt.Errorf("%s in doubt", rowsAre(in.RowsInDoubt))
			case !in.Entered:
				return fmt.Errorf("nothing was entered, as %s in doubt", rowsAre(in.RowsInDoubt))
			}
			return partlyDone{fmt.Errorf("%s in doubt and left out", rowsAre(in.RowsInDoubt))}
		},
	}
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be entered, and enter nothing")
	cmd.Flags().BoolVar(&whole, "all-or-nothing", false, "enter nothing if a row is in doubt")
	return cmd
}

// printImported shows the rows that change something, and counts all.
func (a *app) printImported(cmd *cobra.Command, in api.Imported) error {
	if a.output == "json" {
		return printJSON(cmd.OutOrStdout(), in)
	}
	err := printList(cmd, a, in.Rows, []column[api.ImportedRow]{
		{title: "line", value: func(r api.ImportedRow) string { return fmt.Sprint(r.Line) }, right: true},
		{title: "workstation", value: func(r api.ImportedRow) string { return r.Workstation }},
		{title: "is", value: func(r api.ImportedRow) string { return r.What }},
		{title: "what", value: func(r api.ImportedRow) string { return pick(r.Problem != "", r.Problem, strings.Join(r.Did, "; ")) }},
	})
	fmt.Fprintf(cmd.ErrOrStderr(), "%s%d new, %d changed, %d unchanged, %d in doubt\n", pick(in.Entered, "", "nothing entered: "), in.NewRows, in.ChangedRows, in.UnchangedRows, in.RowsInDoubt)
	return err
}

func rowsAre(n int) string {
	if n == 1 {
		return "1 row is"
	}
	return fmt.Sprintf("%d rows are", n)
}

// readFile reads a file of limited size, or standard input.
func readFile(cmd *cobra.Command, name string, limit int64) ([]byte, error) {
	in := cmd.InOrStdin()
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	content, err := io.ReadAll(io.LimitReader(in, limit+1))
	if err == nil && int64(len(content)) > limit {
		err = fmt.Errorf("%s is larger than %s", name, size(limit))
	}
	return content, err
}

func (a *app) workstationExport() *cobra.Command {
	var group, into string
	var replace bool
	cmd := &cobra.Command{
		Use: "export", Short: "Write the roster as a table (CSV) that import takes", Args: cobra.NoArgs,
		Example: "  jugate workstation export --group herbarium --into room.csv\n  jugate workstation export",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			table, err := c.ExportRoster(cmd.Context(), group)
			if err != nil || into == "" {
				cmd.OutOrStdout().Write(table)
				return err
			}
			return writeFile(into, table, replace)
		},
	}
	cmd.Flags().StringVar(&group, "group", "", "only workstations of a group")
	cmd.Flags().StringVar(&into, "into", "", "the file to write; standard output without it")
	cmd.Flags().BoolVar(&replace, "replace", false, "write over a file of that name")
	cmd.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	return cmd
}

// writeFile makes a file that appears when it is whole.
func writeFile(name string, content []byte, replace bool) error {
	if err := mayWriteFile(name, replace); err != nil {
		return err
	}
	f, err := durable.Create(name, 0o644)
	if err != nil {
		return err
	}
	defer f.Drop()
	if _, err := f.Write(content); err != nil {
		return err
	}
	return keepFile(f, name, replace)
}

func (a *app) workstationName() *cobra.Command {
	var in api.NewNames
	cmd := &cobra.Command{
		Use: "name [HARDWARE-ADDRESS|WORKSTATION|GROUP…] --pattern PATTERN", Short: "Name newcomers and workstations by a pattern",
		Long: `Newcomers are admitted under their names. A pattern has text and values in braces:

    herb-{number:02}          the lowest numbers that are free, with two digits
    {group}-{serial:last4}    the last four characters; first4 are the first
    {model:short}-{number}    the first letters of words, and their digits

The values are number, group, serial, model, maker, address and uuid.`,
		Example: "  jugate workstation name --where 'state == \"newcomer\" and model == \"A310\"' --pattern 'herb-{number:02}' --group herbarium --dry-run\n" +
			"  jugate workstation name herbarium --pattern '{group}-{serial:last4}'",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.To = args
			c, err := a.client()
			if err != nil {
				return err
			}
			named, err := c.NameAll(cmd.Context(), in)
			if err != nil {
				return err
			}
			return printList(cmd, a, named, []column[api.Named]{
				{title: "hardware address", value: func(n api.Named) string { return n.Address }},
				{title: "model", value: func(n api.Named) string { return n.Model }},
				{title: "serial", value: func(n api.Named) string { return n.Serial }},
				{title: "was", value: func(n api.Named) string { return pick(n.Was == "", string(n.State), n.Was) }},
				{title: pick(in.DryRun, "would be", "is"), value: func(n api.Named) string { return n.Name }},
			})
		},
	}
	cmd.Args = namedOr(cmd, 0)
	whereFlag(cmd, &in.Where, "of those, or of the roster and all newcomers, whoever fits a condition")
	cmd.Flags().StringVar(&in.Pattern, "pattern", "", "how names are made")
	cmd.Flags().StringVar(&in.Order, "order", "address", "who gets the first number: by address, or by appearance (who was seen first)")
	cmd.Flags().StringSliceVar(&in.Groups, "group", nil, "groups to put them into")
	cmd.Flags().BoolVar(&in.DryRun, "dry-run", false, "show the names, and give none")
	cmd.MarkFlagRequired("pattern")
	cmd.RegisterFlagCompletionFunc("group", a.complete(groupNames))
	cmd.RegisterFlagCompletionFunc("order", cobra.FixedCompletions([]cobra.Completion{"address", "appearance"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) workstationNote() *cobra.Command {
	return &cobra.Command{
		Use: "note WORKSTATION TEXT", Short: "Replace what is said of a workstation", Args: cobra.ExactArgs(2),
		Example: "  jugate workstation note herb-03 \"the scanner's cable is loose\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.NoteWorkstation(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
}

func (a *app) workstationSite() *cobra.Command {
	return &cobra.Command{
		Use: "site WORKSTATION [OUTPOST]", Short: "Say at which outpost a workstation is, until it calls from elsewhere; without an outpost, at none", Args: cobra.RangeArgs(1, 2),
		Example: "  jugate workstation site alpine-03 alpine",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return a.complete(outpostNames)(cmd, nil, typed)
			}
			return a.complete(workstationNames)(cmd, args, typed)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.SetSite(cmd.Context(), args[0], strings.Join(args[1:], ""))
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
}

func (a *app) workstationField() *cobra.Command {
	return &cobra.Command{
		Use: "field WORKSTATION NAME=VALUE…", Short: "Set fields of your own, such as room or asset_tag; without a value, remove them", Args: cobra.MinimumNArgs(2),
		Example: "  jugate workstation field herb-03 room=2.14 owner=\"R. Holm\"\n  jugate workstation field herb-03 owner=",
		RunE: func(cmd *cobra.Command, args []string) error {
			fields := map[string]string{}
			for _, arg := range args[1:] {
				name, value, is := strings.Cut(arg, "=")
				if !is {
					return usageError{fmt.Errorf("%q is not NAME=VALUE", arg)}
				}
				fields[name] = value
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			w, err := c.SetFields(cmd.Context(), args[0], fields)
			if err != nil {
				return err
			}
			return a.printWorkstation(cmd, w)
		},
	}
}

// authorityAtMost bounds the file of a certificate, in bytes.
const authorityAtMost = 1 << 16

// readAuthority reads the certificate in a file; nothing if none is named.
func readAuthority(cmd *cobra.Command, name string) (string, error) {
	if name == "" {
		return "", nil
	}
	text, err := readFile(cmd, name, authorityAtMost)
	return string(text), err
}
