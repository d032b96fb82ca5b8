package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
)

// ErrNewer says that the records were written by a newer program.
var ErrNewer = errors.New("the records were written by a newer version of jugate")

// copiesKept is how many copies from before an upgrade are kept.
const copiesKept = 2

// migrate brings the schema up to date. A table that is made anew is dropped first, and what refers to it would be in the way: so
// references are looked at when all is done (SQLite's manual, "ALTER TABLE", section 7). db has one connection.
func migrate(ctx context.Context, now time.Time, db *sql.DB, path string) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithGoMigrations(moveChains(now)))
	if err != nil {
		return err
	}
	known := provider.ListSources()
	newest := known[len(known)-1].Version
	current, err := provider.GetDBVersion(ctx)
	switch {
	case err != nil || current == newest:
		return err
	case current > newest:
		return tooNew(path, current, newest)
	case current > 0:
		if err := keepBefore(ctx, path, current); err != nil {
			return fmt.Errorf("keep a copy of the records before they are brought to another form: %w", err)
		}
	}
	if _, err := db.ExecContext(ctx, "PRAGMA foreign_keys = 0"); err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	_, on := db.ExecContext(ctx, "PRAGMA foreign_keys = 1")
	if err = errors.Join(err, on); err != nil {
		return err
	}
	var dangling int
	if err := db.QueryRowContext(ctx, "SELECT count(*) FROM pragma_foreign_key_check").Scan(&dangling); err != nil || dangling == 0 {
		return err
	}
	return fmt.Errorf("%d rows refer to what is not there", dangling)
}

// copyBefore is where the records are kept as they were in a form, before a newer program changed that.
func copyBefore(path string, form int64) string { return fmt.Sprintf("%s.form-%d", path, form) }

// copies are the copies of records from before upgrades, by their forms, the oldest first.
func copies(path string) (forms []int64, err error) {
	all, err := filepath.Glob(path + ".form-*")
	for _, one := range all {
		if n, err := strconv.ParseInt(strings.TrimPrefix(one, path+".form-"), 10, 64); err == nil {
			forms = append(forms, n)
		}
	}
	slices.Sort(forms)
	return forms, err
}

// keepBefore copies the records as they are, and removes older copies. One that is there already is of an upgrade that was cut off,
// and stays: what is copied now may be half-way.
func keepBefore(ctx context.Context, path string, form int64) error {
	to := copyBefore(path, form)
	if _, err := os.Stat(to); err == nil {
		return nil
	}
	unfinished := to + ".unfinished"
	if err := os.Remove(unfinished); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := (&DB{path: path}).CopyTo(ctx, unfinished); err != nil {
		os.Remove(unfinished)
		return err
	}
	if err := os.Chmod(unfinished, 0o600); err != nil {
		return err
	}
	if err := os.Rename(unfinished, to); err != nil {
		return err
	}
	forms, err := copies(path)
	for _, old := range forms[:max(len(forms)-copiesKept, 0)] {
		err = errors.Join(err, os.Remove(copyBefore(path, old)))
	}
	return err
}

// tooNew says how to go back from records that are newer than the program.
func tooNew(path string, current, newest int64) error {
	way := "no copy was kept of how they were before"
	forms, err := copies(path)
	if i := slices.IndexFunc(forms, func(f int64) bool { return f > newest }); i >= 0 { // of a version in between
		forms = forms[:i]
	}
	if err == nil && len(forms) > 0 {
		last := copyBefore(path, forms[len(forms)-1])
		way = fmt.Sprintf("to go back all the same, with what was recorded until %s was made and nothing later: move %s away, with %s-wal and %s-shm if they are there, and rename that copy to %s", last, path, path, path, path)
	}
	return fmt.Errorf("%w: they have form %d, and this one knows up to %d. Install the newer version again; %s", ErrNewer, current, newest, way)
}
