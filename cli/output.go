package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/sheet"
)

// outputs are the values of --output.
var outputs = []string{"table", "json", "csv"}

// printJSON prints one document.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// column is a column of a table. CSV has every field instead, under the names that JSON
// has.
type column[T any] struct {
	title string
	value func(T) string
	right bool // numbers stand on the right
}

// printList prints items in the chosen form. If there are no items, none says why.
func printList[T any](cmd *cobra.Command, a *app, items []T, columns []column[T], none ...string) error {
	if a.output == "json" {
		if items == nil {
			items = []T{}
		}
		return printJSON(cmd.OutOrStdout(), items)
	}
	if a.output == "csv" {
		return sheet.Write(cmd.OutOrStdout(), items)
	}
	if len(items) == 0 {
		if none != nil {
			fmt.Fprintln(cmd.ErrOrStderr(), none[0])
		}
		return nil
	}
	printLines(cmd.OutOrStdout(), listText(items, columns))
	return nil
}

// printLines prints a table without the spaces that its last column ends with. On a
// terminal a line is cut off where that ends; JSON and CSV have all of it.
func printLines(w io.Writer, table string) {
	width := 0
	if f, is := w.(*os.File); is && isTerminal(w) {
		width, _, _ = term.GetSize(int(f.Fd()))
	}
	for line := range strings.Lines(table) {
		fmt.Fprintln(w, text.Snip(strings.TrimRight(line, " \n"), width, "…"))
	}
}

// show prints one thing in the chosen form; as a table, a line for each field that has a
// value.
func show[T any](cmd *cobra.Command, a *app, v T, fields ...field) error {
	switch a.output {
	case "json":
		return printJSON(cmd.OutOrStdout(), v)
	case "csv":
		return sheet.Write(cmd.OutOrStdout(), []T{v})
	}
	printFields(cmd.OutOrStdout(), fields)
	return nil
}

// listText is a list as a table.
func listText[T any](items []T, columns []column[T]) string {
	return listTable(items, columns).Render() + "\n"
}

func listTable[T any](items []T, columns []column[T]) table.Writer {
	columns = slices.DeleteFunc(slices.Clone(columns), func(c column[T]) bool { // what nothing has takes no room
		return !slices.ContainsFunc(items, func(item T) bool { return c.value(item) != "" })
	})
	t := table.NewWriter()
	t.SetStyle(plain)
	header := table.Row{}
	var configs []table.ColumnConfig
	for i, c := range columns {
		header = append(header, c.title)
		if c.right {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	t.AppendHeader(header)
	t.SetColumnConfigs(configs)
	for _, item := range items {
		row := table.Row{}
		for _, c := range columns {
			row = append(row, legible(c.value(item), "\n"))
		}
		t.AppendRow(row)
	}
	return t
}

// plain is a table without lines: easy on the eyes and on grep.
var plain = table.Style{
	Name:    "plain",
	Box:     table.BoxStyle{PaddingRight: "   "},
	Format:  table.FormatOptions{Header: text.FormatUpper},
	Options: table.OptionsNoBordersAndSeparators,
}

// field is a line of a description.
type field struct{ name, value string }

// printFields prints what is known of one thing; empty values are left out.
func printFields(w io.Writer, fields []field) {
	width := 0
	for _, f := range fields {
		width = max(width, len(f.name))
	}
	for _, f := range fields {
		if f.value != "" {
			fmt.Fprintf(w, "%-*s  %s\n", width, f.name, legible(f.value, "\n"))
		}
	}
}

// legible is a text without what a terminal takes as a command, but for some: what machines tell of themselves is shown, too.
func legible(text, but string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) || strings.ContainsRune(but, r) {
			return r
		}
		return '�'
	}, text)
}

// every fetches all pages of a list.
func every[T any](ctx context.Context, l apiclient.List, fetch func(context.Context, apiclient.List) (api.Page[T], error)) ([]T, error) {
	var all []T
	l.Limit = 1000
	for {
		l.Offset = len(all)
		page, err := fetch(ctx, l)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if len(all) >= page.Total || len(page.Items) == 0 {
			return all, nil
		}
	}
}

func size(n int64) string {
	if n == 0 {
		return "0"
	}
	return humanize.IBytes(uint64(max(n, 0)))
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// texts are values of a kind of word as text.
func texts[T ~string](all []T) []string {
	out := make([]string, len(all))
	for i, v := range all {
		out[i] = string(v)
	}
	return out
}

func whenPtr(t *time.Time) string {
	if t == nil {
		return ""
	}
	return when(*t)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// isTerminal tells whether a stream is one that bars can be drawn on.
func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
