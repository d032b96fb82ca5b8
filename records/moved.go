package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"jugate/core/actor"

	"github.com/jmoiron/sqlx"
	"github.com/jmoiron/sqlx/reflectx"
	"github.com/pressly/goose/v3"
	"github.com/zeebo/blake3"
)

// Receipts and arrivals were chained, each by a digest over itself and the one before, until they became leaves
// of a tree. moveChains checks the chains for the last time, makes a leaf of all that is on record, and writes
// into the logbook where the chains ended and whether they were sound.
func moveChains(now time.Time) *goose.Migration {
	return goose.NewGoMigration(17, &goose.GoFunc{RunTx: func(ctx context.Context, plain *sql.Tx) error {
		return (&mover{ctx: ctx, now: now, tx: &sqlx.Tx{Tx: plain, Mapper: reflectx.NewMapperFunc("db", strings.ToLower)}}).move()
	}}, nil)
}

// MoveOperation is what the line says that notes the moving.
const MoveOperation = "move-chains"

type mover struct {
	ctx context.Context
	now time.Time
	tx  *sqlx.Tx
	g   *growing
}

// chainedReceipt is what a receipt's digest was made over, as JSON with these names in this order.
type chainedReceipt struct {
	ID             int64        `db:"id"`
	DeliveryID     int64        `db:"delivery_id"`
	WorkstationID  int64        `db:"workstation_id"`
	Workstation    string       `db:"workstation"`
	Address        string       `db:"hardware_address"`
	Image          string       `db:"image"`
	Version        int          `db:"version"`
	Digest         string       `db:"digest"`
	Started        sql.NullTime `db:"started"`
	Ended          time.Time    `db:"ended"`
	BytesMulticast int64        `db:"bytes_multicast"`
	BytesUnicast   int64        `db:"bytes_unicast"`
	Verified       bool         `db:"verified"`
	Outcome        string       `db:"outcome"`
	Reason         string       `db:"reason"`
	OrderedBy      string       `db:"ordered_by"`
	Unreadable     int64        `db:"unreadable_bytes" json:",omitempty"`
	Drivers        string       `db:"drivers" json:",omitempty"`
	Remark         string       `db:"remark" json:",omitempty"`
	Previous       string       `db:"previous" json:"-"`
	Chain          string       `db:"chain" json:"-"`
}

// moved is what the line in the logbook says.
type moved struct {
	Receipts      int    `json:"receipts"`
	ReceiptChain  string `json:"receipt_chain"` // where it ended
	Arrivals      int    `json:"arrivals"`
	ArrivalChain  string `json:"arrival_chain"`
	Lines         int    `json:"lines"`
	Sound         bool   `json:"sound"`
	WhatIsAgainst string `json:"what_is_against,omitempty"`
}

func (m *mover) move() (err error) {
	if m.g, err = grow(m.ctx, m.tx); err != nil {
		return err
	}
	said := moved{Sound: true}
	against := func(format string, args ...any) {
		if said.Sound {
			said.Sound, said.WhatIsAgainst = false, fmt.Sprintf(format, args...)
		}
	}
	if err := m.receipts(&said, against); err != nil {
		return err
	}
	if err := m.arrivals(&said, against); err != nil {
		return err
	}
	var lines []Line
	if err := m.tx.SelectContext(m.ctx, &lines, "SELECT * FROM logbook ORDER BY id"); err != nil {
		return err
	}
	for _, l := range lines {
		if err := m.g.add(leafLine, l.ID, &l); err != nil {
			return err
		}
	}
	if said.Lines = len(lines); said.Receipts+said.Arrivals+said.Lines == 0 {
		return nil // there is nothing to move
	}
	l := &Line{At: m.now.UTC(), Who: "the service", Kind: string(actor.Program), Through: "service", Operation: MoveOperation, Details: encode(said)}
	if err := m.tx.GetContext(m.ctx, &l.ID, `INSERT INTO logbook (at, who, kind, from_addr, through, operation, subject, details) VALUES (?, ?, ?, '', ?, ?, '', ?) RETURNING id`, l.At, l.Who, l.Kind, l.Through, l.Operation, l.Details); err != nil {
		return err // the table has a column more later on
	}
	return errors.Join(m.g.add(leafLine, l.ID, l), m.g.flush())
}

func (m *mover) receipts(said *moved, against func(string, ...any)) error {
	var rows []chainedReceipt
	if err := m.tx.SelectContext(m.ctx, &rows, `SELECT id, delivery_id, workstation_id, workstation, hardware_address, image, version, digest, started, ended, bytes_multicast, bytes_unicast, verified,
		outcome, reason, ordered_by, unreadable_bytes, drivers, remark, previous, chain FROM receipts ORDER BY id`); err != nil {
		return err
	}
	for i, r := range rows {
		r.Ended, r.Started.Time = r.Ended.UTC(), r.Started.Time.UTC()
		content, err := json.Marshal(r)
		if err != nil {
			return err
		}
		chain := fmt.Sprintf("%x", blake3.Sum256(append([]byte(said.ReceiptChain+"\n"), content...)))
		if r.ID != int64(i+1) || r.Previous != said.ReceiptChain || r.Chain != chain {
			against("receipt %d (%s, %s@%d) did not fit the chain: it, or one before it, was changed or removed", r.ID, r.Workstation, r.Image, r.Version)
		}
		said.ReceiptChain = r.Chain
		if err := m.g.add(leafReceipt, r.ID, &receiptLeaf{r.ID, r.DeliveryID, r.WorkstationID, r.Workstation, r.Address, r.Image, r.Version, r.Digest, timeOrNil(r.Started), r.Ended, r.BytesMulticast, r.BytesUnicast,
			r.Verified, r.Outcome, r.Reason, r.OrderedBy, r.Unreadable, r.Drivers, r.Remark, "", "", ""}); err != nil {
			return err
		}
	}
	said.Receipts = len(rows)
	return nil
}

func (m *mover) arrivals(said *moved, against func(string, ...any)) error {
	var rows []struct {
		arrived
		Previous string `db:"previous"`
		Chain    string `db:"chain"`
		Of       string `db:"of"`
	}
	if err := m.tx.SelectContext(m.ctx, &rows, strings.Replace(arrivedFrom, "a.remark FROM", "a.remark, a.previous, a.chain, r.chain AS of FROM", 1)+" ORDER BY a.number"); err != nil {
		return err
	}
	for i, a := range rows {
		sum := blake3.Sum256([]byte(strings.Join([]string{said.ArrivalChain, a.Of, a.Arrived.UTC().Format(time.RFC3339Nano), a.Content, a.Remark}, "\n")))
		if a.Number != int64(i+1) || a.Previous != said.ArrivalChain || a.Chain != fmt.Sprintf("%x", sum) {
			against("the arrival of receipt %d did not fit the chain: it, its receipt, or an arrival before it, was changed or removed", a.Receipt)
		}
		said.ArrivalChain = a.Chain
		if err := m.g.add(leafArrival, a.Number, &a.arrived); err != nil {
			return err
		}
	}
	said.Arrivals = len(rows)
	return nil
}
