package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"jugate/core/delivery"
)

// Delivery is one order to bring a version to a set of workstations.
type Delivery struct {
	ID        int64          `db:"id"`
	Image     string         `db:"image"`
	Version   int            `db:"version"`
	Digest    string         `db:"digest"`
	TargetsJS string         `db:"targets"` // see Targets
	Rule      string         `db:"rule"`
	Rate      int64          `db:"rate"`       // bits a second
	Channel   string         `db:"group_addr"` // multicast address and port
	Session   uint32         `db:"session"`
	State     delivery.State `db:"state"`
	Reason    string         `db:"reason"`
	OrderedBy string         `db:"ordered_by"`
	Created   time.Time      `db:"created"`
	Started   sql.NullTime   `db:"started"`
	Ended     sql.NullTime   `db:"ended"`
	UsedBytes int64          `db:"used_bytes"`
	WireBytes int64          `db:"wire_bytes"`
	Reused    int64          `db:"reused_bytes"`
	Options   string         `db:"options"` // JSON: how the image is to lie on disks

	WaitAtMost int64  `db:"wait_at_most"` // seconds
	WhenDone   string `db:"when_done"`
	Reuse      bool   `db:"reuse"`
	Sealed     bool   `db:"sealed"`
	SealKey    []byte `db:"seal_key"` // until it is over
	Aside      string `db:"aside"`    // JSON: who is set aside
	Paused     bool   `db:"paused"`
	Drivers    string `db:"drivers"`     // JSON: which drivers go into the delivered system
	Answers    string `db:"answers"`     // set, or none
	DomainAway string `db:"domain_away"` // refuse, wait or go-on
	PayloadsJS string `db:"payloads"`    // see Payloads
	OwnJS      string `db:"own_answers"` // see OwnAnswers
	CarriedBy  string `db:"carried_by"`  // the outpost whose media carry it; empty for most

	// NotBefore is when its workstations get their errands, if not at once; it is kept
	// with those.
	NotBefore time.Time `db:"-"`
	Members   int       `db:"members"`   // workstations that it goes to
	Delivered int       `db:"delivered"` // of them, those it has reached
}

// DeliveryChange is something that was done to a delivery.
type DeliveryChange struct {
	At   time.Time `db:"at"`
	By   string    `db:"done_by"`
	What string    `db:"what"`
}

const deliveryColumns = `d.id, d.image, d.version, d.digest, d.targets, d.rule, d.rate, d.group_addr, d.session, d.state, d.reason, d.ordered_by, d.created, d.started, d.ended, d.used_bytes, d.wire_bytes, d.reused_bytes, d.options,
	d.wait_at_most, d.when_done, d.reuse, d.sealed, d.seal_key, d.aside, d.paused, d.drivers, d.answers, d.domain_away, d.payloads, d.own_answers, d.carried_by, d.members, d.delivered`

// AddDelivery records an order and an errand for each workstation, and returns
// the delivery's number.
func (db *DB) AddDelivery(ctx context.Context, d Delivery, targets []string, workstations []int64) (int64, error) {
	d.TargetsJS, d.Created = encode(targets), d.Created.UTC()
	var id int64
	err := db.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO deliveries (image, version, digest, targets, rule, rate, group_addr, session, state, ordered_by, created, used_bytes, options, wait_at_most, when_done, reuse, sealed, seal_key, aside, drivers, answers, domain_away, payloads, own_answers, carried_by)
			VALUES (:image, :version, :digest, :targets, :rule, :rate, :group_addr, :session, 'gathering', :ordered_by, :created, :used_bytes, :options, :wait_at_most, :when_done, :reuse, :sealed, :seal_key, :aside, :drivers, :answers, :domain_away, :payloads, :own_answers, :carried_by)`, d)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		d.ID = id
		if run, number := part(ctx); run.Valid {
			if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET run_id = ?, run_part = ? WHERE id = ?`, run, number, id); err != nil {
				return err
			}
		}
		return addReceiveErrands(ctx, tx, d, d.Created, workstations)
	})
	return id, err
}

func addReceiveErrands(ctx context.Context, tx *sqlx.Tx, d Delivery, now time.Time, workstations []int64) error {
	for _, w := range workstations {
		if _, err := tx.ExecContext(ctx, `INSERT INTO errands (workstation_id, kind, state, image, version, note, delivery_id, created, not_before) VALUES (?, 'receive', 'waiting', ?, ?, '', ?, ?, ?)`,
			w, d.Image, d.Version, d.ID, now.UTC(), sql.NullTime{Time: d.NotBefore.UTC(), Valid: !d.NotBefore.IsZero()}); err != nil {
			return err
		}
	}
	return nil
}

// ExtendDelivery adds workstations to a delivery: names are those of the order,
// workstations those among them that are not in it yet.
func (db *DB) ExtendDelivery(ctx context.Context, now time.Time, d Delivery, names []string, workstations []int64) error {
	targets := encode(append(d.Targets(), names...))
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET targets = ? WHERE id = ?`, targets, d.ID); err != nil {
			return err
		}
		return addReceiveErrands(ctx, tx, d, now, workstations)
	})
}

// SetRate records a delivery's rate, in bits a second.
func (db *DB) SetRate(ctx context.Context, id, rate int64) error {
	result, err := db.exec(ctx, `UPDATE deliveries SET rate = ? WHERE id = ?`, rate, id)
	return changed(result, err, "delivery", id)
}

// SetReused records what workstations had on their disks already, in bytes of the image.
func (db *DB) SetReused(ctx context.Context, id, reused int64) error {
	result, err := db.exec(ctx, `UPDATE deliveries SET reused_bytes = ? WHERE id = ?`, reused, id)
	return changed(result, err, "delivery", id)
}

// SetPaused records whether a delivery is paused.
func (db *DB) SetPaused(ctx context.Context, id int64, paused bool) error {
	result, err := db.exec(ctx, `UPDATE deliveries SET paused = ? WHERE id = ?`, paused, id)
	return changed(result, err, "delivery", id)
}

// AddDeliveryChange notes what was done to a delivery.
func (db *DB) AddDeliveryChange(ctx context.Context, id int64, c DeliveryChange) error {
	_, err := db.exec(ctx, addChange, id, c.At.UTC(), c.By, c.What)
	return err
}

const addChange = `INSERT INTO delivery_changes (delivery_id, at, done_by, what) VALUES (?, ?, ?, ?)`

// DeliveryChanges lists what was done to a delivery, in order.
func (db *DB) DeliveryChanges(ctx context.Context, id int64) (changes []DeliveryChange, err error) {
	err = db.read.SelectContext(ctx, &changes, `SELECT at, done_by, what FROM delivery_changes WHERE delivery_id = ? ORDER BY id`, id)
	return changes, err
}

// Delivery returns the delivery with that number.
func (db *DB) Delivery(ctx context.Context, id int64) (*Delivery, error) {
	var d Delivery
	err := db.read.GetContext(ctx, &d, "SELECT "+deliveryColumns+" FROM deliveries d WHERE d.id = ?", id)
	return &d, missing(err, "delivery", id)
}

// Deliveries lists, the newest first; sortable by created, state and image.
// With open, only those that are not over.
func (db *DB) Deliveries(ctx context.Context, open bool, p Page) ([]Delivery, int, error) {
	var q query
	if open {
		q.and("d.state NOT IN (?, ?)", delivery.Finished, delivery.Stopped)
	}
	q.search(p.Search, []string{"d.image", "d.targets"})
	var rows []Delivery
	total, err := db.list(ctx, listing{columns: deliveryColumns, from: "deliveries d", key: "d.id", order: "d.id DESC",
		fields: map[string]string{"created": "d.created", "state": "d.state", "image": "d.image"}}, &rows, q, p)
	return rows, total, err
}

// DeliveryMembers returns the workstations of a delivery, by name.
func (db *DB) DeliveryMembers(ctx context.Context, id int64) (rows []Workstation, err error) {
	err = db.read.SelectContext(ctx, &rows, "SELECT "+workstationColumns+" FROM errands e JOIN workstations w ON w.id = e.workstation_id WHERE e.delivery_id = ? ORDER BY w.name", id)
	return rows, err
}

// SetDelivery records how far a delivery is; started and ended are set once.
func (db *DB) SetDelivery(ctx context.Context, now time.Time, id int64, state delivery.State, reason string, wireBytes int64) error {
	var started, ended sql.NullTime
	if state != delivery.Gathering && wireBytes > 0 || state == delivery.Sending {
		started = sql.NullTime{Time: now.UTC(), Valid: true}
	}
	if state.Over() {
		ended = sql.NullTime{Time: now.UTC(), Valid: true}
	}
	result, err := db.exec(ctx, `UPDATE deliveries SET state = ?, reason = ?, wire_bytes = ?, started = coalesce(started, ?), ended = coalesce(ended, ?),
		seal_key = CASE WHEN ? THEN NULL ELSE seal_key END WHERE id = ?`,
		state, reason, wireBytes, started, ended, state.Over(), id)
	if err := changed(result, err, "delivery", id); err != nil || !state.Over() {
		return err
	}
	// The key of a sealed delivery is still in the log; that goes where nobody reads it
	// just now, or at a later end.
	_, err = db.exec(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	return err
}
