package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
)

// commandFlags are those of jugate order add about a command of the engineer's own.
type commandFlags struct {
	file   string
	is     api.PreparedCommand
	limit  time.Duration
	onlyIf []string
}

func (c *commandFlags) declare(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&c.file, "command", "", "file with lines for a shell that they run; the command is called like the file")
	f.StringVar(&c.is.Place, "command-in", "", "where it runs: system, which is that on their disks, or boot-environment (default system)")
	f.StringVar(&c.is.Before, "command-before", "", "part before which it runs, such as capture or deliver (default: when all is done)")
	f.DurationVar(&c.limit, "command-limit", 0, "after which it is ended (default 10m)")
	f.BoolVar(&c.is.MayFail, "command-may-fail", false, "who fails stays in the run")
	f.StringArrayVar(&c.onlyIf, "only-if", nil, "PART=CONDITION: the part leaves those alone that the condition does not fit, such as 'deliver=passed[\"scanner\"]'")
	cmd.RegisterFlagCompletionFunc("command-in", cobra.FixedCompletions([]cobra.Completion{api.InSystem, api.InEnvironment}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RegisterFlagCompletionFunc("command-before", cobra.FixedCompletions([]cobra.Completion{"capture", "check", "wipe", "deliver", "drivers", "payloads"}, cobra.ShellCompDirectiveNoFileComp))
}

// into puts what was said into an order. Without another part the command needs targets of its own.
func (c *commandFlags) into(in *api.Order, to []string, where string) error {
	for _, text := range c.onlyIf {
		part, condition, is := strings.Cut(text, "=")
		if !is {
			return usageError{fmt.Errorf("%q is not PART=CONDITION", text)}
		}
		if in.OnlyIf == nil {
			in.OnlyIf = map[string]string{}
		}
		in.OnlyIf[part] = condition
	}
	if c.file == "" {
		return nil
	}
	script, err := os.ReadFile(c.file)
	if err != nil {
		return err
	}
	name := filepath.Base(c.file)
	c.is.Name, c.is.Script, c.is.Limit = strings.TrimSuffix(name, filepath.Ext(name)), string(script), int((c.limit+time.Minute-1)/time.Minute)
	if in.Capture == nil && in.Deliver == nil && in.Check == nil {
		c.is.To, c.is.Where = to, where
	}
	in.Commands = append(in.Commands, c.is)
	return nil
}

// commandWords says what a command of an order does.
func commandWords(c api.PreparedCommand) string {
	words := "run the command " + c.Name
	if len(c.To) > 0 || c.Where != "" {
		words += " on " + targetWords(c.To, c.Where)
	}
	if c.Place == api.InEnvironment {
		words += " in the boot environment"
	} else {
		words += " in the system on the disk"
	}
	if c.Before != "" {
		words += ", before " + c.Before
	}
	return words
}

// commandOf is what an errand runs, and how it has ended.
func commandOf(e api.Errand) string {
	if e.Command == nil {
		return ""
	}
	return strings.TrimSuffix(e.Command.Name+", "+endedWords(e.Command), ", ")
}

// endedWords says how a command has ended; empty if it has not.
func endedWords(c *api.CommandRun) string {
	switch {
	case c.Ended == nil:
		return ""
	case c.Ended.Late:
		return "ended when its time was over"
	default:
		return "ended with " + strconv.Itoa(c.Ended.Status)
	}
}

// printOutput prints what a command has said, as it cannot harm a terminal.
func printOutput(w io.Writer, c *api.CommandRun) {
	if c == nil || c.Ended == nil || c.Ended.Output == "" {
		return
	}
	fmt.Fprintln(w)
	if c.Ended.Dropped > 0 {
		fmt.Fprintf(w, "[%s before this were dropped]\n", size(c.Ended.Dropped))
	}
	fmt.Fprintln(w, strings.TrimRight(legible(c.Ended.Output, "\n\t"), "\n"))
}

// printCommands prints what the commands of a run have said.
func (a *app) printCommands(cmd *cobra.Command, r api.OrderRun) error {
	var all []api.Errand
	for _, p := range r.Parts {
		all = append(all, p.Commands...)
	}
	if len(all) == 0 {
		return nil
	}
	fmt.Fprintln(cmd.OutOrStdout())
	return printList(cmd, a, all, []column[api.Errand]{
		{title: "errand", value: func(e api.Errand) string { return fmt.Sprint(e.ID) }, right: true},
		{title: "workstation", value: func(e api.Errand) string { return e.Workstation }},
		{title: "command", value: func(e api.Errand) string { return e.Command.Name }},
		{title: "state", value: func(e api.Errand) string { return string(e.State) }},
		{title: "ended", value: func(e api.Errand) string { return endedWords(e.Command) }},
		{title: "last line", value: func(e api.Errand) string { return cmp.Or(e.Command.LastLine, e.Error) }},
	})
}
