package records

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"jugate/api"
	"jugate/core/errand"
	"jugate/core/roster"
	"jugate/core/wipe"

	"github.com/jmoiron/sqlx"

	"jugate/core/delivery"
)

// Receipt is the lasting record that a workstation got, or did not get, a
// version. Receipts are leaves of the tree of records, so that a change or a gap shows.
type Receipt struct {
	ID             int64            `db:"id"`
	DeliveryID     int64            `db:"delivery_id"`
	WorkstationID  int64            `db:"workstation_id"`
	Workstation    string           `db:"workstation"`
	Address        string           `db:"hardware_address"`
	Image          string           `db:"image"`
	Version        int              `db:"version"`
	Digest         string           `db:"digest"`
	Started        sql.NullTime     `db:"started"` // when it joined the stream
	Ended          time.Time        `db:"ended"`
	BytesMulticast int64            `db:"bytes_multicast"`
	BytesUnicast   int64            `db:"bytes_unicast"`
	Verified       bool             `db:"verified"`
	Outcome        delivery.Outcome `db:"outcome"`
	Reason         string           `db:"reason"`
	OrderedBy      string           `db:"ordered_by"`
	Unreadable     int64            `db:"unreadable_bytes"` // of the golden disk; zeros on this one
	Drivers        string           `db:"drivers"`          // JSON: the packages that were put in
	Remark         string           `db:"remark"`           // what else there is to say of the disk
	Kind           string           `db:"kind"`             // of what it is: OfVersion or OfWipe
	Details        string           `db:"details"`          // JSON: of a wipe, see Wipe, or of one partition alone, see Part
	MachineJS      string           `db:"machine"`          // see Machine
	// These are of the first start of the copy; ArrivalIssued is null if none is awaited.
	ArrivalIssued sql.NullTime `db:"arrival_issued"`
	Arrived       sql.NullTime `db:"arrived"`
	ArrivalText   string       `db:"arrival_content"` // see ArrivalReport
	ArrivalRemark string       `db:"arrival_remark"`  // what is odd about it

	ErrandID int64 `db:"-"` // that ends with the receipt of a wipe
}

// What receipts are of.
const (
	OfVersion = "version"
	OfWipe    = "wipe"
)

// Wipe says how a disk was wiped.
func (r *Receipt) Wipe() (wipe.Report, error) {
	return decode[wipe.Report](fmt.Sprintf("how the disk of receipt %d was wiped", r.ID), r.Details)
}

// SetWipe keeps how a disk was wiped.
func (r *Receipt) SetWipe(report wipe.Report) { r.Kind, r.Details = OfWipe, encode(report) }

// onePart is what the details say of one partition of a version.
type onePart struct {
	Partition int `json:"partition"`
}

// SetPart notes that just one partition of a version came.
func (r *Receipt) SetPart(number int) { r.Details = encode(onePart{number}) }

// Part is the partition of a version that came alone; 0 for all of it.
func (r *Receipt) Part() int {
	if r.Kind != OfVersion || r.Details == "" {
		return 0
	}
	p, _ := decode[onePart]("", r.Details)
	return p.Partition
}

// ArrivalReport is what the copy's system told when it started first.
func (r *Receipt) ArrivalReport() api.ArrivalReport {
	report, _ := decode[api.ArrivalReport]("", r.ArrivalText)
	return report
}

const receiptColumns = `r.id, coalesce(r.delivery_id, 0) AS delivery_id, r.workstation_id, r.workstation, r.hardware_address, r.image, r.version, r.digest, r.started, r.ended, r.bytes_multicast, r.bytes_unicast, r.verified, r.outcome, r.reason, r.ordered_by, r.unreadable_bytes, r.drivers, r.remark, r.kind, r.details, r.machine,
	a.issued AS arrival_issued, a.arrived, coalesce(a.content, '') AS arrival_content, coalesce(a.remark, '') AS arrival_remark`

const receiptFrom = `receipts r LEFT JOIN arrivals a ON a.delivery_id = r.delivery_id AND a.workstation_id = r.workstation_id`

// AddReceipt writes a receipt behind the last one and ends the workstation's
// errand, both or neither, and returns it as it is then. The delivery and the workstation
// can have one only.
func (db *DB) AddReceipt(ctx context.Context, r Receipt) (Receipt, error) {
	written, err := db.AddReceipts(ctx, []Receipt{r})
	if err != nil {
		return r, err
	}
	return written[0], nil
}

// AddReceipts writes several, one behind the other, all or none.
func (db *DB) AddReceipts(ctx context.Context, receipts []Receipt) ([]Receipt, error) {
	receipts = slices.Clone(receipts)
	err := db.change(ctx, func(tx *sqlx.Tx) error { return addReceipts(ctx, tx, receipts) })
	return receipts, err
}

// addReceipts adds receipts, and gives them their numbers.
func addReceipts(ctx context.Context, tx *sqlx.Tx, receipts []Receipt) error {
	g, err := grow(ctx, tx)
	if err != nil {
		return err
	}
	var last int64
	if err := tx.GetContext(ctx, &last, `SELECT coalesce(max(id), 0) FROM receipts`); err != nil {
		return err
	}
	for i := range receipts {
		last++
		receipts[i].ID = last
		if err := addReceipt(ctx, g, &receipts[i]); err != nil {
			return err
		}
	}
	return g.flush()
}

func addReceipt(ctx context.Context, g *growing, r *Receipt) (err error) {
	r.Ended = r.Ended.UTC().Truncate(time.Millisecond)
	r.Started.Time = r.Started.Time.UTC().Truncate(time.Millisecond)
	if r.Kind == "" {
		r.Kind = OfVersion
	}
	if _, err := g.tx.NamedExecContext(ctx, `INSERT INTO receipts VALUES (:id, nullif(:delivery_id, 0), :workstation_id, :workstation, :hardware_address, :image, :version, :digest,
		:started, :ended, :bytes_multicast, :bytes_unicast, :verified, :outcome, :reason, :ordered_by, :unreadable_bytes, :drivers, :remark, :kind, :details, :machine)`, r); err != nil {
		return err
	}
	if err := g.add(leafReceipt, r.ID, r); err != nil {
		return err
	}
	state := map[delivery.Outcome]errand.State{delivery.Delivered: errand.Done, delivery.Wiped: errand.Done, delivery.Failed: errand.Failed}[r.Outcome]
	if state == "" {
		state = errand.Stopped
	}
	_, err = g.tx.ExecContext(ctx, `UPDATE errands SET state = ?, error = ?, ended = ? WHERE (delivery_id = ? AND workstation_id = ? OR id = ?) AND state IN ('waiting', 'running')`,
		state, r.Reason, r.Ended, r.DeliveryID, r.WorkstationID, r.ErrandID)
	return err
}

// ReceiptFilter narrows a list of receipts; empty fields narrow nothing.
type ReceiptFilter struct {
	DeliveryID    int64
	Workstation   string // name at the time
	WorkstationID int64
	Image         string
	Outcome       delivery.Outcome
	Since, Until  time.Time // when they ended; zero narrows nothing
}

// Receipt returns the receipt of a number. It returns fault.NotFound if there is none.
func (db *DB) Receipt(ctx context.Context, id int64) (*Receipt, error) {
	var r Receipt
	err := db.read.GetContext(ctx, &r, "SELECT "+receiptColumns+" FROM "+receiptFrom+" WHERE r.id = ?", id)
	return &r, missing(err, "receipt", id)
}

// Receipts lists, the newest first; sortable by ended, workstation, image and outcome.
func (db *DB) Receipts(ctx context.Context, f ReceiptFilter, p Page) ([]Receipt, int, error) {
	var q query
	if f.DeliveryID != 0 {
		q.and("r.delivery_id = ?", f.DeliveryID)
	}
	if f.Workstation != "" {
		q.and("r.workstation = ? COLLATE NOCASE", f.Workstation)
	}
	if f.WorkstationID != 0 {
		q.and("r.workstation_id = ?", f.WorkstationID)
	}
	if f.Image != "" {
		q.and("r.image = ?", f.Image)
	}
	if f.Outcome != "" {
		q.and("r.outcome = ?", f.Outcome)
	}
	if !f.Since.IsZero() {
		q.and("r.ended >= ?", f.Since.UTC())
	}
	if !f.Until.IsZero() {
		q.and("r.ended < ?", f.Until.UTC())
	}
	if utf8.RuneCountInString(p.Search) >= 3 { // what the index of texts has
		q.and("r.id IN (SELECT rowid FROM receipts_text WHERE receipts_text MATCH ?)", `"`+strings.ReplaceAll(p.Search, `"`, `""`)+`"`)
		q.searched = true
	} else {
		q.search(p.Search, []string{"r.workstation", "r.hardware_address", "r.image", "r.reason"})
	}
	l := listing{columns: receiptColumns, from: receiptFrom, choose: "receipts r", key: "r.id", order: "r.id DESC",
		fields: map[string]string{"ended": "r.ended", "workstation": "r.workstation COLLATE NOCASE", "image": "r.image", "outcome": "r.outcome"}}
	if f == (ReceiptFilter{Outcome: f.Outcome}) && f.Outcome != "" && p.Search == "" {
		l.total = "SELECT coalesce((SELECT n FROM receipt_counts WHERE outcome = ?), 0)"
	}
	var rows []Receipt
	total, err := db.list(ctx, l, &rows, q, p)
	return rows, total, err
}

// ReceiptsAfter are the next receipts after one, in the order of their numbers, that ended in a period; a zero time
// bounds nothing.
func (db *DB) ReceiptsAfter(ctx context.Context, after int64, since, until time.Time, limit int) (rows []Receipt, err error) {
	if until.IsZero() {
		until = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	err = db.read.SelectContext(ctx, &rows, "SELECT "+receiptColumns+" FROM "+receiptFrom+" WHERE r.id > ? AND r.ended >= ? AND r.ended < ? ORDER BY r.id LIMIT ?", after, since.UTC(), until.UTC(), limit)
	return rows, err
}

// SecondsPerWorkstation is how long a workstation takes from the start of a stream until its
// disk is checked, for an image of so many bytes in use, by the latest receipts; from tells
// how many there are.
func (db *DB) SecondsPerWorkstation(ctx context.Context, usedBytes int64) (seconds float64, from int, err error) {
	var rows []struct {
		Started time.Time `db:"started"`
		Ended   time.Time `db:"ended"`
		Used    int64     `db:"used_bytes"`
	}
	err = db.read.SelectContext(ctx, &rows, `SELECT r.started, r.ended, d.used_bytes FROM receipts r JOIN deliveries d ON d.id = r.delivery_id
		WHERE r.outcome = 'delivered' AND r.details = '' AND r.started IS NOT NULL AND d.used_bytes > 0 AND d.reuse = 0 ORDER BY r.id DESC LIMIT 100`)
	if err != nil || len(rows) == 0 {
		return 0, 0, err
	}
	var perByte []float64
	for _, r := range rows {
		perByte = append(perByte, r.Ended.Sub(r.Started).Seconds()/float64(r.Used))
	}
	slices.Sort(perByte)
	return perByte[len(perByte)/2] * float64(usedBytes), len(perByte), nil
}

// CommonVersion is the version of an image, but this one, that most of some workstations have by
// their last receipts; 0 if none has any.
func (db *DB) CommonVersion(ctx context.Context, but roster.Ref, workstations []int64) (version int, err error) {
	return version, db.read.GetContext(ctx, &version, `SELECT coalesce((SELECT version FROM (
			SELECT version, max(id) FROM receipts WHERE image = ? AND outcome = 'delivered' AND workstation_id IN (SELECT value FROM json_each(?)) GROUP BY workstation_id)
		WHERE version <> ? GROUP BY version ORDER BY count(*) DESC, version DESC LIMIT 1), 0)`, but.Image, encode(workstations), but.Version)
}
