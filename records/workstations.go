package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
	"jugate/core/roster"
)

// Workstation is a machine that was seen on the network.
type Workstation struct {
	ID           int64        `db:"id"`
	Name         string       `db:"name"` // empty for a newcomer
	State        roster.State `db:"state"`
	Maker        string       `db:"maker"`
	Model        string       `db:"model"`
	Serial       string       `db:"serial"`
	Memory       int64        `db:"memory"` // bytes
	Inventory    string       `db:"inventory"`
	AgentVersion string       `db:"agent_version"`
	FirstSeen    time.Time    `db:"first_seen"`
	LastSeen     time.Time    `db:"last_seen"`
	AddressList  string       `db:"address_list"` // see Addresses
	GroupList    string       `db:"group_list"`   // see Groups
}

// Addresses are its hardware addresses, in the order of the alphabet.
func (w *Workstation) Addresses() []hwaddr.Address {
	var all []hwaddr.Address
	for text := range strings.FieldsSeq(w.AddressList) {
		all = append(all, hwaddr.MustParse(text))
	}
	return all
}

// Groups are the names of the groups it is in.
func (w *Workstation) Groups() []string { return strings.Fields(w.GroupList) }

// Label is its name or, for a newcomer, its first hardware address.
func (w *Workstation) Label() string {
	if w.Name != "" {
		return w.Name
	}
	first, _, _ := strings.Cut(w.AddressList, " ")
	return first
}

const (
	workstationColumns = `w.id, coalesce(w.name, '') AS name, w.state, w.maker, w.model, w.serial, w.memory, w.inventory, w.agent_version, w.first_seen, w.last_seen,
		(SELECT group_concat(address, ' ') FROM (SELECT address FROM addresses WHERE workstation_id = w.id ORDER BY address)) AS address_list,
		coalesce((SELECT group_concat(name, ' ') FROM (SELECT g.name FROM groups g JOIN group_members m ON m.group_id = g.id WHERE m.workstation_id = w.id ORDER BY g.name)), '') AS group_list`
	workstationFrom = `workstations w`
)

// CheckIn records what an agent tells of its machine, and returns the
// workstation, a newcomer if none of the addresses was known. Addresses of two
// different workstations in one machine are an ErrConflict.
func (db *DB) CheckIn(ctx context.Context, now time.Time, addresses []hwaddr.Address, w Workstation) (*Workstation, error) {
	if len(addresses) == 0 {
		return nil, fmt.Errorf("%w: a workstation without a hardware address", ErrConflict)
	}
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		id, err := owner(ctx, tx, addresses)
		if err != nil {
			return err
		}
		now = now.UTC()
		if id == 0 {
			result, err := tx.ExecContext(ctx, `INSERT INTO workstations (state, maker, model, serial, memory, inventory, agent_version, first_seen, last_seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				roster.Newcomer, w.Maker, w.Model, w.Serial, w.Memory, w.Inventory, w.AgentVersion, now, now)
			if err != nil {
				return err
			}
			if id, err = result.LastInsertId(); err != nil {
				return err
			}
		} else if _, err := tx.ExecContext(ctx, `UPDATE workstations SET maker = ?, model = ?, serial = ?, memory = ?, inventory = ?, agent_version = ?, last_seen = ? WHERE id = ?`,
			w.Maker, w.Model, w.Serial, w.Memory, w.Inventory, w.AgentVersion, now, id); err != nil {
			return err
		}
		for _, a := range addresses {
			if _, err := tx.ExecContext(ctx, `INSERT INTO addresses (address, workstation_id) VALUES (?, ?) ON CONFLICT DO NOTHING`, a.String(), id); err != nil {
				return err
			}
		}
		// An errand that was running belongs to the agent that has just gone.
		if _, err := tx.ExecContext(ctx, `UPDATE errands SET state = 'waiting' WHERE workstation_id = ? AND state = 'running'`, id); err != nil {
			return err
		}
		w.ID = id
		return nil
	})
	if err != nil {
		return nil, err
	}
	return db.Workstation(ctx, w.ID)
}

// owner finds the one workstation that has some of the addresses; 0 if none has.
func owner(ctx context.Context, tx *sqlx.Tx, addresses []hwaddr.Address) (int64, error) {
	var id int64
	for _, a := range addresses {
		var found int64
		err := tx.GetContext(ctx, &found, `SELECT workstation_id FROM addresses WHERE address = ?`, a.String())
		switch {
		case errors.Is(err, sql.ErrNoRows):
		case err != nil:
			return 0, err
		case id != 0 && id != found:
			return 0, fmt.Errorf("%w: the hardware addresses %v belong to two workstations of the roster (a network card was moved, or an address is there twice)", ErrConflict, addresses)
		default:
			id = found
		}
	}
	return id, nil
}

// Workstation returns the workstation with that number.
func (db *DB) Workstation(ctx context.Context, id int64) (*Workstation, error) {
	var w Workstation
	err := db.read.GetContext(ctx, &w, "SELECT "+workstationColumns+" FROM "+workstationFrom+" WHERE w.id = ?", id)
	return &w, missing(err, "workstation", id)
}

// FindWorkstation finds one by name or by hardware address in any spelling.
func (db *DB) FindWorkstation(ctx context.Context, ref string) (*Workstation, error) {
	address := ""
	if a, err := hwaddr.Parse(ref); err == nil {
		address = a.String()
	}
	var w Workstation
	err := db.read.GetContext(ctx, &w, "SELECT "+workstationColumns+" FROM "+workstationFrom+
		" WHERE w.name = ? OR w.id = (SELECT workstation_id FROM addresses WHERE address = ?)", ref, address)
	return &w, missing(err, "workstation", ref)
}

// WorkstationFilter narrows a list of workstations; empty fields narrow nothing.
type WorkstationFilter struct {
	State roster.State
	Group string
}

// Workstations lists; sortable by name, model, serial, state and last_seen.
func (db *DB) Workstations(ctx context.Context, f WorkstationFilter, p Page) ([]Workstation, int, error) {
	q := query{from: workstationFrom}
	if f.State != "" {
		q.and("w.state = ?", f.State)
	}
	if f.Group != "" {
		q.and("w.id IN (SELECT m.workstation_id FROM group_members m JOIN groups g ON g.id = m.group_id WHERE g.name = ?)", f.Group)
	}
	q.search(p.Search, "w.name", "w.model", "w.maker", "w.serial",
		"(SELECT group_concat(address) FROM addresses WHERE workstation_id = w.id)")
	var rows []Workstation
	total, err := db.list(ctx, &rows, workstationColumns, q, p, map[string]string{
		"name": "w.name", "model": "w.model", "serial": "w.serial", "state": "w.state", "last_seen": "w.last_seen",
	}, "coalesce(w.name, ''), w.id")
	return rows, total, err
}

// Admit takes a newcomer, or a retired workstation again, into the roster under
// a name and into groups, which must exist. An admitted one can be given another name so.
func (db *DB) Admit(ctx context.Context, id int64, name string, groups []string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var taken int64
		err := tx.GetContext(ctx, &taken, `SELECT id FROM workstations WHERE name = ? AND id <> ?`, name, id)
		if err == nil {
			return fmt.Errorf("%w: another workstation is called %s", ErrConflict, name)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		result, err := tx.ExecContext(ctx, `UPDATE workstations SET state = 'admitted', name = ? WHERE id = ?`, name, id)
		if err := changed(result, err, "workstation", id); err != nil {
			return err
		}
		for _, g := range groups {
			if err := addMember(ctx, tx, g, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Retire puts a workstation out of service. One with an open errand is an
// ErrConflict.
func (db *DB) Retire(ctx context.Context, id int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var open int
		if err := tx.GetContext(ctx, &open, `SELECT count(*) FROM errands WHERE workstation_id = ? AND state IN ('waiting', 'running')`, id); err != nil {
			return err
		}
		if open > 0 {
			return fmt.Errorf("%w: it has an errand to do; stop that first", ErrConflict)
		}
		result, err := tx.ExecContext(ctx, `UPDATE workstations SET state = 'retired' WHERE id = ? AND state = 'admitted'`, id)
		if err := changed(result, err, "admitted workstation", id); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM group_members WHERE workstation_id = ?`, id)
		return err
	})
}

// Targets resolves names of groups and workstations to the admitted workstations
// they mean, each once. An unknown name is an ErrNotFound, one that means nobody
// an ErrConflict.
func (db *DB) Targets(ctx context.Context, names []string) ([]Workstation, error) {
	var all []Workstation
	for _, name := range names {
		members, _, err := db.Workstations(ctx, WorkstationFilter{Group: name}, Page{})
		if err != nil {
			return nil, err
		}
		if len(members) == 0 {
			group, err := db.Group(ctx, name)
			if err == nil {
				return nil, fmt.Errorf("%w: the group %s has no workstation in it", ErrConflict, group.Name)
			}
			w, err := db.FindWorkstation(ctx, name)
			if errors.Is(err, ErrNotFound) {
				return nil, fmt.Errorf("%w: there is no group and no workstation %s", ErrNotFound, name)
			} else if err != nil {
				return nil, err
			}
			members = append(members, *w)
		}
		for _, w := range members {
			if err := roster.MustBeAdmitted(w.Label(), w.State); err != nil {
				return nil, fmt.Errorf("%w: %w", ErrConflict, err)
			}
			if !slices.ContainsFunc(all, func(o Workstation) bool { return o.ID == w.ID }) {
				all = append(all, w)
			}
		}
	}
	return all, nil
}

// changed turns a change of no row into ErrNotFound.
func changed(result sql.Result, err error, what string, name any) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return missing(sql.ErrNoRows, what, name)
}
