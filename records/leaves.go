package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"jugate/core/proof"
)

// The kinds of leaves.
const (
	leafReceipt = "receipt"
	leafArrival = "arrival"
	leafLine    = "line"
)

// A leaf's content is a line of JSON, made of what is on record in the same way whenever it is needed: a field
// that comes later is left out where it is empty. What is in a leaf is never changed.
type (
	receiptLeaf struct {
		Receipt       int64      `json:"receipt"`
		Delivery      int64      `json:"delivery"`
		WorkstationID int64      `json:"workstation_id"`
		Workstation   string     `json:"workstation"`
		Address       string     `json:"hardware_address"`
		Image         string     `json:"image"`
		Version       int        `json:"version"`
		Digest        string     `json:"digest"`
		Started       *time.Time `json:"started,omitempty"`
		Ended         time.Time  `json:"ended"`
		Multicast     int64      `json:"bytes_multicast"`
		Unicast       int64      `json:"bytes_unicast"`
		Verified      bool       `json:"verified"`
		Outcome       string     `json:"outcome"`
		Reason        string     `json:"reason,omitempty"`
		OrderedBy     string     `json:"ordered_by"`
		Unreadable    int64      `json:"unreadable_bytes,omitempty"`
		Drivers       string     `json:"drivers,omitempty"`
		Remark        string     `json:"remark,omitempty"`
		Kind          string     `json:"kind,omitempty"` // of another than a version
		Details       string     `json:"details,omitempty"`
		Machine       string     `json:"machine,omitempty"`
	}
	arrivalLeaf struct {
		Arrival int64           `json:"arrival"`
		Receipt int64           `json:"receipt"`
		Arrived time.Time       `json:"arrived"`
		Report  json.RawMessage `json:"report"`
		Remark  string          `json:"remark,omitempty"`
	}
	lineLeaf struct {
		Line      int64           `json:"line"`
		At        time.Time       `json:"at"`
		Who       string          `json:"who"`
		Kind      string          `json:"kind"`
		From      string          `json:"from"`
		Through   string          `json:"through"`
		Operation string          `json:"operation"`
		Subject   string          `json:"subject,omitempty"`
		Details   json.RawMessage `json:"details"`
		Changes   json.RawMessage `json:"changes,omitempty"`
	}
)

func (l *receiptLeaf) leaf() ([]byte, error) { return json.Marshal(l) }

func (r *Receipt) leaf() ([]byte, error) {
	return (&receiptLeaf{r.ID, r.DeliveryID, r.WorkstationID, r.Workstation, r.Address, r.Image, r.Version, r.Digest, timeOrNil(r.Started), r.Ended.UTC(), r.BytesMulticast, r.BytesUnicast,
		r.Verified, string(r.Outcome), r.Reason, r.OrderedBy, r.Unreadable, r.Drivers, r.Remark, otherThan(OfVersion, r.Kind), r.Details, r.MachineJS}).leaf()
}

// otherThan is a text, but nothing if it is the usual one.
func otherThan(usual, text string) string {
	if text == usual {
		return ""
	}
	return text
}

func timeOrNil(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	at := t.Time.UTC()
	return &at
}

func (l *Line) leaf() ([]byte, error) {
	return json.Marshal(lineLeaf{l.ID, l.At.UTC(), l.Who, l.Kind, l.From, l.Through, l.Operation, l.Subject, json.RawMessage(l.Details), json.RawMessage(l.Changes)})
}

// arrived is a report of a first start, as it is on record.
type arrived struct {
	Number  int64     `db:"number"`
	Receipt int64     `db:"receipt"`
	Arrived time.Time `db:"arrived"`
	Content string    `db:"content"`
	Remark  string    `db:"remark"`
}

func (a *arrived) leaf() ([]byte, error) {
	return json.Marshal(arrivalLeaf{a.Number, a.Receipt, a.Arrived.UTC(), json.RawMessage(a.Content), a.Remark})
}

// Hashes are those of the tree of records.
func (db *DB) Hashes(ctx context.Context) proof.Hashes { return hashes{ctx, db.read} }

// Leaves is how many leaves the tree of records has.
func (db *DB) Leaves(ctx context.Context) (size int64, err error) {
	err = db.read.GetContext(ctx, &size, "SELECT coalesce(max(n) + 1, 0) FROM leaves")
	return size, err
}

// LeafOf finds the leaf of a receipt: its number, and its content as it is on record now. A fault.NotFound says
// that there is none.
func (db *DB) LeafOf(ctx context.Context, r *Receipt) (n int64, content []byte, err error) {
	return db.leafOf(ctx, leafReceipt, r.ID, r)
}

// LeafOfReceipt is LeafOf of a receipt's number.
func (db *DB) LeafOfReceipt(ctx context.Context, id int64) (n int64, content []byte, err error) {
	r, err := db.Receipt(ctx, id)
	if err != nil {
		return 0, nil, err
	}
	return db.LeafOf(ctx, r)
}

// LeafOfLine finds the leaf of a line of the logbook.
func (db *DB) LeafOfLine(ctx context.Context, id int64) (n int64, content []byte, err error) {
	var l Line
	if err := missing(db.read.GetContext(ctx, &l, "SELECT * FROM logbook WHERE id = ?", id), "line of the logbook", id); err != nil {
		return 0, nil, err
	}
	return db.leafOf(ctx, leafLine, id, &l)
}

func (db *DB) leafOf(ctx context.Context, kind string, ref int64, leaf interface{ leaf() ([]byte, error) }) (n int64, content []byte, err error) {
	if content, err = leaf.leaf(); err != nil {
		return 0, nil, err
	}
	err = db.read.GetContext(ctx, &n, "SELECT n FROM leaves WHERE kind = ? AND ref = ?", kind, ref)
	return n, content, missing(err, "leaf of "+kind, ref)
}
