package records

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/api"
	"jugate/core/order"
)

// Order is work that was prepared.
type Order struct {
	ID       int64        `db:"id"`
	Name     string       `db:"name"`
	Content  string       `db:"content"` // see Order
	Saved    time.Time    `db:"saved"`
	SavedBy  string       `db:"saved_by"`
	PersonID int64        `db:"person_id"` // whose rights count when it runs by itself; 0 for the key of last resort
	Due      sql.NullTime `db:"due"`       // when it runs by itself next
	Behind   bool         `db:"when_behind"`
}

// Order is what it does.
func (o *Order) Order() (api.Order, error) {
	return decode[api.Order]("the order "+o.Name, o.Content)
}

// PutOrder keeps an order; one of the same name is replaced.
func (db *DB) PutOrder(ctx context.Context, o Order, in api.Order) error {
	o.Name, o.Content, o.Saved = in.Name, encode(in), o.Saved.UTC()
	o.Due.Time, o.Behind = o.Due.Time.UTC(), in.WhenBehind
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO orders (name, content, saved, saved_by, person_id, due, when_behind) VALUES (:name, :content, :saved, :saved_by, :person_id, :due, :when_behind)
			ON CONFLICT (name) DO UPDATE SET name = :name, content = :content, saved = :saved, saved_by = :saved_by, person_id = :person_id, due = :due, when_behind = :when_behind`, o); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM tried WHERE order_id = (SELECT id FROM orders WHERE name = ?)`, o.Name) // it may be tried again
		return err
	})
}

// Orders lists; sortable by name, saved and due.
func (db *DB) Orders(ctx context.Context, p Page) (rows []Order, total int, err error) {
	var q query
	q.search(p.Search, []string{"o.name", "o.content"})
	total, err = db.list(ctx, listing{columns: "o.*", from: "orders o", key: "o.id", order: "o.name", fields: map[string]string{"name": "o.name", "saved": "o.saved", "due": "o.due"}}, &rows, q, p)
	return rows, total, err
}

// Order is the one of that name.
func (db *DB) Order(ctx context.Context, name string) (*Order, error) {
	var o Order
	err := db.read.GetContext(ctx, &o, `SELECT * FROM orders WHERE name = ?`, name)
	return &o, missing(err, "order", name)
}

// RemoveOrder forgets an order; its runs stay.
func (db *DB) RemoveOrder(ctx context.Context, name string) error {
	result, err := db.exec(ctx, `DELETE FROM orders WHERE name = ?`, name)
	return changed(result, err, "order", name)
}

// DueOrders are those whose time has come.
func (db *DB) DueOrders(ctx context.Context, now time.Time) (rows []Order, err error) {
	return rows, db.read.SelectContext(ctx, &rows, `SELECT * FROM orders WHERE due <= ? ORDER BY due, id`, now.UTC())
}

// NextDue is when the first order runs by itself; false if none does.
func (db *DB) NextDue(ctx context.Context) (time.Time, bool, error) {
	var due []time.Time
	err := db.read.SelectContext(ctx, &due, `SELECT due FROM orders WHERE due IS NOT NULL ORDER BY due LIMIT 1`)
	if err != nil || len(due) == 0 {
		return time.Time{}, false, err
	}
	return due[0], true, nil
}

// Run is one execution of an order.
type Run struct {
	ID        int64        `db:"id"`
	Name      string       `db:"name"` // of the order
	Content   string       `db:"content"`
	State     order.State  `db:"state"`
	Reason    string       `db:"reason"`
	OrderedBy string       `db:"ordered_by"`
	PersonID  int64        `db:"person_id"` // whose rights count; 0 for every right
	Began     time.Time    `db:"began"`
	Ended     sql.NullTime `db:"ended"`

	OnlyIDs   string        `db:"only_ids"`  // see Only
	Continues sql.NullInt64 `db:"continues"` // the run that failed for those
	Attempt   int           `db:"attempt"`   // how often it was tried with this one

	WereOnIDs string `db:"were_on"` // see WereOn

	Unasked *Tried `db:"-"` // what is noted when it begins; nil if somebody or a schedule has asked for it
}

// Only are the numbers of the workstations that it is for; nil for all of its order.
func (r *Run) Only() ([]int64, error) {
	return decode[[]int64](fmt.Sprintf("whom run %d is for", r.ID), r.OnlyIDs)
}

// SetOnly has it be for some workstations of its order.
func (r *Run) SetOnly(ids []int64) { r.OnlyIDs = encode(ids) }

// WereOn are the numbers of the workstations that were on when it began; nil if nobody asked.
func (r *Run) WereOn() ([]int64, error) {
	return decode[[]int64](fmt.Sprintf("who was on when run %d began", r.ID), r.WereOnIDs)
}

// SetWereOn keeps them.
func (r *Run) SetWereOn(ids []int64) { r.WereOnIDs = encode(ids) }

// Order is the order as it was when the run began.
func (r *Run) Order() (api.Order, error) {
	return decode[api.Order](fmt.Sprintf("the order of run %d", r.ID), r.Content)
}

// RunPart is a part of a run.
type RunPart struct {
	Run    int64        `db:"run_id"`
	Number int          `db:"number"` // from 0
	Work   order.Work   `db:"work"`
	State  order.State  `db:"state"`
	Reason string       `db:"reason"`
	Began  sql.NullTime `db:"began"`
	Ended  sql.NullTime `db:"ended"`

	LeftOutJS string `db:"left_out"` // see LeftOut
}

// LeftOut are the workstations that it took out.
func (p *RunPart) LeftOut() ([]api.LeftOut, error) {
	return decode[[]api.LeftOut](fmt.Sprintf("whom part %d of run %d took out", p.Number, p.Run), p.LeftOutJS)
}

// SetLeftOut says whom it takes out.
func (p *RunPart) SetLeftOut(all []api.LeftOut) { p.LeftOutJS = encode(all) }

// BeginRun records a run with its parts, and when its order runs by itself next, if that changes.
func (db *DB) BeginRun(ctx context.Context, r Run, in api.Order, parts []RunPart, due *sql.NullTime) (id int64, err error) {
	r.Content, r.Began, r.Ended.Time, r.Attempt = encode(in), r.Began.UTC(), r.Ended.Time.UTC(), max(r.Attempt, 1)
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		if due != nil {
			if _, err := tx.ExecContext(ctx, `UPDATE orders SET due = ? WHERE name = ?`, sql.NullTime{Time: due.Time.UTC(), Valid: due.Valid}, r.Name); err != nil {
				return err
			}
		}
		if r.Unasked != nil {
			if err := setTried(ctx, tx, *r.Unasked); err != nil {
				return err
			}
		}
		result, err := tx.NamedExecContext(ctx, `INSERT INTO runs (name, content, state, reason, ordered_by, person_id, began, ended, only_ids, continues, attempt, were_on)
			VALUES (:name, :content, :state, :reason, :ordered_by, :person_id, :began, :ended, :only_ids, :continues, :attempt, :were_on)`, r)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		for i, p := range parts {
			if _, err := tx.ExecContext(ctx, `INSERT INTO run_parts (run_id, number, work, state) VALUES (?, ?, ?, ?)`, id, i, p.Work, p.State); err != nil {
				return err
			}
		}
		return nil
	})
	return id, err
}

// SetRunPart records how far a part of a run is.
func (db *DB) SetRunPart(ctx context.Context, p RunPart) error {
	p.Began.Time, p.Ended.Time = p.Began.Time.UTC(), p.Ended.Time.UTC()
	result, err := db.exec(ctx, `UPDATE run_parts SET state = ?, reason = ?, began = ?, ended = ?, left_out = ? WHERE run_id = ? AND number = ?`, p.State, p.Reason, p.Began, p.Ended, p.LeftOutJS, p.Run, p.Number)
	return changed(result, err, "part of the run", p.Number)
}

// SetRunOnly has a run be for some workstations of its order.
func (db *DB) SetRunOnly(ctx context.Context, run int64, ids []int64) error {
	result, err := db.exec(ctx, `UPDATE runs SET only_ids = ? WHERE id = ?`, encode(ids), run)
	return changed(result, err, "run", run)
}

// EndRun records how a run has ended.
func (db *DB) EndRun(ctx context.Context, now time.Time, id int64, state order.State, reason string) error {
	_, err := db.exec(ctx, `UPDATE runs SET state = ?, reason = ?, ended = ? WHERE id = ? AND ended IS NULL`, state, reason, now.UTC(), id)
	return err
}

// RunFilter narrows a list of runs; empty fields narrow nothing.
type RunFilter struct {
	Order  string
	Open   bool
	Within []string // of orders of these names; nil narrows nothing
}

// Runs lists runs, the newest first; sortable by began and order.
func (db *DB) Runs(ctx context.Context, f RunFilter, p Page) (rows []Run, total int, err error) {
	var q query
	if f.Order != "" {
		q.and("r.name = ?", f.Order)
	}
	if f.Within != nil {
		q.and("r.name COLLATE NOCASE IN (SELECT value FROM json_each(?))", encode(f.Within))
	}
	if f.Open {
		q.and("r.ended IS NULL")
	}
	total, err = db.list(ctx, listing{columns: "r.*", from: "runs r", key: "r.id", order: "r.id DESC", fields: map[string]string{"began": "r.began", "order": "r.name"}}, &rows, q, p)
	return rows, total, err
}

// Run is the one of that number.
func (db *DB) Run(ctx context.Context, id int64) (*Run, error) {
	var r Run
	err := db.read.GetContext(ctx, &r, `SELECT * FROM runs WHERE id = ?`, id)
	return &r, missing(err, "run", id)
}

// RunAfter is the number of the run that goes on for one; 0 if none does.
func (db *DB) RunAfter(ctx context.Context, id int64) (after int64, err error) {
	return after, db.read.GetContext(ctx, &after, `SELECT coalesce((SELECT max(id) FROM runs WHERE continues = ?), 0)`, id)
}

// RunParts are the parts of a run, in their order.
func (db *DB) RunParts(ctx context.Context, run int64) (parts []RunPart, err error) {
	return parts, db.read.SelectContext(ctx, &parts, `SELECT * FROM run_parts WHERE run_id = ? ORDER BY number`, run)
}

// PartOfRun says what a delivery or errand is a part of.
type PartOfRun struct {
	Run  int64
	Part int
}

type partKey struct{}

// WithPart has deliveries and errands that are recorded with the context be a part of a run.
func WithPart(ctx context.Context, p PartOfRun) context.Context {
	return context.WithValue(ctx, partKey{}, p)
}

// part is what is recorded of that.
func part(ctx context.Context) (run, number sql.NullInt64) {
	p, is := ctx.Value(partKey{}).(PartOfRun)
	return sql.NullInt64{Int64: p.Run, Valid: is}, sql.NullInt64{Int64: int64(p.Part), Valid: is}
}

// Of are the deliveries and errands of a part of a run; errands of deliveries are not among them.
func (db *DB) Of(ctx context.Context, p PartOfRun) (deliveries, errands []int64, err error) {
	if err := db.read.SelectContext(ctx, &deliveries, `SELECT id FROM deliveries WHERE run_id = ? AND run_part = ? ORDER BY id`, p.Run, p.Part); err != nil {
		return nil, nil, err
	}
	return deliveries, errands, db.read.SelectContext(ctx, &errands, `SELECT id FROM errands WHERE run_id = ? AND run_part = ? ORDER BY id`, p.Run, p.Part)
}

// DeliveriesOf are the deliveries that a run has made.
func (db *DB) DeliveriesOf(ctx context.Context, run int64) (rows []Delivery, err error) {
	return rows, db.read.SelectContext(ctx, &rows, "SELECT "+deliveryColumns+" FROM deliveries d WHERE d.run_id = ? ORDER BY d.id", run)
}
