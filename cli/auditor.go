package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"maps"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/core/proof"
	"jugate/core/sheet"
)

// An export for an auditor: lines of JSON that prove themselves, and from them a table or a page to print.

// provenReceipt is a receipt as it was proven.
type provenReceipt struct {
	Receipt     int64      `json:"receipt"`
	Ended       time.Time  `json:"ended"`
	Workstation string     `json:"workstation"`
	Address     string     `json:"hardware_address"`
	Image       string     `json:"image"`
	Version     int        `json:"version"`
	Digest      string     `json:"digest"`
	Outcome     string     `json:"outcome"`
	Verified    bool       `json:"verified"`
	Reason      string     `json:"reason"`
	OrderedBy   string     `json:"ordered_by"`
	Delivery    int64      `json:"delivery"`
	Started     *time.Time `json:"started,omitempty"`
}

// proven is what was read of one, with every proof checked.
type proven struct {
	head     proof.Head
	signed   string
	receipts []provenReceipt
}

// exportLine bounds a line, in bytes.
const exportLine = 1 << 20

// readExport reads lines of JSON, and checks each against the head in the first and that against a key.
func readExport(r io.Reader, key string) (*proven, error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, exportLine)
	var e proven
	for n := 1; lines.Scan(); n++ {
		var x api.Exported
		if err := json.Unmarshal(lines.Bytes(), &x); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if n == 1 {
			head, err := proof.Open(x.Head, key)
			if err != nil {
				return nil, err
			}
			e.head, e.signed = head, x.Head
			continue
		}
		text, err := proof.Text(x.Number, []byte(x.Leaf), x.Path, e.signed)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		leaf, _, err := proof.Verify(text, key)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		var p provenReceipt
		if err := json.Unmarshal(leaf, &p); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		e.receipts = append(e.receipts, p)
	}
	if e.signed == "" && lines.Err() == nil {
		return nil, errors.New("the first line does not have the signed head")
	}
	return &e, lines.Err()
}

func (a *app) receiptExport() *cobra.Command {
	var since, until, into, format, key string
	cmd := &cobra.Command{
		Use: "export --into FILE", Short: "Export the receipts of a period, each with its proof, for an auditor", Args: cobra.NoArgs,
		Long:    "Export the receipts of a period, each with its proof: as lines of JSON that jugate receipt verify checks\noffline, as a table (csv), or as a page to print, with totals. For the last two each proof is checked\nbefore anything is written.",
		Example: "  jugate receipt export --since 2026-03-01T00:00:00Z --until 2026-04-01T00:00:00Z --into march.jsonl\n  jugate receipt export --format page --into receipts.html",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			body, err := c.ExportLog(cmd.Context(), since, until)
			if err != nil {
				return err
			}
			defer body.Close()
			if format == "lines" {
				text, err := io.ReadAll(body)
				if err != nil {
					return err
				}
				return writeInto(cmd, into, text)
			}
			if key == "" {
				keys, err := c.LogKeys(cmd.Context())
				if err != nil {
					return err
				}
				key = keys.Log
			} else if key, err = readKey(cmd, key); err != nil {
				return err
			}
			e, err := readExport(body, key)
			if err != nil {
				return err
			}
			text, err := e.as(format, since, until)
			if err != nil {
				return err
			}
			return writeInto(cmd, into, text)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&since, "since", "", "only receipts that ended from then on (RFC 3339)")
	flags.StringVar(&until, "until", "", "only receipts that ended before then (RFC 3339)")
	flags.StringVar(&into, "into", "", "file to write (default: standard output)")
	flags.StringVar(&format, "format", "lines", "lines, csv or page")
	flags.StringVar(&key, "key", "", "the service's public key, or a file with it (default: what the service says)")
	cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(toCompletions([]string{"lines", "csv", "page"}), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// as is an export as a table or a page.
func (e *proven) as(format, since, until string) ([]byte, error) {
	var b bytes.Buffer
	var err error
	switch format {
	case "csv":
		err = sheet.Write(&b, e.receipts)
	case "page":
		err = page.Execute(&b, e.page(since, until))
	default:
		err = usageError{fmt.Errorf("--format is one of lines, csv, page, not %q", format)}
	}
	return b.Bytes(), err
}

// counted is how often something is there.
type counted struct {
	Name string
	N    int
}

func tally(all []provenReceipt, of func(provenReceipt) string) []counted {
	n := map[string]int{}
	for _, r := range all {
		n[of(r)]++
	}
	var out []counted
	for _, name := range slices.Sorted(maps.Keys(n)) {
		out = append(out, counted{name, n[name]})
	}
	slices.SortStableFunc(out, func(a, b counted) int { return cmp.Compare(b.N, a.N) })
	return out
}

func (e *proven) page(since, until string) map[string]any {
	return map[string]any{
		"Since": since, "Until": until, "Receipts": e.receipts, "Head": e.signed, "Leaves": e.head.Size, "Origin": e.head.Origin,
		"Outcomes": tally(e.receipts, func(r provenReceipt) string { return r.Outcome }), "Images": tally(e.receipts, func(r provenReceipt) string { return fmt.Sprintf("%s@%d", r.Image, r.Version) }),
		"Workstations": len(tally(e.receipts, func(r provenReceipt) string { return r.Address })),
	}
}

var page = template.Must(template.New("page").Funcs(template.FuncMap{"when": when}).Parse(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<title>Receipts</title>
<style>
body { font: 10pt/1.35 "DejaVu Sans", sans-serif; color: #1c241f; margin: 16mm; }
h1 { font-size: 16pt; margin: 0 0 2mm; }
table { border-collapse: collapse; width: 100%; margin: 5mm 0; }
th, td { text-align: left; padding: 1mm 2mm; border-bottom: 0.2mm solid #c9cfc6; vertical-align: top; }
th { background: #eef0ea; }
thead { display: table-header-group; }
tr { break-inside: avoid; }
.totals { display: flex; align-items: start; gap: 14mm; }
.totals table { width: auto; }
.n { text-align: right; }
pre { font: 8pt/1.3 "DejaVu Sans Mono", monospace; background: #eef0ea; padding: 3mm; white-space: pre-wrap; word-break: break-all; }
@page { size: A4 landscape; margin: 12mm; }
@media print { body { margin: 0; } }
</style>
</head>
<body>
<h1>Receipts</h1>
<p>{{with .Since}}From {{.}} {{end}}{{with .Until}}until {{.}}{{end}}{{if and (not .Since) (not .Until)}}All receipts{{end}}. Each was proven to be in the tree of {{.Leaves}} leaves that {{.Origin}} has signed.</p>
<div class="totals">
<table><thead><tr><th>Outcome</th><th>Receipts</th></tr></thead><tbody>{{range .Outcomes}}<tr><td>{{.Name}}</td><td class="n">{{.N}}</td></tr>{{end}}<tr><th>all</th><th class="n">{{len .Receipts}}</th></tr></tbody></table>
<table><thead><tr><th>Image</th><th>Receipts</th></tr></thead><tbody>{{range .Images}}<tr><td>{{.Name}}</td><td class="n">{{.N}}</td></tr>{{end}}</tbody></table>
<table><thead><tr><th>Workstations</th></tr></thead><tbody><tr><td class="n">{{.Workstations}}</td></tr></tbody></table>
</div>
<table>
<thead><tr><th>No.</th><th>Ended</th><th>Workstation</th><th>Hardware address</th><th>Image</th><th>Outcome</th><th>Verified</th><th>Ordered by</th><th>Reason</th></tr></thead>
<tbody>
{{range .Receipts}}<tr><td>{{.Receipt}}</td><td>{{when .Ended}}</td><td>{{.Workstation}}</td><td>{{.Address}}</td><td>{{.Image}}@{{.Version}}</td><td>{{.Outcome}}</td><td>{{if .Verified}}yes{{else}}no{{end}}</td><td>{{.OrderedBy}}</td><td>{{.Reason}}</td></tr>
{{end}}</tbody>
</table>
<p>The signed head:</p>
<pre>{{.Head}}</pre>
</body>
</html>
`))
