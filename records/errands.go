package records

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/errand"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"
)

// Errand is what one workstation was asked to do.
type Errand struct {
	ID            int64         `db:"id"`
	WorkstationID int64         `db:"workstation_id"`
	Workstation   string        `db:"workstation"`
	Kind          errand.Kind   `db:"kind"`
	State         errand.State  `db:"state"`
	Image         string        `db:"image"`
	Version       int           `db:"version"`
	Note          string        `db:"note"`
	DeliveryID    sql.NullInt64 `db:"delivery_id"`
	Error         string        `db:"error"`
	Created       time.Time     `db:"created"`
	Ended         sql.NullTime  `db:"ended"`
	Options       string        `db:"options"` // JSON: how to do it
	Result        string        `db:"result"`  // of drivers, payloads and commands: JSON
	NotBefore     sql.NullTime  `db:"not_before"`
	OrderedBy     string        `db:"ordered_by"`
	RunID         sql.NullInt64 `db:"run_id"` // that asked for it
}

const errandColumns = `e.id, e.workstation_id, coalesce(w.name, (SELECT min(a.address) FROM addresses a WHERE a.workstation_id = w.id), '') AS workstation, e.kind, e.state, e.image, e.version, e.note, e.delivery_id, e.error, e.created, e.ended, e.options, e.result, e.not_before, e.ordered_by, e.run_id`

const errandFrom = `errands e JOIN workstations w ON w.id = e.workstation_id`

const errandSelect = `SELECT ` + errandColumns + ` FROM ` + errandFrom + ` `

// Asked is what one workstation is asked for.
type Asked struct {
	Workstation int64
	Kind        errand.Kind
	Image, Note string // of a capture
	Options     any    // how to do it
}

// AddErrand asks one workstation.
func (db *DB) AddErrand(ctx context.Context, now time.Time, ask Asked, by string) (*Errand, error) {
	all, err := db.AddErrands(ctx, now, []Asked{ask}, by)
	if err != nil {
		return nil, err
	}
	return &all[0], nil
}

// AddErrands asks several, all or none: whoever comes after a service that was killed knows that nobody was left out.
func (db *DB) AddErrands(ctx context.Context, now time.Time, asked []Asked, by string) ([]Errand, error) {
	run, number := part(ctx)
	ids := make([]int64, len(asked))
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		for i, a := range asked {
			result, err := tx.ExecContext(ctx, `INSERT INTO errands (workstation_id, kind, state, image, version, note, created, options, run_id, run_part, ordered_by) VALUES (?, ?, 'waiting', ?, 0, ?, ?, ?, ?, ?, ?)`,
				a.Workstation, a.Kind, a.Image, a.Note, now.UTC(), encode(a.Options), run, number, by)
			if err != nil {
				return err
			}
			if ids[i], err = result.LastInsertId(); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := make([]Errand, len(ids))
	for i, id := range ids {
		e, err := db.Errand(ctx, id)
		if err != nil {
			return nil, err
		}
		out[i] = *e
	}
	return out, nil
}

// AddCapture asks a workstation to capture its disk as the next version of an image.
func (db *DB) AddCapture(ctx context.Context, now time.Time, workstation int64, image, note string, options api.CaptureOptions) (*Errand, error) {
	return db.AddErrand(ctx, now, Asked{Workstation: workstation, Kind: errand.Capture, Image: image, Note: note, Options: options}, "")
}

// Errand returns the errand with that number.
func (db *DB) Errand(ctx context.Context, id int64) (*Errand, error) {
	var e Errand
	err := db.read.GetContext(ctx, &e, errandSelect+"WHERE e.id = ?", id)
	return &e, missing(err, "errand", id)
}

// RunningErrand finds an errand of some kinds that a workstation is doing. One of another
// workstation or kind is a fault.Forbidden, one that does not run a fault.Conflict.
func (db *DB) RunningErrand(ctx context.Context, workstation, id int64, kinds ...errand.Kind) (*Errand, error) {
	e, err := db.Errand(ctx, id)
	if err != nil {
		return nil, err
	}
	if e.WorkstationID != workstation || !slices.Contains(kinds, e.Kind) {
		return nil, fault.Forbidden.Errorf("errand %d is not a %s of this workstation", id, joined(kinds))
	}
	if e.State != errand.Running {
		return nil, fault.Conflict.Errorf("errand %d is %s", id, e.State)
	}
	return e, nil
}

// ErrandOf is the errand of a workstation in a delivery.
func (db *DB) ErrandOf(ctx context.Context, delivery, workstation int64) (*Errand, error) {
	var e Errand
	err := db.read.GetContext(ctx, &e, errandSelect+"WHERE e.delivery_id = ? AND e.workstation_id = ?", delivery, workstation)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fault.NotFound.Errorf("delivery %d has no errand for this workstation", delivery)
	}
	return &e, err
}

// due is the condition that an errand is open and not kept for later than a time.
const due = `e.state IN ('waiting', 'running') AND (e.not_before IS NULL OR e.not_before <= ?)
	AND NOT EXISTS (SELECT 1 FROM deliveries c WHERE c.id = e.delivery_id AND c.carried_by <> '' AND c.carried_by <> (SELECT s.site FROM workstations s WHERE s.id = e.workstation_id))`

const nextErrand = errandSelect + "WHERE e.workstation_id = ? AND " + due + " ORDER BY e.state = 'running' DESC, e.id LIMIT 1"

// NextErrand is what StartErrand would give a workstation; nil if that is nothing.
func (db *DB) NextErrand(ctx context.Context, now time.Time, workstation int64) (*Errand, error) {
	var e Errand
	err := db.read.GetContext(ctx, &e, nextErrand, workstation, now.UTC())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &e, err
}

// StartErrand gives a workstation the oldest errand that waits for it, or nil; one that
// is for later does not hold the others up. One that was running already is given
// again: the agent lost the answer.
func (db *DB) StartErrand(ctx context.Context, now time.Time, workstation int64) (*Errand, error) {
	// Most who ask have nothing to do, and do not need the writer for that.
	first, err := db.NextErrand(ctx, now, workstation)
	if first == nil || err != nil || first.State == errand.Running {
		return first, err
	}
	var e Errand
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &e, nextErrand, workstation, now.UTC())
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE errands SET state = 'running' WHERE id = ?`, e.ID)
		return err
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &e, err
}

// ErrandFilter narrows a list of errands; empty fields narrow nothing.
type ErrandFilter struct {
	WorkstationID int64
	Open          bool // waiting or running
}

// Errands lists, in the order in which workstations get them; sortable by created,
// workstation, kind and state.
func (db *DB) Errands(ctx context.Context, f ErrandFilter, p Page) (rows []Errand, total int, err error) {
	var q query
	if f.WorkstationID != 0 {
		q.and("e.workstation_id = ?", f.WorkstationID)
	}
	if f.Open {
		q.and("e.state IN ('waiting', 'running')")
	}
	q.search(p.Search, nil, "e.image IN (WITH RECURSIVE each (image) AS (SELECT min(image) FROM errands UNION ALL SELECT (SELECT min(image) FROM errands WHERE image > each.image) FROM each WHERE image IS NOT NULL) SELECT image FROM each WHERE image LIKE ?)", "e.workstation_id IN (SELECT id FROM workstations WHERE name LIKE ?)")
	l := listing{columns: errandColumns, from: errandFrom, choose: "errands e", key: "e.id", order: "e.id",
		fields: map[string]string{"created": "e.created", "workstation": "w.name, w.id", "kind": "e.kind", "state": "e.state"}}
	if f.Open { // those alone have an order in which they are given
		l.order = "e.state = 'running' DESC, ifnull(e.not_before,''), e.id"
	}
	switch {
	case strings.TrimPrefix(p.Sort, "-") != "workstation":
	case len(q.where) > 0: // to few
		l.choose = errandFrom
	default: // by the index of names, and then that of each one's errands
		l.count, l.choose = "errands e", "workstations w CROSS JOIN errands e ON e.workstation_id = w.id"
	}
	total, err = db.list(ctx, l, &rows, q, p)
	return rows, total, err
}

// EndErrand ends an open errand; one that has ended already is a fault.NotFound.
func (db *DB) EndErrand(ctx context.Context, now time.Time, id int64, state errand.State, reason string) error {
	result, err := db.exec(ctx, `UPDATE errands SET state = ?, error = ?, ended = ? WHERE id = ? AND state IN ('waiting', 'running')`,
		state, reason, now.UTC(), id)
	return changed(result, err, "open errand", id)
}

func joined(kinds []errand.Kind) string {
	words := make([]string, len(kinds))
	for i, k := range kinds {
		words[i] = string(k)
	}
	return strings.Join(words, " or ")
}
