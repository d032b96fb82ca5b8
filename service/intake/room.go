package intake

import (
	"errors"
	"path/filepath"

	"golang.org/x/sys/unix"

	"jugate/core/fault"
)

// KeepFree is how much of the records' disk slabs leave free: what has been received
// has to be recorded.
const KeepFree = 256 << 20

// Room tells whether slabs may take more of the disk, as long as they share it
// with the records.
func (k *Intake) Room() error {
	var store, data unix.Stat_t
	var free unix.Statfs_t
	if err := errors.Join(unix.Stat(filepath.Join(k.Dir, "slabs"), &store), unix.Stat(k.Dir, &data), unix.Statfs(k.Dir, &free)); err != nil {
		return err
	}
	if left := int64(free.Bavail) * free.Bsize; store.Dev == data.Dev && left < k.KeepFree {
		return fault.Full.Errorf("the service's store is full: its disk has %d bytes left, and %d are kept for the records; free some room on it and try again", left, k.KeepFree)
	}
	return nil
}
