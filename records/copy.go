package records

import (
	"context"
	"database/sql"
	"errors"
	"net/url"

	"modernc.org/sqlite"
)

// pagesAtOnce is how many pages a copy takes before it looks whether anybody wants it to end.
const pagesAtOnce = 4096

// CopyTo makes a copy of the records in a new file, while they are used: SQLite's own online backup. It is
// the state of one moment.
func (db *DB) CopyTo(ctx context.Context, path string) (err error) {
	raw, err := sql.Open("sqlite", "file:"+url.PathEscape(db.path)+"?_pragma=busy_timeout(10000)&_pragma=query_only(1)")
	if err != nil {
		return err
	}
	defer raw.Close()
	c, err := raw.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return c.Raw(func(driver any) error {
		b, err := driver.(interface {
			NewBackup(path string) (*sqlite.Backup, error)
		}).NewBackup(path)
		if err != nil {
			return err
		}
		for more := true; more && err == nil; {
			if more, err = b.Step(pagesAtOnce); err == nil {
				err = ctx.Err()
			}
		}
		return errors.Join(err, b.Finish())
	})
}
