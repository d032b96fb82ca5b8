package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"jugate/core/fault"

	"github.com/jmoiron/sqlx"

	"jugate/core/hwaddr"
)

// ErrTicket says that a ticket is not good.
var ErrTicket = fault.Forbidden.Errorf("the ticket is not good")

const (
	// ticketsAtMost is how many unused tickets a hardware address has at a time:
	// loaders ask for their script again, and so may anybody else.
	ticketsAtMost = 3
	// ticketFor is how long a ticket that nobody used is good.
	ticketFor = 30 * time.Minute
)

// Ticket is what an agent checks in with: the digest of its ticket or key, and the
// kernel's number for its boot.
type Ticket struct{ Digest, Boot string }

// AddTicket records the digest of a ticket for a hardware address.
func (db *DB) AddTicket(ctx context.Context, now time.Time, digest string, address hwaddr.Address) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM tickets WHERE address = ?1 AND boot = '' AND digest NOT IN
			(SELECT digest FROM tickets WHERE address = ?1 AND boot = '' ORDER BY issued DESC LIMIT ?2)`, address.String(), ticketsAtMost-1)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO tickets (digest, address, issued) VALUES (?, ?, ?)`, digest, address.String(), now.UTC())
		return err
	})
}

// MediaKey is what media check in with. It is good for any workstation, or for those of
// one group, until it ends or is withdrawn.
type MediaKey struct {
	Digest string       `db:"digest"`
	Made   time.Time    `db:"issued"`
	Note   string       `db:"note"`
	Group  string       `db:"only_group"` // empty for any workstation
	Until  sql.NullTime `db:"until"`
	Used   sql.NullTime `db:"used"` // last time
}

// AddMediaKey records a key.
func (db *DB) AddMediaKey(ctx context.Context, k MediaKey) error {
	if k.Group != "" {
		if _, err := db.Group(ctx, k.Group); err != nil {
			return err
		}
	}
	_, err := db.exec(ctx, `INSERT INTO tickets (digest, address, issued, note, only_group, until) VALUES (?, '', ?, ?, ?, ?)`,
		k.Digest, k.Made.UTC(), k.Note, k.Group, utc(k.Until))
	return err
}

func utc(t sql.NullTime) sql.NullTime { return sql.NullTime{Time: t.Time.UTC(), Valid: t.Valid} }

// MediaKeys lists the keys, the newest first.
func (db *DB) MediaKeys(ctx context.Context) (keys []MediaKey, err error) {
	err = db.read.SelectContext(ctx, &keys, `SELECT digest, issued, note, only_group, until, used FROM tickets WHERE address = '' ORDER BY issued DESC, digest`)
	return keys, err
}

// LimitMediaKey changes who a key is good for and until when. The key is named by the
// beginning of its digest.
func (db *DB) LimitMediaKey(ctx context.Context, ref, group string, until sql.NullTime) error {
	if group != "" {
		if _, err := db.Group(ctx, group); err != nil {
			return err
		}
	}
	return db.oneMediaKey(ctx, ref, `UPDATE tickets SET only_group = ?, until = ? WHERE digest = ?`, group, utc(until))
}

// WithdrawMediaKey ends a key; agents that have checked in with it go on until they
// check in again.
func (db *DB) WithdrawMediaKey(ctx context.Context, ref string) error {
	return db.oneMediaKey(ctx, ref, `DELETE FROM tickets WHERE digest = ?`)
}

func (db *DB) oneMediaKey(ctx context.Context, ref, change string, args ...any) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		var digests []string
		if err := tx.SelectContext(ctx, &digests, `SELECT digest FROM tickets WHERE address = '' AND substr(digest, 1, length(?1)) = ?1 LIMIT 2`, ref); err != nil {
			return err
		}
		switch {
		case len(digests) == 0 || ref == "":
			return missing(sql.ErrNoRows, "key of media", ref)
		case len(digests) > 1:
			return fault.Conflict.Errorf("several keys begin with %s; write more of it", ref)
		}
		_, err := tx.ExecContext(ctx, change, append(args, digests[0])...)
		return err
	})
}

// storedTicket is a ticket as it is recorded.
type storedTicket struct {
	Address string       `db:"address"`
	Issued  time.Time    `db:"issued"`
	Boot    string       `db:"boot"`
	Group   string       `db:"only_group"`
	Until   sql.NullTime `db:"until"`
}

func ticketOf(ctx context.Context, tx *sqlx.Tx, digest string) (t storedTicket, err error) {
	err = tx.GetContext(ctx, &t, `SELECT address, issued, boot, only_group, until FROM tickets WHERE digest = ?`, digest)
	if errors.Is(err, sql.ErrNoRows) {
		err = fmt.Errorf("%w: it is not known, or another one has taken its place; restart the workstation", ErrTicket)
	}
	return t, err
}

// checkTicket tells whether a ticket is good at all for a machine with these addresses.
func checkTicket(ctx context.Context, tx *sqlx.Tx, now time.Time, in Seen) error {
	if in.Ticket == nil {
		return nil
	}
	t, err := ticketOf(ctx, tx, in.Ticket.Digest)
	switch {
	case err != nil:
		return err
	case in.Ticket.Boot == "":
		return fmt.Errorf("%w: it is for one boot, and the agent does not say which this is", ErrTicket)
	case t.Until.Valid && !now.Before(t.Until.Time):
		return fmt.Errorf("%w: it ended on %s", ErrTicket, t.Until.Time.Format("2 January 2006 15:04 MST"))
	case t.Address == "":
		return nil // media
	case !hasAddress(in.all(), t.Address):
		return fmt.Errorf("%w: it was given to %s, which is not one of this machine's hardware addresses", ErrTicket, t.Address)
	case t.Boot == "" && now.Sub(t.Issued) > ticketFor:
		return fmt.Errorf("%w: it was given %s ago and never used; restart the workstation", ErrTicket, now.Sub(t.Issued).Round(time.Minute))
	case t.Boot != "" && t.Boot != in.Ticket.Boot:
		return fmt.Errorf("%w: another boot has used it; restart the workstation", ErrTicket)
	}
	return nil
}

// ticketFits tells why a ticket is not for the workstation that the machine is known
// as: it was made for a hardware address, and that has to be one of the workstation's.
func ticketFits(ctx context.Context, tx *sqlx.Tx, in Seen, c candidate) (refused, err error) {
	if in.Ticket == nil {
		return nil, nil
	}
	t, err := ticketOf(ctx, tx, in.Ticket.Digest)
	if err != nil {
		return nil, err
	}
	if t.Address == "" {
		return mediaKeyFits(ctx, tx, t, c)
	}
	if c.id == 0 || c.expected {
		return nil, nil // nobody's yet, as everything that it shows
	}
	var fits bool
	err = tx.GetContext(ctx, &fits, `SELECT EXISTS (SELECT 1 FROM addresses WHERE address = ?1 AND workstation_id = ?2 AND state <> 'proposed')
		OR EXISTS (SELECT 1 FROM shared_addresses WHERE address = ?1)`, t.Address, c.id)
	if err != nil || fits || c.certain && in.AcceptCards {
		return nil, err
	}
	var name string
	if err := tx.GetContext(ctx, &name, `SELECT coalesce(name, 'workstation ' || id) FROM workstations WHERE id = ?`, c.id); err != nil {
		return nil, err
	}
	return fmt.Errorf("%w: it was given to %s, which is not known as a hardware address of %s; if it is one, accept it: jugate card accept %s %s", ErrTicket, t.Address, name, name, t.Address), nil
}

func mediaKeyFits(ctx context.Context, tx *sqlx.Tx, t storedTicket, c candidate) (refused, err error) {
	if t.Group == "" {
		return nil, nil
	}
	var in bool
	err = tx.GetContext(ctx, &in, `SELECT EXISTS (SELECT 1 FROM group_members m JOIN groups g ON g.id = m.group_id WHERE g.name = ? AND m.workstation_id = ?)`, t.Group, c.id)
	if err == nil && !in {
		refused = fmt.Errorf("%w: these media are for workstations of the group %s alone", ErrTicket, t.Group)
	}
	return refused, err
}

// useTicket uses a ticket up: the first boot that uses it is the only one, and ends all
// other tickets of the address.
func useTicket(ctx context.Context, tx *sqlx.Tx, now time.Time, t *Ticket) error {
	if t == nil {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `UPDATE tickets SET boot = CASE address WHEN '' THEN '' ELSE ? END, used = ? WHERE digest = ?`, t.Boot, now.UTC(), t.Digest); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM tickets WHERE address <> '' AND digest <> ?1 AND address = (SELECT address FROM tickets WHERE digest = ?1)`, t.Digest)
	return err
}

func hasAddress(addresses []hwaddr.Address, text string) bool {
	return slices.ContainsFunc(addresses, func(a hwaddr.Address) bool { return a.String() == text })
}
