package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jugate/core/answers"
	"jugate/core/glossary"
	"jugate/service"
)

// The reference pages say what the program says of itself: they are made from its commands,
// settings and terms.

// writeReference writes them into a folder.
func writeReference(root *cobra.Command, dir string) error {
	pages, err := referencePages(root)
	if err != nil {
		return err
	}
	for name, text := range pages {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

const madeBy = "<!-- Made by `make reference` from the program's own text. -->\n\n"

func referencePages(root *cobra.Command) (map[string]string, error) {
	schema, err := orderSchema()
	if err != nil {
		return nil, err
	}
	told, err := service.NotificationSchema()
	if err != nil {
		return nil, err
	}
	webhooks, err := json.MarshalIndent(told, "", "  ")
	return map[string]string{"commands.md": commandPage(root), "settings.md": settingsPage(root), "terms.md": termsPage(), "answers.md": answersPage(), "order.schema.json": schema, "webhook.schema.json": string(webhooks) + "\n"}, err
}

func commandPage(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString("# Commands\n\n" + madeBy)
	b.WriteString("`jugate NOUN VERB`. Results go to standard output, remarks and progress to standard error.\n\n")
	b.WriteString("`--output json` prints the document that the interface answers with; `--output csv` a line for each thing, with a column for each of its fields, under the same names. ")
	b.WriteString("Values are plain in both: bytes as numbers, times as RFC 3339 in UTC.\n\n")
	b.WriteString("Exit codes: 0 done, 1 failed, 2 wrong use, 3 partly done.\n\n## For every command\n\n")
	flagTable(&b, root.PersistentFlags())
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		if cmd.Hidden || cmd.Name() == "help" || cmd.Name() == "completion" {
			return
		}
		if cmd.Runnable() && !cmd.HasSubCommands() {
			text := cmd.Long
			if text == "" {
				text = cmd.Short + "."
			}
			fmt.Fprintf(&b, "\n## %s\n\n    %s\n\n%s\n", cmd.CommandPath(), strings.TrimSuffix(cmd.UseLine(), " [flags]"), strings.ReplaceAll(text, "\n  ", "\n\n    "))
			if cmd.Example != "" {
				fmt.Fprintf(&b, "\nFor example:\n\n%s\n", strings.ReplaceAll("  "+strings.TrimSpace(cmd.Example), "  jugate", "    jugate"))
			}
			if flags := cmd.LocalNonPersistentFlags(); flags.HasAvailableFlags() {
				b.WriteString("\n")
				flagTable(&b, flags)
			}
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	for _, sub := range root.Commands() {
		walk(sub)
	}
	return b.String()
}

func flagTable(b *strings.Builder, flags *pflag.FlagSet) {
	b.WriteString("| flag | |\n| --- | --- |\n")
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || f.Name == "version" {
			return
		}
		kind, usage := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if kind != "" {
			name += " " + strings.ToUpper(kind)
		}
		if d := f.DefValue; d != "" && d != "false" && d != "0" && d != "[]" && d != "0s" && !strings.Contains(usage, "(default") {
			usage += " (default " + d + ")"
		}
		fmt.Fprintf(b, "| `%s` | %s |\n", name, strings.ReplaceAll(usage, "|", "\\|"))
	})
}

func settingsPage(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString("# Settings\n\n" + madeBy)
	b.WriteString("A setting comes from a flag; else from the environment; else from the configuration file, `" + configFile + "` or the one that `--config` names (YAML, the names below as keys, lists as lists); ")
	b.WriteString("else, for `server` and `token`, from what `jugate sign-in` or a running `jugate serve` of the same user has left. A key that is not in this table is an error. `jugate config show` tells what is in force, and where it comes from.\n\n")
	b.WriteString("| setting | environment | |\n| --- | --- | --- |\n")
	serve, _, err := root.Find([]string{serveName})
	if err != nil {
		return b.String()
	}
	serve.InheritedFlags()
	for _, f := range settingsOf(serve) {
		_, usage := pflag.UnquoteUsage(f)
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && !strings.Contains(usage, "(default") {
			usage += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", f.Name, variable(f.Name), strings.ReplaceAll(usage, "|", "\\|"))
	}
	return b.String()
}

func answersPage() string {
	var b strings.Builder
	b.WriteString("# Answers\n\n" + madeBy + "What `jugate answers set` knows; [the guide](../answers.md) tells how answers work. The examples are YAML, as in a file for `--from`.\n")
	for _, k := range answers.Keys {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\nForm: %s.", k.Name, k.Doc, k.Form)
		if k.Secret {
			b.WriteString(" It is a secret: sealed in the records, never shown, and sent over TLS alone.")
		}
		if k.Cell {
			fmt.Fprintf(&b, " It can be a column of a [table of workstations](../roster.md).")
		}
		example := k.Name + ": " + k.Example
		if strings.Contains(k.Example, "\n") || strings.HasPrefix(k.Example, "- ") {
			example = k.Name + ":\n" + k.Example
		}
		fmt.Fprintf(&b, "\n\n```yaml\n%s\n```\n", example)
	}
	return b.String()
}

func termsPage() string {
	var b strings.Builder
	b.WriteString("# Terms\n\n" + madeBy + "What `jugate explain TERM` says.\n")
	kind := ""
	for _, t := range glossary.Terms {
		if t.Kind != kind {
			kind = t.Kind
			fmt.Fprintf(&b, "\n## %s\n\n| | |\n| --- | --- |\n", strings.ToUpper(kind[:1])+kind[1:])
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", t.Name, t.Text)
	}
	return b.String()
}
