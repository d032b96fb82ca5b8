package records

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"jugate/core/fault"
)

// Page asks for a part of a list.
type Page struct {
	Offset, Limit int
	// Sort is a field, with a hyphen in front for descending; each list says
	// which fields it knows.
	Sort string
	// Search keeps only rows that contain this text.
	Search string
}

// query is the conditions of a SELECT.
type query struct {
	where    []string
	args     []any
	searched bool // a search has to look at every row
}

func (q *query) and(condition string, args ...any) {
	q.where = append(q.where, "("+condition+")")
	q.args = append(q.args, args...)
}

// search asks that one of the columns contains a text, or that one of the conditions holds
// for a pattern of it.
func (q *query) search(text string, columns []string, conditions ...string) {
	if text == "" {
		return
	}
	for _, c := range columns {
		conditions = append(conditions, c+" LIKE ?")
	}
	like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
	args := make([]any, len(conditions))
	for i, c := range conditions {
		conditions[i], args[i] = strings.ReplaceAll(c, "LIKE ?", `LIKE ? ESCAPE '\'`), like
	}
	q.searched = true
	q.and(strings.Join(conditions, " OR "), args...)
}

// listing says how one kind of list is read: which rows come is decided first, by indexes
// alone where that can be, and what they have is read for those that are shown.
type listing struct {
	columns string
	from    string // with everything that columns need
	choose  string // what rows are chosen from; from if it is empty
	count   string // what rows are counted in; choose if it is empty
	total   string // a statement that knows how many there are, in place of counting
	key     string // of a row; it decides among equals
	fields  map[string]string
	order   string // where Page.Sort says nothing
	texts   bool   // keys are texts, and not numbers
}

// listAtMost is how long a list may take, so that a slow one does not stand in the way of
// others.
const listAtMost = 5 * time.Second

// list fills rows, a pointer to a slice, with one page and returns how many rows there
// are in all. A Page.Sort that the list does not know is a fault.Invalid.
func (db *DB) list(ctx context.Context, l listing, rows any, q query, p Page) (total int, err error) {
	order, choose := l.order, cmp.Or(l.choose, l.from)
	if p.Sort != "" {
		field, desc := strings.CutPrefix(p.Sort, "-")
		column, known := l.fields[field]
		if !known {
			return 0, fault.Invalid.Errorf("this list cannot be sorted by %q, but by %s", field, strings.Join(slices.Sorted(maps.Keys(l.fields)), ", "))
		}
		if order = column + ", " + l.key; desc {
			order = strings.ReplaceAll(column, ", ", " DESC, ") + " DESC, " + l.key + " DESC"
		}
	}
	where := ""
	if len(q.where) > 0 {
		where = " WHERE " + strings.Join(q.where, " AND ")
	}
	if p.Limit <= 0 {
		p.Limit = -1 // all
	}
	ctx, cancel := context.WithTimeout(ctx, listAtMost)
	defer cancel()
	defer func() {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) && err != nil {
			err = fault.Unready.Errorf("the list takes too long; ask for less of it")
		}
	}()
	tx, err := db.lists.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true}) // so that the count and the rows agree
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	const inPlace = " IN (SELECT value FROM json_each(?)) ORDER BY "
	if q.searched { // the rows are gone through once, for their number and for the page
		var keys []string
		if err := tx.SelectContext(ctx, &keys, "SELECT "+l.key+" FROM "+choose+where+" ORDER BY "+order, q.args...); err != nil {
			return 0, err
		}
		from := min(p.Offset, len(keys))
		to := len(keys)
		if p.Limit > 0 {
			to = min(from+p.Limit, to)
		}
		err = tx.SelectContext(ctx, rows, "SELECT "+l.columns+" FROM "+l.from+" WHERE "+l.key+inPlace+order, "["+l.quoted(keys[from:to])+"]")
		return len(keys), err
	}
	if err := tx.GetContext(ctx, &total, cmp.Or(l.total, "SELECT count(*) FROM "+cmp.Or(l.count, choose)+where), q.args...); err != nil || total == 0 {
		return 0, err
	}
	if p.Offset >= total {
		return total, nil
	}
	way := order
	if last := p.Offset + p.Limit; p.Limit > 0 && p.Offset > total/2 { // the end is nearer
		way, p.Limit, p.Offset = reversed(order), min(p.Limit, total-p.Offset), max(0, total-last)
	}
	chosen := "SELECT " + l.key + " FROM " + choose + where + " ORDER BY " + way + " LIMIT ? OFFSET ?"
	err = tx.SelectContext(ctx, rows, "SELECT "+l.columns+" FROM "+l.from+" WHERE "+l.key+" IN ("+chosen+") ORDER BY "+order, append(q.args, p.Limit, p.Offset)...)
	return total, err
}

// reversed is an order the other way round. Its terms have no commas in them.
func reversed(order string) string {
	terms := strings.Split(order, ", ")
	for i, t := range terms {
		if forward, desc := strings.CutSuffix(t, " DESC"); desc {
			terms[i] = forward
		} else {
			terms[i] = t + " DESC"
		}
	}
	return strings.Join(terms, ", ")
}

// quoted are keys as members of a JSON array: numbers, but where they are texts.
func (l listing) quoted(keys []string) string {
	if l.texts {
		quoted := encode(keys)
		return quoted[1 : len(quoted)-1]
	}
	return strings.Join(keys, ",")
}
