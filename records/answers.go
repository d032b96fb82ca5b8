package records

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"jugate/core/fault"
)

// AnswerPlace is where answers are set.
type AnswerPlace struct {
	Kind string `db:"kind"` // service, image, model, group or workstation
	Name string `db:"name"` // of the image, model, group or workstation; empty for the service
}

// Words is the place in a sentence.
func (p AnswerPlace) Words() string {
	switch p.Kind {
	case "service":
		return "the service"
	case "workstation":
		return p.Name
	case OfDelivery:
		return "this delivery"
	}
	return "the " + p.Kind + " " + p.Name
}

// OfDelivery is the kind of place of answers that a delivery has of its own. They are kept with
// that.
const OfDelivery = "delivery"

// Answer is one value that is set.
type Answer struct {
	AnswerPlace
	Key   string `db:"key"`
	Value string `db:"value"` // as JSON; sealed if the key is a secret
}

// owner finds the number of a place, and its name in its own spelling.
func (p *AnswerPlace) owner(ctx context.Context, q sqlx.QueryerContext) (owner int64, model string, err error) {
	table := map[string]string{"image": "images", "group": "groups", "workstation": "workstations"}[p.Kind]
	switch {
	case p.Kind == "service":
		return 0, "", nil
	case p.Kind == "model":
		return 0, p.Name, nil
	case table == "":
		return 0, "", fault.Invalid.Errorf("answers cannot be set on a %s", p.Kind)
	}
	var found struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}
	err = sqlx.GetContext(ctx, q, &found, "SELECT id, name FROM "+table+" WHERE name = ? COLLATE NOCASE", p.Name)
	if err == nil {
		p.Name = found.Name
	}
	return found.ID, "", missing(err, p.Kind, p.Name)
}

// Place finds out which place a name means: a group or a workstation.
func (db *DB) Place(ctx context.Context, name string) (AnswerPlace, error) {
	for _, kind := range []string{"group", "workstation"} {
		p := AnswerPlace{Kind: kind, Name: name}
		if _, _, err := p.owner(ctx, db.read); err == nil || !errors.Is(err, fault.NotFound) {
			return p, err
		}
	}
	return AnswerPlace{}, fault.NotFound.Errorf("there is no group and no workstation %s", name)
}

// SetAnswers sets values in a place, all or none; an empty one unsets its key.
func (db *DB) SetAnswers(ctx context.Context, p AnswerPlace, values map[string]string) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		owner, model, err := p.owner(ctx, tx)
		if err != nil {
			return err
		}
		_, err = setAnswers(ctx, tx, p.Kind, owner, model, values)
		return err
	})
}

// setAnswers tells which keys have changed.
func setAnswers(ctx context.Context, tx *sqlx.Tx, kind string, owner int64, model string, values map[string]string) (changed []string, err error) {
	for _, key := range slices.Sorted(maps.Keys(values)) {
		var was string
		err := tx.GetContext(ctx, &was, `SELECT value FROM answers WHERE kind = ? AND owner = ? AND model = ? AND key = ?`, kind, owner, model, key)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
		value := values[key]
		if was == value {
			continue
		}
		changed = append(changed, key)
		if value == "" {
			_, err = tx.ExecContext(ctx, `DELETE FROM answers WHERE kind = ? AND owner = ? AND model = ? AND key = ?`, kind, owner, model, key)
		} else {
			_, err = tx.ExecContext(ctx, `INSERT INTO answers (kind, owner, model, key, value) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`, kind, owner, model, key, value)
		}
		if err != nil {
			return nil, err
		}
	}
	return changed, nil
}

const answersWithNames = `SELECT a.kind, a.key, a.value, CASE a.kind WHEN 'model' THEN a.model
	WHEN 'image' THEN (SELECT name FROM images WHERE id = a.owner) WHEN 'group' THEN (SELECT name FROM groups WHERE id = a.owner)
	WHEN 'workstation' THEN coalesce((SELECT name FROM workstations WHERE id = a.owner), '') ELSE '' END AS name FROM answers a`

// AnswersFor are those that are set on one workstation, and on what workstations have in common.
func (db *DB) AnswersFor(ctx context.Context, workstation int64) (rows []Answer, err error) {
	err = db.read.SelectContext(ctx, &rows, answersWithNames+` WHERE a.kind IN ('service', 'image', 'model', 'group') OR a.kind = 'workstation' AND a.owner = ? ORDER BY a.kind, name, a.key`, workstation)
	return rows, err
}

// Answers are all that is set, or what is set in one place.
func (db *DB) Answers(ctx context.Context, in *AnswerPlace) (rows []Answer, err error) {
	statement, args := answersWithNames, []any{}
	if in != nil {
		owner, model, err := in.owner(ctx, db.read)
		if err != nil {
			return nil, err
		}
		statement += ` WHERE a.kind = ? AND a.owner = ? AND a.model = ?`
		args = []any{in.Kind, owner, model}
	}
	err = db.read.SelectContext(ctx, &rows, statement+` ORDER BY a.kind, name, a.key`, args...)
	return rows, err
}
