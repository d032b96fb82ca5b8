package setup

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"jugate/boot"
	"jugate/core/durable"
)

// Here is this machine, with systemd if it runs here.
var Here Machine = here{}

type here struct{}

// Service is what the service and its user are called.
const Service = "jugate"

func (here) Interfaces() (all []Interface, err error) {
	interfaces, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	for _, i := range interfaces {
		if i.Flags&net.FlagLoopback != 0 || len(i.HardwareAddr) == 0 {
			continue
		}
		one := Interface{Name: i.Name, Up: i.Flags&net.FlagRunning != 0}
		addresses, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() {
				one.Addresses = append(one.Addresses, p)
			}
		}
		all = append(all, one)
	}
	return all, nil
}

func (here) OtherServers(ctx context.Context, ifname string) ([]netip.Addr, error) {
	return boot.Others(ctx, ifname)
}

func (here) Free(dir string) (int64, bool, string) {
	at := dir
	for {
		info, err := os.Stat(at)
		if err == nil && !info.IsDir() {
			return 0, false, at + " is not a folder"
		}
		if err == nil {
			break
		}
		at = filepath.Dir(at)
	}
	if at == dir && !empty(dir) && !has(dir, "jugate.db") {
		return 0, false, dir + " is not empty, and not the data folder of a service"
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(at, &fs); err != nil {
		return 0, false, fmt.Sprintf("%s: %v", at, err)
	}
	if fs.Flags&unix.ST_RDONLY != 0 {
		return 0, false, at + " cannot be written: its file system is read-only"
	}
	return int64(fs.Bavail) * fs.Bsize, fs.Type != unix.TMPFS_MAGIC && fs.Type != unix.RAMFS_MAGIC, ""
}

func empty(dir string) bool {
	entries, err := os.ReadDir(dir)
	return err == nil && len(entries) == 0
}

func has(dir, name string) bool {
	_, err := os.Lstat(filepath.Join(dir, name))
	return err == nil
}

func (here) Listens(a netip.AddrPort) error {
	l, err := net.Listen("tcp", a.String())
	if err == nil {
		return l.Close()
	}
	if errors.Is(err, unix.EADDRINUSE) && running() {
		return nil
	}
	return fmt.Errorf("nothing can listen on %s: %w", a, err)
}

// running tells whether the service manager runs the service.
func running() bool {
	return exec.Command("systemctl", "is-active", "--quiet", Service+".service").Run() == nil
}

// dropIn has the unit of the service write to another folder.
const dropIn = "/etc/systemd/system/jugate.service.d/data.conf"

func (here) Own(dir string) error {
	u, err := user.Lookup(Service)
	if err != nil {
		return fmt.Errorf("the service's user: %w; the package makes it", err)
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	if err := os.Lchown(dir, uid, gid); err != nil {
		return err
	}
	if filepath.Clean(dir) == DataFolder { // the unit says so itself
		err := os.Remove(dropIn)
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		return err
	}
	if err := os.MkdirAll(filepath.Dir(dropIn), 0o755); err != nil {
		return err
	}
	text := "# Written by jugate setup.\n[Service]\nReadWritePaths=" + systemdPath(dir) + "\n"
	return durable.Write(dropIn, []byte(text), 0o644)
}

// systemdPath writes a path as unit files want it (systemd.syntax(7)).
func systemdPath(path string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%").Replace(path) + `"`
}

func (here) ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }

func (here) WriteFile(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return durable.Write(path, text, 0o644)
}

func (here) Start(ctx context.Context) error {
	if _, err := os.Stat("/run/systemd/system"); err != nil {
		return errors.New("no systemd runs here; start the service with jugate serve")
	}
	for _, args := range [][]string{{"daemon-reload"}, {"enable", "--quiet", Service + ".service"}, {"restart", Service + ".service"}} {
		if out, err := exec.CommandContext(ctx, "systemctl", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("systemctl %s: %w: %s\njournalctl -u %s tells more", strings.Join(args, " "), err, strings.TrimSpace(string(out)), Service)
		}
	}
	return nil
}
