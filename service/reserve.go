package service

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"jugate/core/fault"

	"golang.org/x/sys/unix"
)

const (
	// keepFree is how much of the records' disk slabs leave free: what has been received
	// has to be recorded.
	keepFree = 256 << 20
	// reserveBytes is what is given up when something else has filled the disk: room for
	// some ten thousand receipts.
	reserveBytes = 16 << 20
)

// reserve is room on the disk that is given up for receipts when there is no other.
type reserve struct {
	path string
	log  *slog.Logger
	mu   sync.Mutex
}

func openReserve(path string, log *slog.Logger) *reserve {
	r := &reserve{path: path, log: log}
	r.fill()
	return r
}

// fill takes the room, if there is enough.
func (r *reserve) fill() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if info, err := os.Stat(r.path); err == nil && info.Size() == reserveBytes {
		return
	}
	f, err := os.OpenFile(r.path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(unix.Fallocate(int(f.Fd()), 0, 0, reserveBytes), f.Close())
	}
	if err != nil {
		r.log.Warn("there is no room for the reserve that receipts could need", "bytes", reserveBytes, "error", errors.Join(err, os.Remove(r.path)))
	}
}

// give gives the room up, and tells whether there was any.
func (r *reserve) give() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := os.Remove(r.path)
	if err == nil {
		r.log.Error("the disk of the records is full; the reserve was given up for them. Free some room")
	}
	return err == nil
}

// roomForSlabs tells whether slabs may take more of the disk, as long as they share it
// with the records.
func (s *Service) roomForSlabs() error {
	var store, data unix.Stat_t
	var free unix.Statfs_t
	if err := errors.Join(unix.Stat(filepath.Join(s.config.Data, "slabs"), &store), unix.Stat(s.config.Data, &data), unix.Statfs(s.config.Data, &free)); err != nil {
		return err
	}
	if left := int64(free.Bavail) * free.Bsize; store.Dev == data.Dev && left < s.config.KeepFree {
		return fault.Full.Errorf("the service's store is full: its disk has %d bytes left, and %d are kept for the records; free some room on it and try again", left, s.config.KeepFree)
	}
	return nil
}
