package machine

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// mountAll mounts what every process expects. EFI variables are there on UEFI alone.
func mountAll() error {
	var errs []error
	for _, m := range []struct{ kind, at, options string }{
		{"proc", "/proc", ""},
		{"sysfs", "/sys", ""},
		{"devtmpfs", "/dev", "mode=0755"},
		{"tmpfs", "/run", "mode=0755"},
		{"tmpfs", "/tmp", "mode=1777"},
	} {
		if err := os.MkdirAll(m.at, 0o755); err != nil {
			errs = append(errs, err)
		}
		if err := unix.Mount(m.kind, m.at, m.kind, unix.MS_NOSUID, m.options); err != nil && !errors.Is(err, unix.EBUSY) {
			errs = append(errs, fmt.Errorf("mount %s: %w", m.at, err))
		}
	}
	return errors.Join(errs...)
}
