package service

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jugate/core/fault"

	"jugate/core/delivery"
	"jugate/core/roster"
	"jugate/records"
)

// What a delivery leaves in the records, and what it says while something is missing.

func (r *runner) setTrouble(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.trouble = text
}

// recordProblem says in words why the records took something not.
func recordProblem(err error) string {
	if errors.Is(err, fault.Full) {
		return "the disk of the records is full; free some room"
	}
	return err.Error()
}

// writeNotes writes what was done; what cannot be written now stays.
func (r *runner) writeNotes(ctx context.Context) bool {
	r.mu.Lock()
	notes := r.notes
	r.notes = nil
	r.mu.Unlock()
	for i, n := range notes {
		if err := r.s.records.AddDeliveryChange(ctx, r.rec.ID, n); err != nil {
			r.s.log.Error("a change could not be recorded", "delivery", r.rec.ID, "what", n.What, "error", err)
			r.mu.Lock()
			r.notes = append(notes[i:], r.notes...)
			r.mu.Unlock()
			return false
		}
		r.s.log.Info("change", "delivery", r.rec.ID, "by", n.By, "what", n.What)
	}
	return true
}

// unreadable is how many bytes of the image are zeros as the golden disk could not
// read them.
func (r *runner) unreadable(ctx context.Context) int64 {
	v, err := r.s.records.Version(ctx, roster.Ref{Image: r.rec.Image, Version: r.rec.Version})
	if err != nil {
		return 0 // the version was brought here by files alone; its manifest says it still
	}
	return v.Unreadable
}

// writeReceipts writes what is owed; what cannot be written now stays owed.
func (r *runner) writeReceipts(ctx context.Context) bool {
	for len(r.unwritten) > 0 {
		m := r.unwritten[0]
		r.mu.Lock()
		w := r.members[m.ID]
		drivers := ""
		if list := r.drivers[m.ID]; len(list) > 0 {
			text, _ := json.Marshal(list) // strings always can be
			drivers = string(text)
		}
		remark := r.remarks[m.ID]
		r.mu.Unlock()
		receipt := records.Receipt{
			DeliveryID: r.rec.ID, WorkstationID: w.ID, Workstation: w.Name, Address: w.Address().String(),
			Image: r.rec.Image, Version: r.rec.Version, Digest: r.rec.Digest,
			Started: sql.NullTime{Time: m.Began, Valid: !m.Began.IsZero()}, Ended: m.Ended,
			BytesMulticast: m.Last.Multicast, BytesUnicast: m.Last.Unicast,
			Verified: m.Outcome == delivery.Delivered, Outcome: m.Outcome, Reason: m.Reason, OrderedBy: r.rec.OrderedBy,
			Unreadable: r.unreadable(ctx), Drivers: drivers, Remark: remark,
		}
		if err := r.s.records.AddReceipt(ctx, receipt); err != nil {
			r.s.log.Error("a receipt could not be written", "delivery", r.rec.ID, "workstation", w.Name, "error", err)
			r.setTrouble(fmt.Sprintf("%d receipts cannot be written, and are tried again: %s", len(r.unwritten), recordProblem(err)))
			return false
		}
		r.unwritten = r.unwritten[1:]
		r.s.agents.wake(w.ID) // its errand has ended: there may be another
		r.s.log.Info("receipt", "delivery", r.rec.ID, "workstation", w.Name, "image", r.rec.Image, "version", r.rec.Version, "outcome", m.Outcome, "reason", m.Reason)
		r.s.tellReceipt(ctx, r.rec.ID, w.Name)
	}
	return true
}

// warning says what keeps the delivery from getting on; empty if nothing does.
func (r *runner) warning(now time.Time) string {
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
	if rule, err := delivery.ParseRule(r.rec.Rule); err == nil && now.Before(rule.Earliest()) {
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
