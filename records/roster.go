package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// Imported is what became of a row of a table, or would.
type Imported struct {
	Row roster.Row
	// ID is the workstation, as long as the table is kept; 0 if the row is in doubt.
	ID int64
	// New tells that it was entered.
	New bool
	// Changes say in words what is new of it; none if everything was so already.
	Changes []string
	// Problem is why the row is in doubt.
	Problem error
}

// ImportOptions say how a table is taken in.
type ImportOptions struct {
	DryRun bool // keep nothing
	Whole  bool // keep nothing if one row is in doubt
}

// errNotKept ends a transaction whose changes were only looked at.
var errNotKept = errors.New("not kept")

// Import enters what a table says of workstations. Rows that are in doubt are left out,
// unless the table is to be taken whole. All is done in one transaction, so that a dry run
// tells what would become of each row beside all others.
func (db *DB) Import(ctx context.Context, now time.Time, rows []roster.Row, o ImportOptions) (results []Imported, kept bool, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		find, err := tx.PreparexContext(ctx, "SELECT "+workstationColumns+" FROM "+workstationFrom+" WHERE w.id = ?") // long to read, and needed for each row
		if err != nil {
			return err
		}
		defer find.Close()
		doubts := false
		for _, row := range rows {
			result := Imported{Row: row, Problem: row.Problem}
			if result.Problem == nil {
				if err := importRow(ctx, tx, find, now, &result); err != nil {
					return err
				}
			}
			doubts = doubts || result.Problem != nil
			results = append(results, result)
		}
		if o.DryRun || o.Whole && doubts {
			return errNotKept
		}
		return nil
	})
	if errors.Is(err, errNotKept) {
		return results, false, nil
	}
	return results, err == nil, err
}

// importRow takes one row in, or notes why it is in doubt; nothing of it is kept then. An
// error is of the records as a whole.
func importRow(ctx context.Context, tx *sqlx.Tx, find *sqlx.Stmt, now time.Time, r *Imported) error {
	if _, err := tx.ExecContext(ctx, `SAVEPOINT row`); err != nil {
		return err
	}
	err := enterRow(ctx, tx, find, now, r)
	var known *fault.Error
	if errors.As(err, &known) {
		*r = Imported{Row: r.Row, Problem: err}
		_, err = tx.ExecContext(ctx, `ROLLBACK TO row`)
	}
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `RELEASE row`)
	return err
}

func enterRow(ctx context.Context, tx *sqlx.Tx, find *sqlx.Stmt, now time.Time, r *Imported) error {
	row := r.Row
	w, err := meantBy(ctx, tx, find, row)
	if err != nil {
		return err
	}
	if w == nil {
		if w, err = expect(ctx, tx, now, row); err != nil {
			return err
		}
		r.New, r.Changes = true, []string{"entered as " + row.Name}
	}
	r.ID = w.ID
	note := func(format string, args ...any) { r.Changes = append(r.Changes, fmt.Sprintf(format, args...)) }
	switch {
	case r.New:
	case w.State.Unknown():
		if row.Name == "" {
			return fault.Conflict.Errorf("it is a newcomer, and the row does not say its name")
		}
		if err := admit(ctx, tx, w.ID, row.Name, nil); err != nil {
			return err
		}
		note("admitted as %s", row.Name)
	case row.Name != "" && row.Name != w.Name:
		if err := rename(ctx, tx, w.ID, row.Name); err != nil {
			return err
		}
		note("renamed from %s to %s", w.Name, row.Name)
	}
	if err := enterIdentity(ctx, tx, w, row, note); err != nil {
		return err
	}
	if row.Groups != nil {
		if err := enterGroups(ctx, tx, w, row.Groups, note); err != nil {
			return err
		}
	}
	if row.Note != nil && *row.Note != w.Note {
		if err := setNote(ctx, tx, w.ID, *row.Note); err != nil {
			return err
		}
		note("note: %s", orNothing(*row.Note))
	}
	changes, err := mergeFields(ctx, tx, w, row.Fields)
	if r.Changes = append(r.Changes, changes...); err != nil {
		return err
	}
	keys, err := setAnswers(ctx, tx, "workstation", w.ID, "", row.Others)
	for _, key := range keys {
		note("answer %s", key)
	}
	return err
}

func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// meantBy finds the workstation that a row is about, by all that the row says of it; nil if
// there is none. It is a fault.Conflict if the row speaks of two. find reads a workstation by its number.
func meantBy(ctx context.Context, tx *sqlx.Tx, find *sqlx.Stmt, row roster.Row) (*Workstation, error) {
	var id int64
	by := ""
	look := func(how, condition string, args ...any) error {
		var ids []int64
		if err := tx.SelectContext(ctx, &ids, "SELECT w.id FROM workstations w WHERE "+condition, args...); err != nil {
			return err
		}
		for _, other := range ids {
			if id == 0 {
				id, by = other, how
			} else if id != other {
				var names []string
				if err := tx.SelectContext(ctx, &names, `SELECT coalesce(name, 'a newcomer') FROM workstations WHERE id IN (?1, ?2) ORDER BY id = ?2`, id, other); err != nil {
					return err
				}
				return fault.Conflict.Errorf("%s is of %s, and %s of %s", by, names[0], how, names[1])
			}
		}
		return nil
	}
	for _, a := range row.Addresses {
		if err := look("the hardware address "+a.String(), "w.id IN (SELECT workstation_id FROM addresses WHERE address = ? AND state = 'accepted')", a.String()); err != nil {
			return nil, err
		}
	}
	is := row.Identity
	if is.UUID != "" {
		if err := look("the UUID "+is.UUID, "w.uuid = ?1 AND w.uuid <> '' AND (?2 = '' OR w.serial IN ('', ?2))", is.UUID, is.Serial); err != nil {
			return nil, err
		}
	}
	if is.Serial != "" {
		if err := look("the serial number "+is.Serial, "w.serial = ?1 AND w.serial <> '' AND (?2 = '' OR w.uuid IN ('', ?2))", is.Serial, is.UUID); err != nil {
			return nil, err
		}
	}
	if row.Name != "" {
		if err := look("the name "+row.Name, "w.name = ?", row.Name); err != nil {
			return nil, err
		}
	}
	if id == 0 {
		return nil, nil
	}
	var found Workstation
	if err := find.GetContext(ctx, &found, id); err != nil {
		return nil, err
	}
	switch {
	case found.State == roster.Retired:
		return nil, fault.Conflict.Errorf("%s is retired; admit it again first", found.Label())
	case found.Identity().Differs(is):
		return nil, fault.Conflict.Errorf("%s is a machine with %s, and the row says %s", found.Label(), found.Identity(), is)
	}
	return &found, nil
}

// expect enters a workstation that was never seen.
func expect(ctx context.Context, tx *sqlx.Tx, now time.Time, row roster.Row) (*Workstation, error) {
	switch {
	case row.Name == "":
		return nil, fault.Conflict.Errorf("%s is new, and the row has no name for it", row.Said())
	case row.Addresses == nil && row.Identity == roster.Identity{}:
		return nil, fault.Conflict.Errorf("%s is new, and the row has no hardware address, UUID or serial number to recognise it by", row.Name)
	}
	if err := nameIsFree(ctx, tx, row.Name, 0); err != nil {
		return nil, err
	}
	result, err := tx.ExecContext(ctx, `INSERT INTO workstations (name, state, maker, model, serial, uuid, memory, disks, agent_version, first_seen, last_seen) VALUES (?, 'admitted', '', '', '', '', 0, '', '', ?, ?)`,
		row.Name, now.UTC(), now.UTC())
	if err != nil {
		return nil, err
	}
	id, err := result.LastInsertId()
	return &Workstation{ID: id, Name: row.Name, State: roster.Expected}, err
}

// Enter enters a machine that was never seen, by its hardware address, as a newcomer. One
// that is known already, as its agent has called meanwhile, is left as it is, and told as 0.
func (db *DB) Enter(ctx context.Context, now time.Time, a hwaddr.Address) (id int64, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		var known bool
		if err := tx.GetContext(ctx, &known, `SELECT EXISTS (SELECT 1 FROM addresses WHERE address = ? AND state <> 'proposed')`, a.String()); err != nil || known {
			return err
		}
		in := Seen{Own: []hwaddr.Address{a}, Inventory: api.Inventory{Disks: []api.Disk{}, Cards: []api.Card{}}}
		if err := notRefused(ctx, tx, in); err != nil {
			return err
		}
		if id, err = addNewcomer(ctx, tx, now, in); err != nil {
			return err
		}
		return noteAddresses(ctx, tx, id, candidate{}, in)
	})
	return id, err
}

// enterIdentity notes what a machine is known by.
func enterIdentity(ctx context.Context, tx *sqlx.Tx, w *Workstation, row roster.Row, note func(string, ...any)) error {
	for _, a := range row.Addresses {
		if slices.Contains(w.Addresses(), a) {
			continue
		}
		var refused bool
		if err := tx.GetContext(ctx, &refused, `SELECT EXISTS (SELECT 1 FROM refusals WHERE value = ?)`, a.String()); err != nil {
			return err
		} else if refused {
			return fault.Conflict.Errorf("machines with the hardware address %s are turned away", a)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO addresses (address, workstation_id, state) VALUES (?1, ?2, 'accepted')
			ON CONFLICT (address, workstation_id) DO UPDATE SET state = 'accepted'`, a.String(), w.ID); err != nil {
			return err
		}
		note("hardware address %s", a)
	}
	if is := w.Identity(); row.Identity.UUID != "" && is.UUID == "" || row.Identity.Serial != "" && is.Serial == "" {
		if _, err := tx.ExecContext(ctx, `UPDATE workstations SET uuid = coalesce(nullif(?, ''), uuid), serial = coalesce(nullif(?, ''), serial) WHERE id = ?`, row.Identity.UUID, row.Identity.Serial, w.ID); err != nil {
			return err
		}
		note("known by %s", row.Identity)
	}
	return nil
}

// enterGroups has a workstation be in some groups and in no other. Groups that are not there
// are made.
func enterGroups(ctx context.Context, tx *sqlx.Tx, w *Workstation, groups []string, note func(string, ...any)) error {
	is := func(name string) func(string) bool {
		return func(other string) bool { return strings.EqualFold(name, other) }
	}
	var filled []string
	if err := tx.SelectContext(ctx, &filled, `SELECT name FROM groups WHERE condition <> ''`); err != nil {
		return err
	}
	for _, g := range w.Groups() {
		if !slices.ContainsFunc(groups, is(g)) && !slices.Contains(filled, g) {
			if _, err := tx.ExecContext(ctx, `DELETE FROM group_members WHERE workstation_id = ? AND group_id = (SELECT id FROM groups WHERE name = ?)`, w.ID, g); err != nil {
				return err
			}
			note("out of the group %s", g)
		}
	}
	for _, g := range groups {
		if slices.ContainsFunc(w.Groups(), is(g)) {
			continue
		}
		err := include(ctx, tx, g, w.ID)
		if errors.Is(err, fault.NotFound) {
			if err = addGroup(ctx, tx, g); err == nil {
				err = addMember(ctx, tx, g, w.ID)
			}
			note("into the new group %s", g)
		} else {
			note("into the group %s", g)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// SetWorkstationNote replaces what is said of a workstation.
func (db *DB) SetWorkstationNote(ctx context.Context, id int64, note string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return setNote(ctx, tx, id, note) })
}

func setNote(ctx context.Context, tx *sqlx.Tx, id int64, note string) error {
	result, err := tx.ExecContext(ctx, `UPDATE workstations SET note = ? WHERE id = ?`, note, id)
	return changed(result, err, "workstation", id)
}

// MergeFields sets fields of a workstation; an empty value removes one.
func (db *DB) MergeFields(ctx context.Context, id int64, fields map[string]string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		w := Workstation{ID: id}
		if err := tx.GetContext(ctx, &w.FieldTexts, `SELECT fields FROM workstations WHERE id = ?`, id); err != nil {
			return missing(err, "workstation", id)
		}
		_, err := mergeFields(ctx, tx, &w, fields)
		return err
	})
}

// Limits of the fields of a workstation.
const (
	fieldsAtMost = 50
	fieldBytes   = 500
)

func mergeFields(ctx context.Context, tx *sqlx.Tx, w *Workstation, fields map[string]string) (changes []string, err error) {
	all := w.Fields()
	if all == nil {
		all = map[string]string{}
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		value := fields[name]
		switch {
		case all[name] == value:
			continue
		case len(value) > fieldBytes:
			return nil, fault.Invalid.Errorf("the field %s is longer than %d bytes", name, fieldBytes)
		case value == "":
			delete(all, name)
		default:
			all[name] = value
		}
		changes = append(changes, fmt.Sprintf("%s: %s", name, orNothing(value)))
	}
	if len(all) > fieldsAtMost {
		return nil, fault.Invalid.Errorf("a workstation has %d fields at the most", fieldsAtMost)
	}
	if changes == nil {
		return nil, nil
	}
	text := ""
	if len(all) > 0 {
		text = encode(all)
	}
	_, err = tx.ExecContext(ctx, `UPDATE workstations SET fields = ? WHERE id = ?`, text, w.ID)
	return changes, err
}

// expectedBy finds the workstation that was entered ahead by the UUID or serial number of a
// machine; 0 if none was.
func expectedBy(ctx context.Context, tx *sqlx.Tx, is roster.Identity) (int64, error) {
	var id int64
	err := tx.GetContext(ctx, &id, `SELECT id FROM workstations WHERE state = 'admitted' AND agent_version = ''
		AND (uuid <> '' AND uuid = ?1 AND serial IN ('', ?2) OR serial <> '' AND serial = ?2 AND uuid IN ('', ?1)) ORDER BY uuid DESC LIMIT 1`, is.UUID, is.Serial)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return id, err
}

// NamesInUse are the names of workstations and groups, in lower case.
func (db *DB) NamesInUse(ctx context.Context) (map[string]bool, error) {
	var names []string
	err := db.read.SelectContext(ctx, &names, `SELECT lower(name) FROM workstations WHERE name IS NOT NULL UNION SELECT lower(name) FROM groups`)
	used := make(map[string]bool, len(names))
	for _, n := range names {
		used[n] = true
	}
	return used, err
}

// NameAll gives workstations their names, all or none, and puts them into groups. Newcomers
// are admitted.
func (db *DB) NameAll(ctx context.Context, ids []int64, names, groups []string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids { // so that they may swap names
			if _, err := tx.ExecContext(ctx, `UPDATE workstations SET name = ' ' || id WHERE id = ? AND name IS NOT NULL`, id); err != nil {
				return err
			}
		}
		for i, id := range ids {
			if err := nameIsFree(ctx, tx, names[i], id); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE workstations SET name = ?, state = iif(state = 'newcomer', 'admitted', state) WHERE id = ?`, names[i], id); err != nil {
				return err
			}
			for _, g := range groups {
				if err := include(ctx, tx, g, id); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
