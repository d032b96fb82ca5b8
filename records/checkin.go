package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
	"jugate/core/roster"
)

var (
	// ErrRefused says that a machine is turned away.
	ErrRefused = fault.Forbidden.Errorf("this machine is turned away")
	// ErrTwice says that two machines claim to be the same one.
	ErrTwice = fault.Conflict.Errorf("two machines")
)

// Seen is what an agent tells of its machine.
type Seen struct {
	// Own are the addresses of cards that belong into the machine, Adapters those of
	// cards that are plugged in, which other machines may show, too.
	Own, Adapters []hwaddr.Address
	AgentVersion  string
	Inventory     api.Inventory
	Ticket        *Ticket
	// Site is the outpost that it called by; empty where that is the service itself.
	Site string
	// AcceptCards has unknown cards of a machine whose UUID and serial number are known
	// accepted at once.
	AcceptCards bool
	// Errand is the one that the agent is at; it goes on.
	Errand int64
	// Allow is asked before anything is recorded, with the workstation's number, 0 for a
	// newcomer; it must not wait. Nil allows it.
	Allow func(id int64) error
}

// Identity is what the machine's firmware says that it is.
func (s *Seen) Identity() roster.Identity {
	return roster.NewIdentity(s.Inventory.UUID, s.Inventory.Serial)
}

// diskSizes is what Workstation.DiskSizes is to be.
func (s *Seen) diskSizes() string {
	var sizes []string
	for _, d := range s.Inventory.Disks {
		sizes = append(sizes, strconv.FormatInt(d.Size, 10))
	}
	return strings.Join(sizes, " ")
}

func (s *Seen) all() []hwaddr.Address { return append(slices.Clone(s.Own), s.Adapters...) }

// CheckIn records what an agent tells, and returns the workstation, a newcomer if it is
// not known. It is known by UUID and serial number, else by the addresses of its own
// cards, else by those of its adapters. Addresses that were not known of it become
// proposals. Errors wrap fault.Conflict, ErrTwice, ErrRefused or ErrTicket, or are Allow's.
func (db *DB) CheckIn(ctx context.Context, now time.Time, in Seen) (*Workstation, error) {
	if len(in.Own)+len(in.Adapters) == 0 {
		return nil, fault.Conflict.Errorf("a workstation without a hardware address")
	}
	in.Inventory.UUID, in.Inventory.Serial = in.Identity().UUID, strings.TrimSpace(in.Inventory.Serial)
	var id int64
	var refused error // recorded are what was proposed and that it was seen, all the same
	err := db.change(ctx, func(tx *sqlx.Tx) (err error) {
		if err := notRefused(ctx, tx, in); err != nil {
			return err
		}
		if err := checkTicket(ctx, tx, now, in); err != nil {
			return err
		}
		c, err := identify(ctx, tx, &in)
		if err != nil {
			return err
		}
		if refused, err = ticketFits(ctx, tx, in, c); err != nil {
			return err
		}
		if refused != nil {
			return propose(ctx, tx, c.id, in)
		}
		if in.Allow != nil {
			if err := in.Allow(c.id); err != nil {
				return err
			}
		}
		if id = c.id; id == 0 {
			id, err = addNewcomer(ctx, tx, now, in)
		} else {
			err = update(ctx, tx, now, id, in)
		}
		if err != nil {
			return err
		}
		if err := noteAddresses(ctx, tx, id, c, in); err != nil {
			return err
		}
		if err := useTicket(ctx, tx, now, in.Ticket); err != nil {
			return err
		}
		if err := leave(ctx, tx, id); err != nil {
			return err
		}
		// An errand that was running belongs to the agent that has just gone.
		_, err = tx.ExecContext(ctx, `UPDATE errands SET state = 'waiting' WHERE workstation_id = ? AND state = 'running' AND id <> ?`, id, in.Errand)
		return err
	})
	if err == nil {
		err = refused
	}
	if err != nil {
		return nil, err
	}
	return db.Workstation(ctx, id)
}

// notRefused turns away machines that an engineer will not have.
func notRefused(ctx context.Context, tx *sqlx.Tx, in Seen) error {
	values := []any{in.Inventory.UUID}
	for _, a := range in.all() {
		values = append(values, a.String())
	}
	var what string
	err := tx.GetContext(ctx, &what, `SELECT value FROM refusals WHERE value IN (?`+strings.Repeat(", ?", len(values)-1)+`) LIMIT 1`, values...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		err = fmt.Errorf("%w: an engineer has refused %s", ErrRefused, what)
	}
	return err
}

// candidate is who a machine is by what is recorded.
type candidate struct {
	id       int64 // 0 for a newcomer
	certain  bool  // by UUID and serial number
	expected bool  // by the UUID or serial number that was entered ahead
}

// identify finds the workstation that a machine is.
func identify(ctx context.Context, tx *sqlx.Tx, in *Seen) (c candidate, err error) {
	is := in.Identity()
	ahead, err := expectedBy(ctx, tx, is)
	if err != nil {
		return c, err
	}
	if is.Certain() {
		var ids []int64
		if err := tx.SelectContext(ctx, &ids, `SELECT id FROM workstations WHERE uuid = ? AND serial = ?`, is.UUID, is.Serial); err != nil {
			return c, err
		}
		if len(ids) == 1 { // the same in several is what makers do who have none
			return candidate{id: ids[0], certain: true, expected: ids[0] == ahead}, nil
		}
	}
	c.id, err = ownerOf(ctx, tx, in.Own, is)
	switch {
	case err != nil:
		return c, err
	case ahead != 0 && c.id == 0:
		return candidate{id: ahead, expected: true}, nil
	case c.id != 0:
		c.expected = c.id == ahead
		return c, mayBeBoth(ctx, tx, ahead, c.id)
	}
	if c.id, err = ownerOf(ctx, tx, in.Adapters, is); err != nil || c.id != 0 || len(in.Own) > 0 {
		return c, err
	}
	// It has only adapters, so its UUID and serial number decide, if they are those of one
	// machine.
	var ids []int64
	err = tx.SelectContext(ctx, &ids, `SELECT id FROM workstations WHERE ?1 <> '' AND uuid = ?1 OR ?2 <> '' AND serial = ?2`, is.UUID, is.Serial)
	if len(ids) == 1 {
		c.id = ids[0]
	}
	return c, err
}

// mayBeBoth refuses a machine that was entered ahead as one workstation by its UUID or serial
// number, and has a hardware address of another.
func mayBeBoth(ctx context.Context, tx *sqlx.Tx, ahead, owner int64) error {
	if ahead == 0 || ahead == owner {
		return nil
	}
	var names []string
	if err := tx.SelectContext(ctx, &names, `SELECT coalesce(name, 'a newcomer') FROM workstations WHERE id IN (?, ?) ORDER BY id = ?`, ahead, owner, owner); err != nil {
		return err
	}
	return fault.Conflict.Errorf("its UUID or serial number was entered for %s, and a hardware address of it belongs to %s; jugate card move says which has it", names[0], names[1])
}

// ownerOf finds the one workstation that has some of the addresses; 0 if none has.
func ownerOf(ctx context.Context, tx *sqlx.Tx, addresses []hwaddr.Address, is roster.Identity) (int64, error) {
	var found Workstation
	for _, a := range addresses {
		var w Workstation
		err := tx.GetContext(ctx, &w, `SELECT w.id, coalesce(w.name, '') AS name, w.uuid, w.serial FROM workstations w JOIN addresses a ON a.workstation_id = w.id
			WHERE a.address = ? AND a.state = 'accepted'`, a.String())
		switch {
		case errors.Is(err, sql.ErrNoRows):
			continue
		case err != nil:
			return 0, err
		case found.ID != 0 && found.ID != w.ID:
			return 0, fault.Conflict.Errorf("the hardware addresses %v belong to two workstations of the roster (a network card was moved, or an address is there twice); say which has it: jugate card move, or jugate card share for an adapter", addresses)
		case w.Identity().Differs(is):
			return 0, fmt.Errorf("%w: %s is the hardware address of %s, a machine with %s; this one has %s. If a card was moved, say so: jugate card move; if it is an adapter: jugate card share; if its main board was exchanged: jugate workstation relearn",
				ErrTwice, a, labelOr(w.Name, a), w.Identity(), is)
		}
		found = w
	}
	return found.ID, nil
}

func labelOr(name string, a hwaddr.Address) string {
	if name != "" {
		return name
	}
	return "the newcomer " + a.String()
}

func addNewcomer(ctx context.Context, tx *sqlx.Tx, now time.Time, in Seen) (int64, error) {
	if in.Identity() == (roster.Identity{}) {
		shared := 0
		for _, a := range in.all() {
			var is int
			if err := tx.GetContext(ctx, &is, `SELECT count(*) FROM shared_addresses WHERE address = ?`, a.String()); err != nil {
				return 0, err
			}
			shared += is
		}
		if shared == len(in.all()) {
			return 0, fault.Conflict.Errorf("nothing tells this machine from others: its firmware has neither serial number nor UUID, and %v are of adapters that several machines use", in.all())
		}
	}
	inv := in.Inventory
	result, err := tx.ExecContext(ctx, `INSERT INTO workstations (state, maker, model, serial, uuid, memory, disks, agent_version, site, first_seen, last_seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		roster.Newcomer, inv.Maker, inv.Model, inv.Serial, inv.UUID, inv.Memory, in.diskSizes(), in.AgentVersion, in.Site, now.UTC(), now.UTC())
	if err != nil {
		return 0, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return 0, err
	}
	return id, keepInventory(ctx, tx, now, id, inv)
}

// update keeps the parts of an identity that the machine does not tell this time.
func update(ctx context.Context, tx *sqlx.Tx, now time.Time, id int64, in Seen) error {
	inv := in.Inventory
	if _, err := tx.ExecContext(ctx, `UPDATE workstations SET first_seen = iif(agent_version = '', ?, first_seen), maker = ?, model = ?, serial = coalesce(nullif(?, ''), serial), uuid = coalesce(nullif(?, ''), uuid), memory = ?, disks = ?, agent_version = ?, site = ?, last_seen = ? WHERE id = ?`,
		now.UTC(), inv.Maker, inv.Model, inv.Serial, inv.UUID, inv.Memory, in.diskSizes(), in.AgentVersion, in.Site, now.UTC(), id); err != nil {
		return err
	}
	return keepInventory(ctx, tx, now, id, inv)
}

// noteAddresses records what is new of a machine's addresses: all of a newcomer are its
// own, those of a known machine are proposals, and those of adapters are shared.
func noteAddresses(ctx context.Context, tx *sqlx.Tx, id int64, c candidate, in Seen) error {
	var known int
	if err := tx.GetContext(ctx, &known, `SELECT count(*) FROM addresses WHERE workstation_id = ? AND state <> 'proposed'`, id); err != nil {
		return err
	}
	accept := known == 0 || c.certain && in.AcceptCards
	for _, a := range in.Own {
		state := "proposed"
		if accept {
			state = "accepted"
		}
		if err := noteAddress(ctx, tx, id, a, state); err != nil {
			return err
		}
	}
	for i, a := range in.Adapters {
		state := "shared"
		if accept && len(in.Own) == 0 && i == 0 && in.Identity() == (roster.Identity{}) {
			state = "accepted" // nothing else tells the machine from others
		}
		if err := noteAddress(ctx, tx, id, a, state); err != nil {
			return err
		}
	}
	return nil
}

func noteAddress(ctx context.Context, tx *sqlx.Tx, id int64, a hwaddr.Address, state string) error {
	var others int
	if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM addresses WHERE address = ? AND workstation_id <> ? AND state = 'accepted'`, a.String(), id); err != nil {
		return err
	}
	if others > 0 && state == "accepted" {
		state = "proposed"
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO addresses (address, workstation_id, state)
		VALUES (?1, ?2, CASE WHEN EXISTS (SELECT 1 FROM shared_addresses WHERE address = ?1) THEN 'shared' ELSE ?3 END) ON CONFLICT DO NOTHING`, a.String(), id, state)
	return err
}

// propose records the addresses of a machine that was not let in, so that an engineer
// can accept them.
func propose(ctx context.Context, tx *sqlx.Tx, id int64, in Seen) error {
	for _, a := range in.Own {
		if err := noteAddress(ctx, tx, id, a, "proposed"); err != nil {
			return err
		}
	}
	return nil
}
