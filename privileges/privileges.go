// Package privileges gives up what a service or an outpost does not need of what root may
// (capabilities(7)), before it opens anything:
//
//   - CAP_NET_BIND_SERVICE opens the ports of network boot, 67, 69 and 4011;
//   - CAP_NET_RAW asks whether an address is in use before mode whole gives it (ARP);
//   - CAP_NET_ADMIN gives streams larger buffers than the system grants everybody;
//   - CAP_DAC_OVERRIDE and CAP_FOWNER are kept by root alone, and where the data folder is somebody else's.
package privileges

import (
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
	"kernel.org/pub/linux/libs/security/libcap/cap"
)

// GiveUp drops all capabilities that are not needed, and says in the log what it has and lacks.
func GiveUp(log *slog.Logger, data string, boots bool) error {
	now := cap.GetProc()
	want := []cap.Value{cap.NET_BIND_SERVICE, cap.NET_RAW, cap.NET_ADMIN}
	if others(data) {
		want = append(want, cap.DAC_OVERRIDE, cap.FOWNER)
	}
	keep := cap.NewSet()
	lacks := map[cap.Value]bool{}
	for _, c := range want {
		has, err := now.GetFlag(cap.Permitted, c)
		if err != nil {
			return err
		}
		if lacks[c] = !has; has {
			if err := errors.Join(keep.SetFlag(cap.Permitted, true, c), keep.SetFlag(cap.Effective, true, c)); err != nil {
				return err
			}
		}
	}
	if err := keep.SetProc(); err != nil {
		return err
	}
	if _, err := cap.Prctlw(unix.PR_SET_NO_NEW_PRIVS, 1); err != nil { // nor does a program that it starts get more
		return err
	}
	log.Info("what is not needed was given up", "user", os.Geteuid(), "capabilities", keep.String())
	if lacks[cap.NET_BIND_SERVICE] && boots {
		log.Warn("without CAP_NET_BIND_SERVICE the ports of network boot (67, 69 and 4011) cannot be opened, unless the system lets everybody")
	}
	if lacks[cap.NET_RAW] && boots {
		log.Warn("without CAP_NET_RAW nobody is asked whether an address is in use before mode whole gives it")
	}
	if lacks[cap.NET_ADMIN] {
		log.Info("without CAP_NET_ADMIN streams have the buffers that net.core.rmem_max and wmem_max grant")
	}
	return nil
}

// others tells whether this is root and its data folder somebody else's.
func others(data string) bool {
	info, err := os.Stat(data)
	if errors.Is(err, fs.ErrNotExist) || err != nil || os.Geteuid() != 0 {
		return false
	}
	of, is := info.Sys().(*syscall.Stat_t)
	return is && of.Uid != 0
}
