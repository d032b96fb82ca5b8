// Package recordstest has the records of a new service at hand. To make them from the first migration on takes tests longer than most of
// what they test.
package recordstest

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"jugate/records"
)

// migrated is a file of records in which nothing is.
var migrated = sync.OnceValues(func() (file []byte, err error) {
	dir, err := os.MkdirTemp("", "records")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "jugate.db")
	db, err := records.Open(context.Background(), time.Now(), path)
	if err == nil {
		err = db.Close()
	}
	if err == nil {
		file, err = os.ReadFile(path)
	}
	return file, err
})

// Put puts empty records into a folder, which is made if it has to be.
func Put(t testing.TB, folder string) (path string) {
	t.Helper()
	path = filepath.Join(folder, "jugate.db")
	empty, err := migrated()
	if err := errors.Join(err, os.MkdirAll(folder, 0o750)); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, empty, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// Open opens empty records until the test ends.
func Open(t testing.TB, now time.Time) *records.DB {
	t.Helper()
	db, err := records.Open(t.Context(), now, Put(t, t.TempDir()))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}
