package machine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"jugate/core/kmod"
)

// modules loads modules into the kernel that runs.
type modules struct {
	folder string // lib/modules/RELEASE
	index  *kmod.Index

	mu     sync.Mutex
	loaded map[string]error
}

// openModules reads the index of the modules of the kernel that runs.
func openModules() (*modules, error) {
	var u unix.Utsname
	if err := unix.Uname(&u); err != nil {
		return nil, err
	}
	m := &modules{folder: filepath.Join("/lib/modules", unix.ByteSliceToString(u.Release[:])), loaded: map[string]error{}}
	dep, err := os.ReadFile(filepath.Join(m.folder, "modules.dep"))
	if err != nil {
		return nil, err
	}
	aliases, err := os.ReadFile(filepath.Join(m.folder, "modules.alias"))
	if err != nil {
		return nil, err
	}
	m.index, err = kmod.ReadIndex(bytes.NewReader(dep), bytes.NewReader(aliases))
	return m, err
}

// load loads modules and what they need.
func (m *modules) load(names ...string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	order, err := m.index.Order(names...)
	errs := []error{err}
	for _, one := range order {
		err, tried := m.loaded[one.Name]
		if !tried {
			path := one.Path
			if !filepath.IsAbs(path) {
				path = filepath.Join(m.folder, path)
			}
			err = insert(path)
			m.loaded[one.Name] = err
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

func insert(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := unix.FinitModule(int(f.Fd()), "", 0); err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("load %s: %w", filepath.Base(file), err)
	}
	return nil
}

// want loads what a device asks for by its modalias.
func (m *modules) want(modalias string) {
	m.mu.Lock()
	names := m.index.Match(modalias)
	m.mu.Unlock()
	if names != nil {
		if err := m.load(names...); err != nil {
			slog.Warn("a device asks for modules", "modalias", modalias, "error", err)
		}
	}
}

// coldplug loads modules for all devices that are there. Loading one for a bus may
// bring new devices, which are heard of by events.
func (m *modules) coldplug() error {
	return filepath.WalkDir("/sys/devices", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it was taken away meanwhile
		}
		if e.Name() == "modalias" {
			if text, err := os.ReadFile(name); err == nil {
				m.want(strings.TrimSpace(string(text)))
			}
		}
		return nil
	})
}

// events hears of new devices, from the kernel's socket for them.
type events struct{ file *os.File }

func listenEvents() (*events, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1}), unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 8<<20)); err != nil {
		return nil, errors.Join(err, unix.Close(fd))
	}
	return &events{os.NewFile(uintptr(fd), "uevents")}, nil
}

// follow loads modules for devices as they come, until ctx ends, and rings after
// each new one.
func (e *events) follow(ctx context.Context, m *modules, bell chan<- struct{}) {
	stop := context.AfterFunc(ctx, func() { e.file.Close() })
	defer stop()
	buf := make([]byte, 64<<10)
	for {
		n, err := e.file.Read(buf)
		if err != nil {
			if ctx.Err() != nil || errors.Is(err, os.ErrClosed) {
				return
			}
			continue // ENOBUFS: some were missed
		}
		modalias, added := event(buf[:n])
		if modalias != "" {
			m.want(modalias)
		}
		if added {
			select {
			case bell <- struct{}{}:
			default:
			}
		}
	}
}

// event reads one of the kernel's messages: "add@/devices/…" and KEY=VALUE, each
// ended by a zero byte.
func event(b []byte) (modalias string, added bool) {
	for i, field := range bytes.Split(b, []byte{0}) {
		if i == 0 {
			added = bytes.HasPrefix(field, []byte("add@"))
		}
		if value, found := bytes.CutPrefix(field, []byte("MODALIAS=")); found && added {
			modalias = string(value)
		}
	}
	return modalias, added
}

// Modprobe is what the kernel calls when it wants a module, as
// "modprobe -q -- NAME"; the name may be an alias.
func Modprobe(args []string) error {
	m, err := openModules()
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range args {
		if strings.HasPrefix(name, "-") {
			continue
		}
		if _, known := m.index.Module(name); known {
			errs = append(errs, m.load(name))
		} else if names := m.index.Match(name); names != nil {
			errs = append(errs, m.load(names...))
		} else {
			errs = append(errs, fmt.Errorf("%w: %s", kmod.ErrMissing, name))
		}
	}
	return errors.Join(errs...)
}
