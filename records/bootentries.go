package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/bootentry"
	"jugate/core/fault"
)

// BootEntry is something other than a build that a workstation can boot.
type BootEntry struct {
	ID       int64     `db:"id"`
	Name     string    `db:"name"`
	Settings string    `db:"settings"` // JSON
	Newest   int       `db:"newest"`   // number of the last version that it had
	Saved    time.Time `db:"saved"`
	SavedBy  string    `db:"saved_by"`
}

// Set is what an engineer has said of it.
func (e *BootEntry) Set() (api.BootEntrySettings, error) {
	return decode[api.BootEntrySettings]("the boot entry "+e.Name, e.Settings)
}

// BootEntryVersion is what was given at a time.
type BootEntryVersion struct {
	EntryID int64     `db:"entry_id"`
	Number  int       `db:"number"`
	FoundJS string    `db:"found"`
	Origin  string    `db:"origin"`
	Added   time.Time `db:"added"`
	AddedBy string    `db:"added_by"`
}

// Found is what was recognised.
func (v *BootEntryVersion) Found() (bootentry.Found, error) {
	return decode[bootentry.Found](fmt.Sprintf("version %d of a boot entry", v.Number), v.FoundJS)
}

// AddBootVersion records a version of a boot entry, which is made if there is none of that name, and tells its number.
func (db *DB) AddBootVersion(ctx context.Context, name string, v BootEntryVersion, found bootentry.Found) (number int, err error) {
	v.FoundJS, v.Added = encode(found), v.Added.UTC()
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO boot_entries (name, settings, saved, saved_by) VALUES (?, '{}', ?, ?) ON CONFLICT (name) DO NOTHING`, name, v.Added, v.AddedBy); err != nil {
			return err
		}
		if err := tx.QueryRowxContext(ctx, `UPDATE boot_entries SET newest = newest + 1 WHERE name = ? RETURNING id, newest`, name).Scan(&v.EntryID, &v.Number); err != nil {
			return err
		}
		number = v.Number
		_, err := tx.NamedExecContext(ctx, `INSERT INTO boot_entry_versions (entry_id, number, found, origin, added, added_by) VALUES (:entry_id, :number, :found, :origin, :added, :added_by)`, v)
		return err
	})
	return number, err
}

// BootEntries lists them by name; sortable by boot_entry and saved.
func (db *DB) BootEntries(ctx context.Context, p Page) (rows []BootEntry, total int, err error) {
	var q query
	q.search(p.Search, []string{"e.name", "e.settings"})
	total, err = db.list(ctx, listing{columns: "e.*", from: "boot_entries e", key: "e.id", order: "e.name", fields: map[string]string{"boot_entry": "e.name", "saved": "e.saved"}}, &rows, q, p)
	return rows, total, err
}

// BootEntry is the one of that name.
func (db *DB) BootEntry(ctx context.Context, name string) (*BootEntry, error) {
	var e BootEntry
	err := db.read.GetContext(ctx, &e, `SELECT * FROM boot_entries WHERE name = ?`, name)
	return &e, missing(err, "boot entry", name)
}

// BootVersions are the versions of a boot entry, the newest first; of all of them, if id is 0.
func (db *DB) BootVersions(ctx context.Context, id int64) (rows []BootEntryVersion, err error) {
	err = db.read.SelectContext(ctx, &rows, `SELECT * FROM boot_entry_versions WHERE entry_id = ?1 OR ?1 = 0 ORDER BY entry_id, number DESC`, id)
	return rows, err
}

// SaveBootEntry keeps what an engineer says of a boot entry.
func (db *DB) SaveBootEntry(ctx context.Context, id int64, set api.BootEntrySettings, now time.Time, by string) error {
	result, err := db.exec(ctx, `UPDATE boot_entries SET settings = ?, saved = ?, saved_by = ? WHERE id = ?`, encode(set), now.UTC(), by, id)
	return changed(result, err, "boot entry", id)
}

// RemoveBootVersion forgets a version of a boot entry, or with number 0 all of it.
func (db *DB) RemoveBootVersion(ctx context.Context, id int64, number int) error {
	if number == 0 {
		result, err := db.exec(ctx, `DELETE FROM boot_entries WHERE id = ?`, id)
		return changed(result, err, "boot entry", id)
	}
	result, err := db.exec(ctx, `DELETE FROM boot_entry_versions WHERE entry_id = ? AND number = ?`, id, number)
	return changed(result, err, "version", number)
}

// BootChoice is what a workstation boots in place of its disk.
type BootChoice struct {
	WorkstationID int64     `db:"workstation_id"`
	Once          bool      `db:"once"`
	EntryID       int64     `db:"entry_id"`
	Entry         string    `db:"entry"`
	ParametersJS  string    `db:"parameters"`
	Chosen        time.Time `db:"chosen"`
	ChosenBy      string    `db:"chosen_by"`
}

// Parameters are what the boot entry's parameters are.
func (c *BootChoice) Parameters() (map[string]string, error) {
	return decode[map[string]string]("parameters of a boot entry", c.ParametersJS)
}

// ChooseBoot has workstations and groups boot a boot entry, all of them or none.
func (db *DB) ChooseBoot(ctx context.Context, c BootChoice, parameters map[string]string, workstations []int64, groups []string) error {
	c.ParametersJS, c.Chosen = encode(parameters), c.Chosen.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, c.WorkstationID = range workstations {
			_, err := tx.NamedExecContext(ctx, `INSERT INTO boot_choices (workstation_id, once, entry_id, parameters, chosen, chosen_by) VALUES (:workstation_id, :once, :entry_id, :parameters, :chosen, :chosen_by)
				ON CONFLICT (workstation_id, once) DO UPDATE SET entry_id = excluded.entry_id, parameters = excluded.parameters, chosen = excluded.chosen, chosen_by = excluded.chosen_by`, c)
			if err != nil {
				return err
			}
		}
		for _, g := range groups {
			if _, err := tx.ExecContext(ctx, `UPDATE groups SET boot_entry = ? WHERE name = ?`, c.EntryID, g); err != nil {
				return err
			}
		}
		return nil
	})
}

// UnchooseBoot has workstations and groups boot as usual.
func (db *DB) UnchooseBoot(ctx context.Context, workstations []int64, groups []string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for _, id := range workstations {
			if _, err := tx.ExecContext(ctx, `DELETE FROM boot_choices WHERE workstation_id = ?`, id); err != nil {
				return err
			}
		}
		for _, g := range groups {
			if _, err := tx.ExecContext(ctx, `UPDATE groups SET boot_entry = NULL WHERE name = ?`, g); err != nil {
				return err
			}
		}
		return nil
	})
}

// ChosenBoot is what a workstation boots in place of its disk: what was chosen once, then always, then for its groups, of which the
// first by name counts. It is nil if there is nothing.
func (db *DB) ChosenBoot(ctx context.Context, workstation int64) (*BootChoice, error) {
	var c BootChoice
	err := db.read.GetContext(ctx, &c, `SELECT * FROM (
		SELECT c.workstation_id, c.once, c.entry_id, e.name AS entry, c.parameters, c.chosen, c.chosen_by FROM boot_choices c JOIN boot_entries e ON e.id = c.entry_id
			WHERE c.workstation_id = ?1 ORDER BY c.once DESC LIMIT 1)
		UNION ALL SELECT * FROM (
		SELECT m.workstation_id, 0, e.id, e.name, '{}', e.saved, g.name FROM groups g JOIN group_members m ON m.group_id = g.id JOIN boot_entries e ON e.id = g.boot_entry
			WHERE m.workstation_id = ?1 ORDER BY g.name LIMIT 1) LIMIT 1`, workstation)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &c, err
}

// BootStart is a start of a boot entry at a workstation.
type BootStart struct {
	ID            int64         `db:"id"`
	WorkstationID int64         `db:"workstation_id"`
	Workstation   string        `db:"workstation"`
	Entry         string        `db:"entry"`
	Version       int           `db:"version"`
	Way           string        `db:"way"`
	ParametersJS  string        `db:"parameters"`
	File          string        `db:"file"`
	Once          bool          `db:"once"`
	ErrandID      sql.NullInt64 `db:"errand_id"`
	Ticket        string        `db:"ticket"` // digest
	Made          time.Time     `db:"made"`
	Loaded        sql.NullTime  `db:"loaded"`
	Fetched       sql.NullTime  `db:"fetched"`
	FetchedBy     string        `db:"fetched_by"`
	Fetches       int           `db:"fetches"`
	Ended         sql.NullTime  `db:"ended"`
	How           string        `db:"how"`
}

// How a start has ended.
const (
	EndTold      = "told"      // it has said so
	EndRestarted = "restarted" // the workstation has asked what to boot
)

// Parameters are what the boot entry's parameters were.
func (s *BootStart) Parameters() (map[string]string, error) {
	return decode[map[string]string]("parameters of a boot entry", s.ParametersJS)
}

// startsKept is how many starts of one workstation are kept.
const startsKept = 100

// AddBootStarts records what a workstation may start now: one boot entry, or those of a menu. What it could have started before,
// and never loaded, it does not start any more.
func (db *DB) AddBootStarts(ctx context.Context, workstation int64, starts []BootStart) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM boot_starts WHERE workstation_id = ?1 AND (loaded IS NULL OR id NOT IN
			(SELECT id FROM boot_starts WHERE workstation_id = ?1 ORDER BY id DESC LIMIT ?2))`, workstation, startsKept); err != nil {
			return err
		}
		for _, s := range starts {
			s.WorkstationID, s.Made, s.Loaded = workstation, s.Made.UTC(), utc(s.Loaded)
			_, err := tx.NamedExecContext(ctx, `INSERT INTO boot_starts (workstation_id, entry, version, way, parameters, file, once, errand_id, ticket, made, loaded)
				VALUES (:workstation_id, :entry, :version, :way, :parameters, :file, :once, :errand_id, :ticket, :made, :loaded)`, s)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// SetParameters keeps what the boot entry's parameters are.
func (s *BootStart) SetParameters(all map[string]string) { s.ParametersJS = encode(all) }

// BootLoaded records that the program or kernel of a start has left, and ends a choice that was for one start. It tells which
// start that was; nil if there is none.
func (db *DB) BootLoaded(ctx context.Context, now time.Time, workstation int64, file string) (s *BootStart, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		var one BootStart
		err := tx.GetContext(ctx, &one, `UPDATE boot_starts SET loaded = ? WHERE workstation_id = ? AND file = ? AND loaded IS NULL RETURNING *, '' AS workstation`, now.UTC(), workstation, file)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if s = &one; err == nil && one.Once {
			_, err = tx.ExecContext(ctx, `DELETE FROM boot_choices WHERE workstation_id = ? AND once = 1`, workstation)
		}
		return err
	})
	return s, err
}

const bootStart = `SELECT s.*, coalesce(w.name, '') AS workstation FROM boot_starts s JOIN workstations w ON w.id = s.workstation_id `

// BootOf is the start that a ticket is of. One that is not known is a fault.Forbidden.
func (db *DB) BootOf(ctx context.Context, ticket string) (*BootStart, error) {
	var s BootStart
	err := db.read.GetContext(ctx, &s, bootStart+`WHERE s.ticket = ?`, ticket)
	if errors.Is(err, sql.ErrNoRows) {
		err = errBootTicket
	}
	return &s, err
}

var errBootTicket = fault.Forbidden.Errorf("the ticket is not known, is one of an earlier start, or another machine has used it")

// maxFetches is how often an answer file is handed out: installers ask again where a line is bad.
const maxFetches = 20

// FetchBoot is the start that a ticket is of, for an address that fetches its answer file, and notes that. A ticket that is not
// known or too old, or that another address has used, is a fault.Forbidden.
func (db *DB) FetchBoot(ctx context.Context, now time.Time, ticket, from string, within time.Duration) (*BootStart, error) {
	var s BootStart
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &s, bootStart+`WHERE s.ticket = ?`, ticket)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return errBootTicket
		case err != nil:
			return err
		case s.Ended.Valid || now.Sub(s.Made) > within:
			return fault.Forbidden.Errorf("the start that this ticket is of is over")
		case s.FetchedBy != "" && s.FetchedBy != from:
			return fault.Forbidden.Errorf("another machine has used this ticket, %s", s.FetchedBy)
		case s.Fetches >= maxFetches:
			return fault.Forbidden.Errorf("this was fetched %d times", s.Fetches)
		}
		_, err = tx.ExecContext(ctx, `UPDATE boot_starts SET fetched = coalesce(fetched, ?), fetched_by = ?, fetches = fetches + 1 WHERE id = ?`, now.UTC(), from, s.ID)
		return err
	})
	return &s, err
}

// EndBoot ends a start by its ticket: it has told so.
func (db *DB) EndBoot(ctx context.Context, now time.Time, ticket, from string) (*BootStart, error) {
	var s BootStart
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &s, bootStart+`WHERE s.ticket = ? AND (s.fetched_by = '' OR s.fetched_by = ?)`, ticket, from)
		if errors.Is(err, sql.ErrNoRows) {
			return errBootTicket
		}
		if err != nil || s.Ended.Valid {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE boot_starts SET ended = ?, how = ? WHERE id = ?`, now.UTC(), EndTold, s.ID)
		return err
	})
	return &s, err
}

// EndBootsOf ends what a workstation has started and that has not said to be over, as it starts anew. It tells which that were.
func (db *DB) EndBootsOf(ctx context.Context, now time.Time, workstation int64) (all []BootStart, err error) {
	var any bool
	if err := db.read.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM boot_starts WHERE workstation_id = ? AND loaded IS NOT NULL AND ended IS NULL)`, workstation); err != nil || !any {
		return nil, err
	}
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		return tx.SelectContext(ctx, &all, `UPDATE boot_starts SET ended = ?, how = ? WHERE workstation_id = ? AND loaded IS NOT NULL AND ended IS NULL RETURNING *, '' AS workstation`, now.UTC(), EndRestarted, workstation)
	})
	return all, err
}

// BootStartFilter narrows a list of starts. Empty fields keep all.
type BootStartFilter struct {
	Workstation int64
	Entry       string
}

// BootStarts lists starts, the newest first.
func (db *DB) BootStarts(ctx context.Context, f BootStartFilter, p Page) (rows []BootStart, total int, err error) {
	var q query
	if f.Workstation != 0 {
		q.and("s.workstation_id = ?", f.Workstation)
	}
	if f.Entry != "" {
		q.and("s.entry = ?", f.Entry)
	}
	total, err = db.list(ctx, listing{columns: "s.*, coalesce(w.name, '') AS workstation", from: "boot_starts s JOIN workstations w ON w.id = s.workstation_id", key: "s.id", order: "s.id DESC", fields: map[string]string{"made": "s.made"}}, &rows, q, p)
	return rows, total, err
}
