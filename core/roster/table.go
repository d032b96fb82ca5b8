package roster

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/sheet"
)

// The columns of a table of workstations. A column of another name is a field of the
// engineers' own, as FieldPrefix and its name, or a key that the reader of the table knows.
const (
	ColumnName      = "name"
	ColumnAddresses = "hardware_addresses"
	ColumnUUID      = "uuid"
	ColumnSerial    = "serial"
	ColumnGroups    = "groups"
	ColumnNote      = "note"

	FieldPrefix = "field."
)

// PlaceFields are fields that say where in its room a workstation stands: which row, and which seat of that, from 1. A table
// may have them as columns without FieldPrefix.
var PlaceFields = []string{"row", "seat"}

// columns are those that every table may have, in the order in which one is written.
var columns = []string{ColumnName, ColumnAddresses, ColumnUUID, ColumnSerial, ColumnGroups, ColumnNote}

// None in a cell empties what it stands for. An empty cell leaves that as it is.
const None = "-"

// Limits of a table.
const (
	MaxTable  = 8 << 20 // bytes
	MaxRows   = 20_000
	maxColumn = 200
	maxCell   = 4096 // bytes
)

// Row is what a line of a table says of one workstation. Parts that it does not speak of
// are nil.
type Row struct {
	Line      int // in the file, from 1
	Name      string
	Addresses []hwaddr.Address
	Identity  Identity
	Groups    []string // empty, not nil: no group
	Note      *string
	Fields    map[string]string // by name; an empty value removes the field
	Others    map[string]string // by the key that the reader knows; an empty value removes it
	// Problem says why the row makes no sense; nothing else of it counts then.
	Problem error
}

// ReadTable reads workstations from CSV (RFC 4180). Columns are found by the names in the
// first line. Commas, semicolons and tabs may separate them, and texts may be UTF-8 or
// UTF-16 with a byte order mark, as spreadsheets write them. known tells whether a column
// that is not one of this package's belongs to something else.
//
// A row that makes no sense comes with its Problem. A table that makes none is a
// fault.Invalid.
func ReadTable(r io.Reader, known func(column string) bool) ([]Row, error) {
	text, err := readText(r)
	if err != nil {
		return nil, err
	}
	in := csv.NewReader(bytes.NewReader(text))
	in.Comma = separator(text)
	in.FieldsPerRecord = -1
	in.TrimLeadingSpace = in.Comma != '\t'
	header, err := in.Read()
	if err != nil {
		return nil, badTable(err)
	}
	for i, h := range header {
		header[i] = strings.ToLower(strings.TrimSpace(h))
		if slices.Contains(PlaceFields, header[i]) {
			header[i] = FieldPrefix + header[i]
		}
	}
	if err := checkHeader(header, known); err != nil {
		return nil, err
	}
	var rows []Row
	for {
		cells, err := in.Read()
		if errors.Is(err, io.EOF) {
			return inDoubt(rows), nil
		} else if err != nil {
			return nil, badTable(err)
		}
		if len(rows) == MaxRows {
			return nil, fault.Invalid.Errorf("the table has more than %d rows", MaxRows)
		}
		line, _ := in.FieldPos(0)
		if row, empty := readRow(line, header, cells); !empty {
			rows = append(rows, row)
		}
	}
}

// readText reads a whole table as UTF-8 without a byte order mark.
func readText(r io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, MaxTable+1))
	if err != nil {
		return nil, err
	}
	if len(text) > MaxTable {
		return nil, fault.Invalid.Errorf("the table is larger than %d MiB", MaxTable>>20)
	}
	if text, _, err = transform.Bytes(unicode.BOMOverride(transform.Nop), text); err != nil {
		return nil, fault.Invalid.Errorf("the table is not text: %w", err)
	}
	for i, line := range bytes.Split(text, []byte("\n")) {
		if !utf8.Valid(line) || bytes.IndexByte(line, 0) >= 0 {
			return nil, fault.Invalid.Errorf("line %d is not UTF-8 text; save the table as CSV in UTF-8", i+1)
		}
	}
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, fault.Invalid.Errorf("the table is empty; its first line names the columns: %s", strings.Join(columns, ", "))
	}
	return text, nil
}

// separator is what separates the columns of the first line.
func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	best := ','
	for _, c := range ";\t" {
		if bytes.Count(first, []byte(string(c))) > bytes.Count(first, []byte(string(best))) {
			best = c
		}
	}
	return best
}

func badTable(err error) error {
	var e *csv.ParseError
	if errors.As(err, &e) {
		return fault.Invalid.Errorf("line %d of the table, column %d: %w", e.Line, e.Column, e.Err)
	}
	return fault.Invalid.Mark(err)
}

func checkHeader(header []string, known func(string) bool) error {
	if len(header) > maxColumn {
		return fault.Invalid.Errorf("the table has more than %d columns", maxColumn)
	}
	for i, h := range header {
		field, isField := strings.CutPrefix(h, FieldPrefix)
		switch {
		case h == "":
			return fault.Invalid.Errorf("column %d of the table has no name", i+1)
		case slices.Contains(header[:i], h):
			return fault.Invalid.Errorf("the table has two columns %s", h)
		case isField:
			if err := CheckName("a field", field); err != nil {
				return err
			}
		case !slices.Contains(columns, h) && (known == nil || !known(h)):
			return fault.Invalid.Errorf("column %d of the table, %q, is not known; a field of your own is called %s%s", i+1, h, FieldPrefix, h)
		}
	}
	for _, h := range []string{ColumnName, ColumnAddresses, ColumnUUID, ColumnSerial} {
		if slices.Contains(header, h) {
			return nil
		}
	}
	return fault.Invalid.Errorf("the first line has to name the columns, one of them %s, %s, %s or %s", ColumnName, ColumnAddresses, ColumnUUID, ColumnSerial)
}

// readRow makes sense of a line; empty tells that there is nothing in it.
func readRow(line int, header, cells []string) (row Row, empty bool) {
	row = Row{Line: line}
	problem := func(format string, args ...any) {
		if row.Problem == nil {
			row.Problem = fault.Invalid.Errorf(format, args...)
		}
	}
	empty = true
	for i, cell := range cells {
		cell = strings.TrimSpace(cell)
		if cell == "" {
			continue
		}
		empty = false
		switch {
		case i >= len(header):
			problem("it has more cells than the table has columns")
		case len(cell) > maxCell || strings.ContainsFunc(cell, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' }):
			problem("the cell in column %s is too long, or has control characters", header[i])
		default:
			if err := row.set(header[i], cell); err != nil && row.Problem == nil {
				row.Problem = err
			}
		}
	}
	if row.Name == "" && row.Addresses == nil && row.Identity == (Identity{}) {
		problem("it does not say which workstation it is about: it has neither a name, a hardware address, a UUID nor a serial number")
	}
	return row, empty
}

// set takes one cell that is not empty.
func (r *Row) set(column, cell string) error {
	if rest, quoted := strings.CutPrefix(cell, "'"); quoted && sheet.IsFormula(rest) {
		cell = rest
	}
	value := cell
	if cell == None {
		value = ""
	}
	switch column {
	case ColumnName:
		r.Name = cell
		return CheckName("a workstation", cell)
	case ColumnAddresses:
		for _, text := range parts(cell) {
			a, err := hwaddr.Parse(text)
			if err != nil {
				return err
			}
			if !slices.Contains(r.Addresses, a) {
				r.Addresses = append(r.Addresses, a)
			}
		}
	case ColumnUUID:
		if r.Identity.UUID = NewIdentity(cell, "").UUID; r.Identity.UUID == "" {
			return fault.Invalid.Errorf("%q does not tell one machine from another; a UUID looks like 8d6f1a52-0c1b-4a67-9a44-0000aa310001", cell)
		}
	case ColumnSerial:
		if r.Identity.Serial = NewIdentity("", cell).Serial; r.Identity.Serial == "" {
			return fault.Invalid.Errorf("the serial number %q does not tell one machine from another", cell)
		}
	case ColumnGroups:
		r.Groups = parts(value)
		for _, g := range r.Groups {
			if err := CheckName("a group", g); err != nil {
				return err
			}
		}
	case ColumnNote:
		r.Note = &value
	default:
		into := &r.Others
		if name, isField := strings.CutPrefix(column, FieldPrefix); isField {
			column, into = name, &r.Fields
		}
		if *into == nil {
			*into = map[string]string{}
		}
		(*into)[column] = value
	}
	return nil
}

// parts are the items of a cell that has several; spaces, semicolons and commas separate
// them.
func parts(cell string) []string {
	all := strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(" ;,\n\t", r) })
	if all == nil {
		all = []string{}
	}
	return all
}

// inDoubt gives a Problem to rows that claim what another row of the table claims, too.
func inDoubt(rows []Row) []Row {
	first := map[string]int{} // row by what it claims
	for i := range rows {
		r := &rows[i]
		claims := []string{}
		if r.Name != "" {
			claims = append(claims, "the name "+strings.ToLower(r.Name))
		}
		for _, a := range r.Addresses {
			claims = append(claims, "the hardware address "+a.String())
		}
		if r.Identity.UUID != "" {
			claims = append(claims, "the UUID "+r.Identity.UUID)
		}
		if r.Identity.Serial != "" {
			claims = append(claims, "the serial number "+r.Identity.Serial)
		}
		for _, c := range claims {
			other, taken := first[c]
			if !taken {
				first[c] = i
				continue
			}
			for at, with := range map[int]int{i: other, other: i} {
				if rows[at].Problem == nil {
					rows[at].Problem = fault.Invalid.Errorf("line %d has %s, too", rows[with].Line, c)
				}
			}
		}
	}
	return rows
}

// WriteTable writes rows as ReadTable reads them, with the columns that some row needs.
func WriteTable(w io.Writer, rows []Row) error {
	fields, others := map[string]bool{}, map[string]bool{}
	for _, r := range rows {
		for f := range r.Fields {
			fields[FieldPrefix+f] = true
		}
		for k := range r.Others {
			others[k] = true
		}
	}
	header := slices.Concat(columns, slices.Sorted(maps.Keys(fields)), slices.Sorted(maps.Keys(others)))
	out := csv.NewWriter(w)
	out.Write(header)
	for _, r := range rows {
		line := make([]string, 0, len(header))
		for _, h := range header {
			line = append(line, sheet.NoFormula(r.cell(h)))
		}
		out.Write(line)
	}
	out.Flush()
	return out.Error()
}

func (r *Row) cell(column string) string {
	switch column {
	case ColumnName:
		return r.Name
	case ColumnAddresses:
		var all []string
		for _, a := range r.Addresses {
			all = append(all, a.String())
		}
		return strings.Join(all, " ")
	case ColumnUUID:
		return r.Identity.UUID
	case ColumnSerial:
		return r.Identity.Serial
	case ColumnGroups:
		return strings.Join(r.Groups, " ")
	case ColumnNote:
		if r.Note != nil {
			return *r.Note
		}
		return ""
	}
	if name, isField := strings.CutPrefix(column, FieldPrefix); isField {
		return r.Fields[name]
	}
	return r.Others[column]
}

// Said is the row in a few words, for messages.
func (r *Row) Said() string {
	switch {
	case r.Name != "":
		return r.Name
	case len(r.Addresses) > 0:
		return r.Addresses[0].String()
	}
	return fmt.Sprint(r.Identity)
}
