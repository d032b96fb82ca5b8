package records

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
	"golang.org/x/sync/errgroup"

	"jugate/core/proof"
)

// Checked is what going through all records found.
type Checked struct {
	Receipts, Arrivals, Lines int
	Forgotten                 int // lines whose time was over
	Leaves                    int64
}

// Check goes through all leaves and everything that is to be one, and compares each with what is on record, and
// the whole with the tree. The error names the first that was changed, removed or added.
func (db *DB) Check(ctx context.Context) (c Checked, err error) {
	tx, err := db.read.BeginTxx(ctx, nil) // one state of the records
	if err != nil {
		return c, err
	}
	defer tx.Rollback()
	k := &checking{ctx: ctx, tx: tx}
	if err := k.read(); err != nil {
		return c, err
	}
	for _, part := range []func() error{k.receipts, k.arrivals, k.lines, k.tree} {
		if err := part(); err != nil {
			return k.Checked, err
		}
	}
	return k.Checked, nil
}

// checking is one check.
type checking struct {
	Checked
	ctx    context.Context
	tx     *sqlx.Tx
	leaves map[string]map[int64]proof.Hash // by kind and ref, of those that were not met yet
	all    []proof.Hash
	until  int64 // lines up to this one may have been forgotten
}

func (k *checking) read() error {
	k.leaves = map[string]map[int64]proof.Hash{leafReceipt: {}, leafArrival: {}, leafLine: {}}
	type row struct {
		n, ref int64
		kind   string
		hash   []byte
	}
	err := each(k, "SELECT n, kind, ref, hash FROM leaves ORDER BY n", func(rows *sqlx.Rows, l *row) error { return rows.Scan(&l.n, &l.kind, &l.ref, &l.hash) }, func(l *row) error {
		if l.n != int64(len(k.all)) || len(l.hash) != len(proof.Hash{}) {
			return fmt.Errorf("leaf %d of the records is missing or damaged", len(k.all))
		}
		k.all = append(k.all, proof.Hash(l.hash))
		k.leaves[l.kind][l.ref] = proof.Hash(l.hash)
		return nil
	})
	k.Leaves = int64(len(k.all))
	return err
}

// meet compares one with its leaf; what says what it is.
func (k *checking) meet(kind string, ref int64, leaf interface{ leaf() ([]byte, error) }, what func() string) error {
	content, err := leaf.leaf()
	if err != nil {
		return fmt.Errorf("%s was changed: %w", what(), err)
	}
	hash, is := k.leaves[kind][ref]
	if !is {
		return fmt.Errorf("%s was added by somebody else: it is not a leaf", what())
	}
	if hash != proof.Leaf(content) {
		return fmt.Errorf("%s was changed", what())
	}
	delete(k.leaves[kind], ref)
	return nil
}

// rest says what was removed.
func (k *checking) rest(kind, what string) error {
	for ref := range k.leaves[kind] {
		return fmt.Errorf("%s %d was removed", what, ref)
	}
	return nil
}

// batch is how many rows are handed over at once.
const batch = 256

// each reads the rows of a query, and does something with each while the next are read.
func each[T any](k *checking, query string, scan func(*sqlx.Rows, *T) error, do func(*T) error) error {
	group, ctx := errgroup.WithContext(k.ctx)
	read := make(chan []T, 4)
	group.Go(func() error {
		defer close(read)
		rows, err := k.tx.QueryxContext(ctx, query)
		if err != nil {
			return err
		}
		defer rows.Close()
		hand := func(some []T) error {
			select {
			case read <- some:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		some := make([]T, 0, batch)
		for rows.Next() {
			var one T
			if err := scan(rows, &one); err != nil {
				return err
			}
			if some = append(some, one); len(some) == batch {
				if err := hand(some); err != nil {
					return err
				}
				some = make([]T, 0, batch)
			}
		}
		return errors.Join(rows.Err(), hand(some))
	})
	group.Go(func() error {
		for some := range read {
			for i := range some {
				if err := do(&some[i]); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return group.Wait()
}

func structScan[T any](rows *sqlx.Rows, one *T) error { return rows.StructScan(one) }

func (k *checking) receipts() error {
	err := each(k, `SELECT id, coalesce(delivery_id, 0), workstation_id, workstation, hardware_address, image, version, digest, started, ended, bytes_multicast, bytes_unicast, verified, outcome, reason, ordered_by,
		unreadable_bytes, drivers, remark, kind, details, machine FROM receipts ORDER BY id`,
		func(rows *sqlx.Rows, r *Receipt) error { // by hand, as there are many
			return rows.Scan(&r.ID, &r.DeliveryID, &r.WorkstationID, &r.Workstation, &r.Address, &r.Image, &r.Version, &r.Digest, &r.Started, &r.Ended, &r.BytesMulticast, &r.BytesUnicast, &r.Verified, &r.Outcome, &r.Reason, &r.OrderedBy,
				&r.Unreadable, &r.Drivers, &r.Remark, &r.Kind, &r.Details, &r.MachineJS)
		},
		func(r *Receipt) error {
			k.Receipts++
			return k.meet(leafReceipt, r.ID, r, func() string { return fmt.Sprintf("receipt %d (%s, %s@%d)", r.ID, r.Workstation, r.Image, r.Version) })
		})
	return cmp.Or(err, k.rest(leafReceipt, "receipt"))
}

const arrivedFrom = `SELECT a.number, r.id AS receipt, a.arrived, a.content, a.remark FROM arrivals a
	JOIN receipts r ON r.delivery_id = a.delivery_id AND r.workstation_id = a.workstation_id WHERE a.number IS NOT NULL`

func (k *checking) arrivals() error {
	err := each(k, arrivedFrom+" ORDER BY a.number", structScan, func(a *arrived) error {
		k.Arrivals++
		return k.meet(leafArrival, a.Number, a, func() string { return fmt.Sprintf("the arrival of receipt %d", a.Receipt) })
	})
	return cmp.Or(err, k.rest(leafArrival, "arrival"))
}

func (k *checking) lines() error {
	err := each(k, "SELECT * FROM logbook ORDER BY id", structScan, func(l *Line) error {
		k.Lines++
		k.until = max(k.until, l.forgets())
		return k.meet(leafLine, l.ID, l, func() string { return fmt.Sprintf("line %d of the logbook", l.ID) })
	})
	for ref := range k.leaves[leafLine] { // which their keeping has ended, as a line says that is still there
		if ref <= k.until {
			delete(k.leaves[leafLine], ref)
			k.Forgotten++
		}
	}
	return cmp.Or(err, k.rest(leafLine, "line of the logbook"))
}

// tree compares the hashes of leaves with those of the tree.
func (k *checking) tree() error {
	var kept int64
	if err := k.tx.GetContext(k.ctx, &kept, "SELECT coalesce(max(i) + 1, 0) FROM hashes"); err != nil {
		return err
	}
	if kept != proof.First(k.Leaves) {
		return fmt.Errorf("the tree of the records is not that of their leaves: there were more, or fewer, than %d", k.Leaves)
	}
	if k.Leaves == 0 {
		return nil
	}
	is, err := proof.Root(hashes{k.ctx, k.tx}, k.Leaves)
	if err != nil {
		return err
	}
	root, err := proof.RootOf(k.all)
	if err == nil && root != is {
		err = errors.New("the tree of the records is not that of their leaves: it was changed")
	}
	return err
}
