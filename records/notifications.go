package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Words are a list of texts in one column, as JSON.
type Words []string

// Scan is sql.Scanner's.
func (w *Words) Scan(from any) error {
	text, is := from.(string)
	if !is {
		return fmt.Errorf("a list is a %T", from)
	}
	return json.Unmarshal([]byte(text), w)
}

// Value is driver.Valuer's.
func (w Words) Value() (driver.Value, error) {
	if w == nil {
		w = Words{}
	}
	return encode(w), nil
}

// NotificationRule says who is told of which events.
type NotificationRule struct {
	ID          int64     `db:"id"`
	Name        string    `db:"name"`
	Events      Words     `db:"events"`
	Groups      Words     `db:"groups"` // empty for events of any workstation, and of none
	MailTo      Words     `db:"mail_to"`
	Webhook     string    `db:"webhook"`
	Certificate string    `db:"certificate"`
	Secret      string    `db:"secret"` // sealed
	Paused      bool      `db:"paused"`
	Trouble     string    `db:"trouble"` // why the last message was not taken
	Added       time.Time `db:"added"`
	Waiting     int       `db:"waiting"`
}

const rulesFrom = `SELECT r.*, (SELECT count(*) FROM messages m WHERE m.rule_id = r.id AND m.state = 'waiting') AS waiting FROM notification_rules r`

// NotificationRules lists the rules by name.
func (db *DB) NotificationRules(ctx context.Context) (all []NotificationRule, err error) {
	return all, db.read.SelectContext(ctx, &all, rulesFrom+` ORDER BY r.name`)
}

// NotificationRule is the one of that name.
func (db *DB) NotificationRule(ctx context.Context, name string) (*NotificationRule, error) {
	var r NotificationRule
	err := db.read.GetContext(ctx, &r, rulesFrom+` WHERE r.name = ?`, name)
	return &r, missing(err, "notification rule", name)
}

// PutNotificationRule enters a rule, or replaces the one of its name. Its messages stay.
func (db *DB) PutNotificationRule(ctx context.Context, r NotificationRule) error {
	r.Added = r.Added.UTC()
	return db.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO notification_rules (name, events, groups, mail_to, webhook, certificate, secret, paused, trouble, added) VALUES (:name, :events, :groups, :mail_to, :webhook, :certificate, :secret, :paused, '', :added)
			ON CONFLICT (name) DO UPDATE SET events = excluded.events, groups = excluded.groups, mail_to = excluded.mail_to, webhook = excluded.webhook, certificate = excluded.certificate, secret = excluded.secret, paused = excluded.paused, trouble = ''`, r)
		return err
	})
}

// RemoveNotificationRule forgets a rule, with its messages.
func (db *DB) RemoveNotificationRule(ctx context.Context, name string) error {
	r, err := db.exec(ctx, `DELETE FROM notification_rules WHERE name = ?`, name)
	return changed(r, err, "notification rule", name)
}

// Message is what a rule tells of an event.
type Message struct {
	ID       string       `db:"id"`
	RuleID   int64        `db:"rule_id"`
	Rule     string       `db:"rule"`
	Event    string       `db:"event"`
	Subject  string       `db:"subject"`
	What     string       `db:"what"` // in words
	Body     []byte       `db:"body"` // the payload of a webhook
	Created  time.Time    `db:"created"`
	State    string       `db:"state"` // waiting, sent, given up
	Attempts int          `db:"attempts"`
	Due      sql.NullTime `db:"due"` // while it waits
	Trouble  string       `db:"trouble"`
	Ended    sql.NullTime `db:"ended"`
}

// waitingAtMost is how many messages of a rule wait, so that one whose mail or address is out of order for weeks takes no more room
// than that.
const waitingAtMost = 10_000

// AddMessages enters messages; those of which a rule has told already are left out, and so are those that more than enough wait
// before. One that is to wait goes along with those that wait already. It tells how many were entered.
func (db *DB) AddMessages(ctx context.Context, all []Message) (added int, err error) {
	err = db.change(ctx, func(tx *sqlx.Tx) error {
		for _, m := range all {
			r, err := tx.ExecContext(ctx, `INSERT INTO messages (id, rule_id, event, subject, what, body, created, state, due) SELECT ?, ?2, ?, ?, ?, ?, ?, 'waiting', coalesce((SELECT min(due) FROM messages WHERE rule_id = ?2 AND state = 'waiting' AND attempts = 0), ?)
				WHERE EXISTS (SELECT 1 FROM notification_rules WHERE id = ?2) AND (SELECT count(*) FROM messages WHERE rule_id = ?2 AND state = 'waiting') < ? ON CONFLICT DO NOTHING`,
				m.ID, m.RuleID, m.Event, m.Subject, m.What, m.Body, m.Created, m.Due, waitingAtMost)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			added += int(n)
		}
		return nil
	})
	return added, err
}

const messagesFrom = `messages m JOIN notification_rules r ON r.id = m.rule_id`

// MessageFilter chooses messages; what is empty chooses all.
type MessageFilter struct{ Rule, State string }

// Messages lists messages, the newest first; sortable by created.
func (db *DB) Messages(ctx context.Context, f MessageFilter, p Page) (rows []Message, total int, err error) {
	var q query
	if f.Rule != "" {
		q.and("r.name = ?", f.Rule)
	}
	if f.State != "" {
		q.and("m.state = ?", f.State)
	}
	q.search(p.Search, []string{"m.what", "m.event", "r.name", "m.trouble"})
	total, err = db.list(ctx, listing{columns: "m.*, r.name AS rule", from: messagesFrom, key: "m.rowid", order: "m.created DESC, m.rowid DESC", fields: map[string]string{"created": "m.created"}}, &rows, q, p)
	return rows, total, err
}

// DueMessages are the messages to send, of rules that are not paused, the oldest first.
func (db *DB) DueMessages(ctx context.Context, now time.Time, most int) (rows []Message, err error) {
	err = db.read.SelectContext(ctx, &rows, `SELECT m.*, r.name AS rule FROM `+messagesFrom+` WHERE m.due <= ? AND NOT r.paused ORDER BY m.created, m.rowid LIMIT ?`, now.UTC(), most)
	return rows, err
}

// NextMessage is when the next message is due; zero if none is.
func (db *DB) NextMessage(ctx context.Context) (at time.Time, err error) {
	var due []time.Time
	err = db.read.SelectContext(ctx, &due, `SELECT m.due FROM `+messagesFrom+` WHERE m.due IS NOT NULL AND NOT r.paused ORDER BY m.due LIMIT 1`)
	if len(due) > 0 {
		at = due[0]
	}
	return at, err
}

// TriedMessages records what came of an attempt: the messages were taken (no trouble), are tried again when they are due, or are given up.
func (db *DB) TriedMessages(ctx context.Context, rule int64, ids []string, now time.Time, due sql.NullTime, trouble string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE notification_rules SET trouble = ? WHERE id = ?`, trouble, rule); err != nil {
			return err
		}
		state, ended := "sent", sql.NullTime{Time: now.UTC(), Valid: true}
		switch {
		case due.Valid:
			state, ended = "waiting", sql.NullTime{}
		case trouble != "":
			state = "given up"
		}
		query, args, err := sqlx.In(`UPDATE messages SET attempts = attempts + 1, state = ?, due = ?, trouble = ?, ended = ? WHERE id IN (?)`, state, due, trouble, ended, ids)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, query, args...)
		return err
	})
}

// SendAgain has a message that is over be sent once more.
func (db *DB) SendAgain(ctx context.Context, id string, now time.Time) error {
	r, err := db.exec(ctx, `UPDATE messages SET state = 'waiting', attempts = 0, due = ?, trouble = '', ended = NULL WHERE id = ?`, now.UTC(), id)
	return changed(r, err, "message", id)
}

// PauseRule says that nothing is sent by a rule any more, and why.
func (db *DB) PauseRule(ctx context.Context, id int64, trouble string) error {
	_, err := db.exec(ctx, `UPDATE notification_rules SET paused = TRUE, trouble = ? WHERE id = ?`, trouble, id)
	return err
}

// ForgetMessages removes those that were over before a time.
func (db *DB) ForgetMessages(ctx context.Context, before time.Time) error {
	_, err := db.exec(ctx, `DELETE FROM messages WHERE ended < ?`, before.UTC())
	return err
}

// Mailing says which server takes mail.
type Mailing struct {
	Server      string `db:"server"` // HOST:PORT; empty while there is none
	Security    string `db:"security"`
	Account     string `db:"account"`
	Secret      string `db:"secret"` // sealed
	Sender      string `db:"sender"`
	Certificate string `db:"certificate"`
}

// Mailing tells which server takes mail.
func (db *DB) Mailing(ctx context.Context) (m Mailing, err error) {
	return m, db.read.GetContext(ctx, &m, `SELECT server, security, account, secret, sender, certificate FROM mailing`)
}

// SetMailing says which server takes mail.
func (db *DB) SetMailing(ctx context.Context, m Mailing) error {
	_, err := db.exec(ctx, `UPDATE mailing SET server = ?, security = ?, account = ?, secret = ?, sender = ?, certificate = ?`, m.Server, m.Security, m.Account, m.Secret, m.Sender, m.Certificate)
	return err
}

// ToldParts tells in which state each part of the service was when somebody was told of it last.
func (db *DB) ToldParts(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Part  string `db:"part"`
		State string `db:"state"`
	}
	err := db.read.SelectContext(ctx, &rows, `SELECT part, state FROM told_parts`)
	all := map[string]string{}
	for _, r := range rows {
		all[r.Part] = r.State
	}
	return all, err
}

// SetToldParts records in which state each part is.
func (db *DB) SetToldParts(ctx context.Context, all map[string]string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM told_parts`); err != nil {
			return err
		}
		for part, state := range all {
			if _, err := tx.ExecContext(ctx, `INSERT INTO told_parts (part, state) VALUES (?, ?)`, part, state); err != nil {
				return err
			}
		}
		return nil
	})
}
