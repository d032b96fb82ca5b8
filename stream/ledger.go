package stream

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jugate/core/delivery"
	"jugate/core/fault"
)

// Ledger keeps what a delivery leaves behind. What it cannot keep now is handed to it
// again.
type Ledger interface {
	// Receipts keeps the receipts of some workstations, all or none; with its receipt the
	// part of a workstation ends.
	Receipts(ctx context.Context, delivery int64, r []Receipt) error
	// Note keeps what was done to a delivery.
	Note(ctx context.Context, delivery int64, n Note) error
	// Reached keeps how far a delivery is, and how many bytes have gone out for it.
	Reached(ctx context.Context, now time.Time, delivery int64, state delivery.State, reason string, wire int64) error
	// Moved is told, some times a second, that something is new of a delivery and of
	// some of its workstations. It must not wait.
	Moved(ctx context.Context, delivery int64, workstations []int64)
	// GiveRoom gives up what is kept for a full disk, and tells whether there was any.
	GiveRoom() bool
}

// Receipt is what became of one workstation.
type Receipt struct {
	Member
	End     delivery.Member
	Drivers []string // packages that were installed
	Remark  string   // what else there is to say of the disk
}

// Note is something that was done to a delivery.
type Note struct {
	At   time.Time
	By   string
	What string
}

func (r *Runner) setTrouble(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.trouble = text
}

// recordProblem says in words why something could not be recorded.
func recordProblem(err error) string {
	if errors.Is(err, fault.Full) {
		return "the disk of the records is full; free some room"
	}
	return err.Error()
}

// writeNotes writes what was done; what cannot be written now stays.
func (r *Runner) writeNotes(ctx context.Context) bool {
	r.mu.Lock()
	notes := r.notes
	r.notes = nil
	r.mu.Unlock()
	for i, n := range notes {
		if err := r.in.Ledger.Note(ctx, r.order.ID, n); err != nil {
			r.in.Log.Error("a change could not be recorded", "delivery", r.order.ID, "what", n.What, "error", err)
			r.mu.Lock()
			r.notes = append(notes[i:], r.notes...)
			r.mu.Unlock()
			return false
		}
		r.in.Log.Info("change", "delivery", r.order.ID, "by", n.By, "what", n.What)
	}
	return true
}

// receiptsAtOnce is how many receipts are written in one go: many workstations of a room
// end within a second, and each time the disk has to be waited for.
const receiptsAtOnce = 100

// writeReceipts writes what is owed; what cannot be written now stays owed.
func (r *Runner) writeReceipts(ctx context.Context) bool {
	for len(r.unwritten) > 0 {
		some := r.unwritten[:min(len(r.unwritten), receiptsAtOnce)]
		receipts := make([]Receipt, len(some))
		r.mu.Lock()
		for i, m := range some {
			receipts[i] = Receipt{Member: r.members[m.ID], End: m, Drivers: r.drivers[m.ID], Remark: r.remarks[m.ID]}
		}
		r.mu.Unlock()
		if err := r.in.Ledger.Receipts(ctx, r.order.ID, receipts); err != nil {
			r.in.Log.Error("receipts could not be written", "delivery", r.order.ID, "workstation", receipts[0].Name, "and_more", len(receipts)-1, "error", err)
			r.setTrouble(fmt.Sprintf("%d receipts cannot be written, and are tried again: %s", len(r.unwritten), recordProblem(err)))
			return false
		}
		r.unwritten = r.unwritten[len(some):]
		for _, w := range receipts {
			r.in.Log.Info("receipt", "delivery", r.order.ID, "workstation", w.Name, "image", r.order.Version, "outcome", w.End.Outcome, "reason", w.End.Reason)
		}
	}
	return true
}

// Warning says what keeps the delivery from getting on; empty if nothing does.
func (r *Runner) Warning(now time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.trouble != "" {
		return r.trouble
	}
	if r.d.State() != delivery.Gathering {
		return ""
	}
	var away []string
	ready := 0
	for _, m := range r.d.Members() {
		switch m.Phase {
		case delivery.Awaited:
			away = append(away, r.members[m.ID].Name)
		case delivery.Ended:
		default:
			ready++
		}
	}
	if len(away) == 0 {
		return ""
	}
	slices.Sort(away)
	text := fmt.Sprintf("%d ready, %d awaited (%s)", ready, len(away), firstOf(away, 5))
	if now.Before(r.order.Rule.Earliest()) {
		return "" // it is not to start yet
	}
	if at := r.d.Starts(); now.Before(at) {
		return fmt.Sprintf("%s; starts at %s with whoever is ready then", text, at.UTC().Format("15:04 MST"))
	}
	return text + "; starts as soon as one is ready"
}

// firstOf are the first of many names.
func firstOf(names []string, n int) string {
	if len(names) <= n {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:n], ", "), len(names)-n)
}
