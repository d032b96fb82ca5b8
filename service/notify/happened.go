package notify

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize/english"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

// happening is something that has happened.
type happening struct {
	event   string
	subject string // of each a rule tells once
	at      time.Time
	what    string
	data    any
}

// Heard takes an event of the service. It never waits.
func (n *Notify) Heard(event any) {
	if len(happenings(event)) == 0 {
		return
	}
	select {
	case n.heard <- event:
	default:
		n.mu.Lock()
		n.lost++
		n.mu.Unlock()
	}
}

func (n *Notify) listen(ctx context.Context) {
	for {
		select {
		case event := <-n.heard:
			if err := fault.Guard(func() error { return n.tell(ctx, happenings(event)) }); err != nil && ctx.Err() == nil {
				n.Log.Error("nobody is told of an event", "error", err)
			}
		case <-ctx.Done():
			return
		}
		n.mu.Lock()
		lost := n.lost
		n.lost = 0
		n.mu.Unlock()
		if lost > 0 {
			n.Log.Error("nobody is told of events: too many happened at once", "events", lost)
		}
	}
}

// happenings are what an event means to people; most mean nothing.
func happenings(event any) (all []happening) {
	switch e := event.(type) {
	case api.Workstation:
		if e.State == roster.Newcomer && len(e.Addresses) > 0 && e.FirstSeen != nil {
			all = append(all, happening{event: "newcomer.seen", subject: e.Addresses[0], at: *e.FirstSeen, data: e, what: "a newcomer has checked in: " + strings.Join(strings.Fields(e.Addresses[0]+" "+e.Maker+" "+e.Model), " ")})
		}
	case api.Delivery:
		all = ofDelivery(e)
	case api.Receipt:
		all = ofReceipt(e)
	case api.Version:
		if !e.Unchanged {
			name := fmt.Sprintf("%s@%d", e.Image, e.Version)
			all = append(all, happening{event: "version.captured", subject: name, at: e.Captured, data: e, what: name + " is there"})
		}
	case api.OrderRun:
		if e.Ended != nil {
			all = append(all, happening{event: "run.ended", subject: fmt.Sprint(e.ID), at: *e.Ended, data: e, what: because(fmt.Sprintf("run %d of order %s: %s", e.ID, e.Order, e.State), e.Reason)})
		}
	}
	return all
}

func ofDelivery(d api.Delivery) (all []happening) {
	name := fmt.Sprintf("delivery %d of %s@%d", d.ID, d.Image, d.Version)
	add := func(event string, at time.Time, what string) {
		all = append(all, happening{event: event, subject: fmt.Sprint(d.ID), at: at, data: d, what: name + what})
	}
	if d.Started != nil {
		add("delivery.started", *d.Started, fmt.Sprintf(" has started, to %s", english.Plural(d.Workstations, "workstation", "")))
	}
	if d.Ended != nil {
		state := " is over"
		if d.State == delivery.Stopped {
			state = " was stopped"
		}
		add("delivery.ended", *d.Ended, because(fmt.Sprintf("%s: %d of %s got it", state, d.Delivered, english.Plural(d.Workstations, "workstation", "")), d.Reason))
	}
	return all
}

func because(what, reason string) string {
	if reason == "" {
		return what
	}
	return what + ": " + reason
}

func ofReceipt(r api.Receipt) (all []happening) {
	who, subject := cmp.Or(r.Workstation, r.Address), fmt.Sprint(r.ID)
	what := because(fmt.Sprintf("%s: %s@%d %s", who, r.Image, r.Version, r.Outcome), r.Reason)
	if r.Outcome == delivery.Wiped {
		what = who + ": its disk was wiped"
	}
	all = append(all, happening{event: "receipt.written", subject: subject, at: r.Ended, data: r, what: what})
	if r.Outcome == delivery.Failed || r.Outcome == delivery.Absent {
		all = append(all, happening{event: "receipt.failed", subject: subject, at: r.Ended, data: r, what: what})
	}
	if a := r.Arrival; a != nil && a.At != nil {
		all = append(all, happening{event: "arrival.reported", subject: subject, at: *a.At, data: r, what: because(fmt.Sprintf("%s has started %s@%d", who, r.Image, r.Version), a.Remark)})
	}
	return all
}

// groupsOf are the groups of whose workstations something is; none of what is of no workstation, or of one that is not there any more.
func (n *Notify) groupsOf(ctx context.Context, data any) (groups []string, err error) {
	var address string
	switch d := data.(type) {
	case api.Delivery:
		members, err := n.Records.DeliveryMembers(ctx, d.ID)
		for _, w := range members {
			groups = append(groups, w.Groups()...)
		}
		return groups, err
	case api.Receipt:
		address = d.Address
	case api.Check:
		address = d.Address
	case api.BootTrail:
		address = d.Address
	default:
		return nil, nil
	}
	w, err := n.Records.FindWorkstation(ctx, address)
	if errors.Is(err, fault.NotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return w.Groups(), nil
}

// tell makes the messages that rules want of what has happened, unless they have told of it.
func (n *Notify) tell(ctx context.Context, all []happening) error {
	all = slices.DeleteFunc(all, func(h happening) bool { return n.knows(h) })
	if len(all) == 0 {
		return nil
	}
	err := n.tellAll(ctx, all)
	if err != nil {
		n.forgetTold()
	}
	return err
}

func (n *Notify) tellAll(ctx context.Context, all []happening) error {
	rules, err := n.Records.NotificationRules(ctx)
	if err != nil {
		return err
	}
	var messages []records.Message
	for _, h := range all {
		for _, r := range rules {
			if wanted, err := n.wants(ctx, r, h); err != nil {
				return err
			} else if wanted {
				m, err := n.message(r, h)
				if err != nil {
					return err
				}
				messages = append(messages, m)
			}
		}
	}
	return n.enter(ctx, messages)
}

// knows tells whether something was heard of lately, and remembers it.
func (n *Notify) knows(h happening) bool {
	what := h.event + " " + h.subject
	n.mu.Lock()
	defer n.mu.Unlock()
	if _, known := n.told[what]; known {
		return true
	}
	if len(n.told) >= toldAtMost {
		clear(n.told)
	}
	n.told[what] = struct{}{}
	return false
}

// forgetTold has everything be looked up again, as for a rule that is new.
func (n *Notify) forgetTold() {
	n.mu.Lock()
	defer n.mu.Unlock()
	clear(n.told)
}

// wants tells whether a rule tells of something. What happened before the rule was there is not told, nor what is so old that nobody
// knows any more whether it was told.
func (n *Notify) wants(ctx context.Context, r records.NotificationRule, h happening) (bool, error) {
	if !slices.Contains(r.Events, h.event) || h.at.Before(r.Added) || n.Now().Sub(h.at) > keepFor {
		return false, nil
	}
	if len(r.Groups) == 0 {
		return true, nil
	}
	groups, err := n.groupsOf(ctx, h.data)
	return slices.ContainsFunc(groups, func(g string) bool {
		return slices.ContainsFunc(r.Groups, func(wanted string) bool { return strings.EqualFold(g, wanted) })
	}), err
}

// gatherFor is how long mail waits for more that goes into the same one.
const gatherFor = 30 * time.Second

// message makes one.
func (n *Notify) message(r records.NotificationRule, h happening) (records.Message, error) {
	what := strings.Map(func(c rune) rune { // names of models are the firmware's, and stand in a subject
		if unicode.IsControl(c) {
			return ' '
		}
		return c
	}, h.what)
	body, err := json.Marshal(api.WebhookPayload{Type: h.event, Timestamp: h.at.UTC(), What: what, Data: h.data})
	now := n.Now().UTC()
	m := records.Message{ID: newID(), RuleID: r.ID, Event: h.event, Subject: h.subject, What: what, Body: body, Created: now, Due: sql.NullTime{Time: now, Valid: true}}
	if r.Webhook == "" {
		m.Due.Time = now.Add(gatherFor)
	}
	return m, err
}

// newID is one that no other message has, as Standard Webhooks writes them.
func newID() string {
	b := make([]byte, 18)
	rand.Read(b)
	return "msg_" + base64.RawURLEncoding.EncodeToString(b)
}

func (n *Notify) enter(ctx context.Context, all []records.Message) error {
	if len(all) == 0 {
		return nil
	}
	added, err := n.Records.AddMessages(ctx, all)
	if err != nil || added == 0 {
		return err
	}
	n.Publish(api.NotificationsChanged{})
	n.ring()
	return nil
}
