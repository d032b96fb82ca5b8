package lab

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Distance lies between two networks: packets take their time, and some are lost.
type Distance struct {
	ends [2]*os.File
	work sync.WaitGroup
}

// onTheWay bounds how many packets are on their way in one direction.
const onTheWay = 4096

// Distance puts a host's two networks apart that packets pass between: each takes so long in each direction, and this share of them
// is lost. The networks are given with the interfaces that they are behind.
func (h *Host) Distance(ctx context.Context, delay time.Duration, loss float64, near string, nearNet netip.Prefix, far string, farNet netip.Prefix) (*Distance, error) {
	d := &Distance{}
	sides := [2]struct {
		tun, from string
		to        netip.Prefix
	}{{"apart0", near, farNet}, {"apart1", far, nearNet}}
	for i, s := range sides {
		if err := h.Inside(func() (err error) {
			d.ends[i], err = openTun(s.tun)
			return err
		}); err != nil {
			return nil, errors.Join(err, d.Close())
		}
		table := fmt.Sprint(100 + i)
		for _, args := range [][]string{
			{"ip", "link", "set", s.tun, "up"},
			{"ip", "route", "add", s.to.String(), "dev", s.tun, "table", table},
			{"ip", "rule", "add", "iif", s.from, "to", s.to.String(), "lookup", table},
			{"sysctl", "-q", "-w", "net.ipv4.conf." + s.tun + ".rp_filter=0"},
		} {
			if err := h.do(ctx, args...); err != nil {
				return nil, errors.Join(err, d.Close())
			}
		}
	}
	for i := range d.ends {
		d.work.Go(func() { carry(d.ends[i], d.ends[1-i], delay, loss) })
	}
	return d, nil
}

// Close ends the carrying; what is on its way is lost.
func (d *Distance) Close() error {
	var err error
	for _, f := range d.ends {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
	}
	d.work.Wait()
	return err
}

// carry takes packets that leave by one end to the other, until one of them is closed.
func carry(from, to *os.File, delay time.Duration, loss float64) {
	type packet struct {
		due   time.Time
		bytes []byte
	}
	way := make(chan packet, onTheWay)
	var work sync.WaitGroup
	work.Go(func() {
		for p := range way {
			time.Sleep(time.Until(p.due)) // that is what a distance is
			to.Write(p.bytes)
		}
	})
	defer work.Wait()
	defer close(way)
	b := make([]byte, 65536)
	for {
		n, err := from.Read(b)
		if err != nil {
			return
		}
		if rand.Float64() < loss {
			continue
		}
		select {
		case way <- packet{time.Now().Add(delay), append([]byte(nil), b[:n]...)}:
		default: // as a router does that has no room
		}
	}
}

// openTun makes an interface whose packets a program carries.
func openTun(name string) (*os.File, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("open /dev/net/tun: %w", err)
	}
	r, err := unix.NewIfreq(name)
	if err == nil {
		r.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
		err = unix.IoctlIfreq(fd, unix.TUNSETIFF, r)
	}
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("make the interface %s: %w", name, err)
	}
	return os.NewFile(uintptr(fd), name), nil
}
