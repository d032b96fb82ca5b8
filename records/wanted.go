package records

import (
	"context"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"jugate/core/roster"
)

// wantedRef is NAME@VERSION of what a group g should have; NULL if there is no such version. The newest is the newest that is not retired.
const wantedRef = `g.image || '@' || iif(g.version > 0, g.version, (SELECT max(v.number) FROM versions v JOIN images i ON i.id = v.image_id WHERE i.name = g.image AND v.retired IS NULL))`

// behindCount is a column of a group g: how many of its workstations do not have what it should have.
const behindCount = `iif(g.image = '' OR ` + wantedRef + ` IS NULL, 0, (SELECT count(*) FROM group_members m JOIN workstations w ON w.id = m.workstation_id
	WHERE m.group_id = g.id AND w.state <> 'retired' AND ` + onDisk + ` <> ` + wantedRef + `))`

// Wanted are the versions that its groups say it should have; more than one if they do not agree.
func (w *Workstation) Wanted() (all []roster.Ref) {
	for text := range strings.FieldsSeq(w.GroupList) { // a group that wants something is NAME=IMAGE@VERSION
		_, wants, _ := strings.Cut(text, "=")
		if ref, err := roster.ParseRef(wants); err == nil && ref.Version > 0 && !slices.Contains(all, ref) {
			all = append(all, ref)
		}
	}
	return all
}

// Behind tells whether it does not have what one of its groups says that it should have.
func (w *Workstation) Behind() bool {
	if roster.MustBeAdmitted("", w.State) != nil {
		return false
	}
	for _, want := range w.Wanted() {
		if want.String() != w.OnDisk { // of an unfinished copy it is another
			return true
		}
	}
	return false
}

// SetGroupImage says what the workstations of a group should have: a version, or the newest if ref has no number; the zero value
// says nothing.
func (db *DB) SetGroupImage(ctx context.Context, group string, ref roster.Ref) error {
	result, err := db.exec(ctx, `UPDATE groups SET image = ?, version = ? WHERE name = ?`, ref.Image, ref.Version, group)
	return changed(result, err, "group", group)
}

// OrdersWhenBehind are the orders that run by themselves for workstations that are behind.
func (db *DB) OrdersWhenBehind(ctx context.Context) (rows []Order, err error) {
	return rows, db.read.SelectContext(ctx, &rows, `SELECT * FROM orders WHERE when_behind ORDER BY name`)
}

// LastTried is the version that an order has brought a workstation by itself; empty if none, since the order was saved last.
func (db *DB) LastTried(ctx context.Context, order, workstation int64) (version string, err error) {
	return version, db.read.GetContext(ctx, &version, `SELECT coalesce((SELECT version FROM tried WHERE order_id = ? AND workstation_id = ?), '')`, order, workstation)
}

// Tried is what an order brings a workstation by itself.
type Tried struct {
	Order, Workstation int64
	Version            string // NAME@VERSION
}

// SetTried notes that an order brings a workstation a version by itself.
func (db *DB) SetTried(ctx context.Context, t Tried) error {
	return db.change(ctx, func(tx *sqlx.Tx) error { return setTried(ctx, tx, t) })
}

func setTried(ctx context.Context, tx *sqlx.Tx, t Tried) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO tried (order_id, workstation_id, version) VALUES (?, ?, ?) ON CONFLICT (order_id, workstation_id) DO UPDATE SET version = excluded.version`, t.Order, t.Workstation, t.Version)
	return err
}
