package records

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"
)

// Group is a named set of workstations.
type Group struct {
	ID        int64  `db:"id"`
	Name      string `db:"name"`
	Members   int    `db:"members"`
	Condition string `db:"condition"` // by which it fills itself; empty if people fill it
	Build     int    `db:"build"`     // that it boots whatever is offered; 0 if none
	Menu      int    `db:"menu_seconds"`
	Image     string `db:"image"`   // that its workstations should have; empty if nothing is said
	Version   int    `db:"version"` // of that; 0 for the newest
	Behind    int    `db:"behind"`  // how many of them do not have it
}

const groupColumns = `g.id, g.name, g.members, g.condition, coalesce(g.build, 0) AS build, g.menu_seconds, g.image, g.version, ` + behindCount + ` AS behind`

// Groups lists, those of these names unless that is nil; sortable by name and workstation_count.
func (db *DB) Groups(ctx context.Context, within []string, p Page) ([]Group, int, error) {
	var q query
	if within != nil {
		q.and("g.name COLLATE NOCASE IN (SELECT value FROM json_each(?))", encode(within))
	}
	q.search(p.Search, []string{"g.name"})
	var rows []Group
	total, err := db.list(ctx, listing{columns: groupColumns, from: "groups g", key: "g.id", order: "g.name",
		fields: map[string]string{"name": "g.name", "workstation_count": "g.members"}}, &rows, q, p)
	return rows, total, err
}

// Group returns the group of that name.
func (db *DB) Group(ctx context.Context, name string) (*Group, error) {
	var g Group
	err := db.read.GetContext(ctx, &g, "SELECT "+groupColumns+" FROM groups g WHERE g.name = ?", name)
	return &g, missing(err, "group", name)
}

// AddGroup makes an empty group; a name in use is a fault.Conflict.
func (db *DB) AddGroup(ctx context.Context, name string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return addGroup(ctx, tx, name) })
}

// AddFilledGroup makes a group that a condition fills, with those that fit it now.
func (db *DB) AddFilledGroup(ctx context.Context, name, condition string, ids []int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := addGroup(ctx, tx, name); err != nil {
			return err
		}
		for _, id := range ids {
			if err := addMember(ctx, tx, name, id); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE groups SET condition = ? WHERE name = ?`, condition, name)
		return err
	})
}

// FilledGroups are the groups that conditions fill.
func (db *DB) FilledGroups(ctx context.Context) (rows []Group, err error) {
	err = db.read.SelectContext(ctx, &rows, "SELECT "+groupColumns+" FROM groups g WHERE g.condition <> '' ORDER BY g.name")
	return rows, err
}

// Fill puts a workstation into a group that a condition fills, or takes it out.
func (db *DB) Fill(ctx context.Context, group string, id int64, fits bool) error {
	statement := `DELETE FROM group_members WHERE group_id = (SELECT id FROM groups WHERE name = ? AND condition <> '') AND workstation_id = ?`
	if fits {
		statement = `INSERT INTO group_members (group_id, workstation_id) SELECT g.id, w.id FROM groups g, workstations w WHERE g.name = ? AND g.condition <> '' AND w.id = ? ON CONFLICT DO NOTHING`
	}
	_, err := db.exec(ctx, statement, group, id)
	return err
}

// notFilled refuses to have people change who is in a group that a condition fills.
func notFilled(ctx context.Context, tx *sqlx.Tx, group string) error {
	var condition string
	if err := tx.GetContext(ctx, &condition, `SELECT condition FROM groups WHERE name = ?`, group); err != nil {
		return missing(err, "group", group)
	}
	if condition != "" {
		return fault.Conflict.Errorf("the group %s has whoever fits its condition, %s", group, condition)
	}
	return nil
}

func addGroup(ctx context.Context, tx *sqlx.Tx, name string) error {
	var workstation string
	if err := tx.GetContext(ctx, &workstation, `SELECT name FROM workstations WHERE name = ?`, name); err == nil {
		return fault.Conflict.Errorf("a workstation is called %s; a group needs another name", workstation)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO groups (name) VALUES (?)`, name)
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return fault.Conflict.Errorf("there is a group %s already", name)
	}
	return err
}

// RemoveGroup removes a group; its workstations stay.
func (db *DB) RemoveGroup(ctx context.Context, name string) error {
	result, err := db.exec(ctx, `DELETE FROM groups WHERE name = ?`, name)
	return changed(result, err, "group", name)
}

// Include puts workstations into a group, all or none; they may be there already.
func (db *DB) Include(ctx context.Context, group string, ids []int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids {
			if err := include(ctx, tx, group, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// include puts a workstation into a group that people fill.
func include(ctx context.Context, tx *sqlx.Tx, group string, id int64) error {
	if err := notFilled(ctx, tx, group); err != nil {
		return err
	}
	return addMember(ctx, tx, group, id)
}

func addMember(ctx context.Context, tx *sqlx.Tx, group string, id int64) error {
	var g int64
	if err := tx.GetContext(ctx, &g, `SELECT id FROM groups WHERE name = ?`, group); err != nil {
		return missing(err, "group", group)
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO group_members (group_id, workstation_id) VALUES (?, ?) ON CONFLICT DO NOTHING`, g, id)
	return err
}

// Exclude takes workstations out of a group, all or none. One that is not in it is a
// fault.NotFound.
func (db *DB) Exclude(ctx context.Context, group string, ids []int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if err := notFilled(ctx, tx, group); err != nil {
			return err
		}
		var g int64
		if err := tx.GetContext(ctx, &g, `SELECT id FROM groups WHERE name = ?`, group); err != nil {
			return missing(err, "group", group)
		}
		for _, id := range ids {
			result, err := tx.ExecContext(ctx, `DELETE FROM group_members WHERE workstation_id = ? AND group_id = ?`, id, g)
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err != nil || n == 0 {
				var name string
				err = errors.Join(err, tx.GetContext(ctx, &name, `SELECT coalesce(name, '') FROM workstations WHERE id = ?`, id))
				if err != nil {
					return err
				}
				return fault.NotFound.Errorf("%s is not in the group %s", name, group)
			}
		}
		return nil
	})
}

// GroupMembers are the numbers of a group's workstations.
func (db *DB) GroupMembers(ctx context.Context, group string) (ids []int64, err error) {
	err = db.read.SelectContext(ctx, &ids, `SELECT m.workstation_id FROM group_members m JOIN groups g ON g.id = m.group_id WHERE g.name = ?`, group)
	return ids, err
}
