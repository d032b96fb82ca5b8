package records

import (
	"context"

	"jugate/api"
	"jugate/core/driver"
)

// DriverSets are all sets, by name.
func (db *DB) DriverSets(ctx context.Context) ([]driver.Set, error) {
	var texts []string
	if err := db.read.SelectContext(ctx, &texts, `SELECT definition FROM driver_sets ORDER BY name`); err != nil {
		return nil, err
	}
	sets := make([]driver.Set, len(texts))
	for i, text := range texts {
		var err error
		if sets[i], err = decode[driver.Set]("a driver set", text); err != nil {
			return nil, err
		}
	}
	return sets, nil
}

// DriverSet finds one by name.
func (db *DB) DriverSet(ctx context.Context, name string) (driver.Set, error) {
	var text string
	if err := db.read.GetContext(ctx, &text, `SELECT definition FROM driver_sets WHERE name = ?`, name); err != nil {
		return driver.Set{}, missing(err, "driver set", name)
	}
	return decode[driver.Set]("the driver set "+name, text)
}

// SaveDriverSet keeps a set; one of the same name is replaced.
func (db *DB) SaveDriverSet(ctx context.Context, s driver.Set) error {
	_, err := db.exec(ctx, `INSERT INTO driver_sets (name, definition) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET definition = excluded.definition`, s.Name, encode(s))
	return err
}

// RemoveDriverSet forgets a set.
func (db *DB) RemoveDriverSet(ctx context.Context, name string) error {
	result, err := db.exec(ctx, `DELETE FROM driver_sets WHERE name = ?`, name)
	return changed(result, err, "driver set", name)
}

// SetErrandResult notes what came of an errand that installs drivers or brings payloads.
func (db *DB) SetErrandResult(ctx context.Context, id int64, result api.Installed) error {
	changes, err := db.exec(ctx, `UPDATE errands SET result = ? WHERE id = ?`, encode(result), id)
	return changed(changes, err, "errand", id)
}
