package durable

import (
	"errors"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// Reserve is a file that takes up space so that it can be freed when the disk is full.
type Reserve struct {
	Path  string
	Bytes int64

	mu sync.Mutex
}

// Fill takes the room. An error says that there is not enough, or why it cannot; nothing
// is taken then.
func (r *Reserve) Fill() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if info, err := os.Stat(r.Path); err == nil && info.Size() == r.Bytes {
		return nil
	}
	f, err := os.OpenFile(r.Path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(unix.Fallocate(int(f.Fd()), 0, 0, r.Bytes), f.Close()); err != nil {
		return errors.Join(err, os.Remove(r.Path))
	}
	return nil
}

// Give gives the room up, and tells whether there was any.
func (r *Reserve) Give() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return os.Remove(r.Path) == nil
}
