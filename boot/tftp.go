package boot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jugate/core/fault"
	"jugate/core/netboot"
)

// Content is a file that is sent. It is closed when the transfer is over, if it is
// an io.Closer.
type Content interface {
	io.ReaderAt
	Length() int64
}

// TFTP serves files for reading.
type TFTP struct {
	// Open opens a file for a client. Errors are told to the client in words.
	Open func(name string, client netip.Addr) (Content, error)
	// Done is told of each transfer's end; a client that breaks off, as firmware does
	// that only wants to know the size, ends with its error.
	Done func(name string, client netip.Addr, bytes int64, err error)

	mu     sync.Mutex
	active map[netip.Addr]int
	all    int
}

// Limits on transfers at the same time: a flood takes no more than that.
const (
	transfersAtMost = 256
	perClient       = 16
)

// Serve answers on a socket until ctx ends.
func (s *TFTP) Serve(ctx context.Context, c *net.UDPConn) error {
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	var transfers sync.WaitGroup
	defer transfers.Wait()
	buf := make([]byte, 2048)
	for {
		n, from, err := c.ReadFromUDPAddrPort(buf)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		r, err := netboot.ParseTFTP(buf[:n])
		var refusal *netboot.TFTPError
		if errors.As(err, &refusal) {
			c.WriteToUDPAddrPort(refusal.Packet(), from)
			s.Done("", from.Addr(), 0, err)
			continue
		}
		if err != nil {
			continue
		}
		if !s.enter(from.Addr()) {
			continue // it will ask again
		}
		local := c.LocalAddr().(*net.UDPAddr).IP
		transfers.Go(func() {
			defer s.leave(from.Addr())
			var sent int64
			err := fault.Guard(func() (err error) {
				sent, err = s.transfer(ctx, local, from, r)
				return err
			})
			s.Done(r.File, from.Addr(), sent, err)
		})
	}
}

func (s *TFTP) enter(a netip.Addr) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.active == nil {
		s.active = map[netip.Addr]int{}
	}
	if s.all >= transfersAtMost || s.active[a] >= perClient {
		return false
	}
	s.all++
	s.active[a]++
	return true
}

func (s *TFTP) leave(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.active[a]--; s.active[a] == 0 {
		delete(s.active, a)
	}
}

// strangersAtMost is how many packets of others a transfer answers: there should be
// none.
const strangersAtMost = 4

// transfer sends one file, from a port of its own (RFC 1350, 4).
func (s *TFTP) transfer(ctx context.Context, local net.IP, to netip.AddrPort, r *netboot.TFTPRequest) (int64, error) {
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: local})
	if err != nil {
		return 0, err
	}
	defer c.Close()
	if err := hearClosedPorts(c); err != nil {
		return 0, err
	}
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	content, err := s.Open(r.File, to.Addr())
	if err != nil {
		c.WriteToUDPAddrPort(netboot.NotFound(err.Error()).Packet(), to)
		return 0, err
	}
	if closer, ok := content.(io.Closer); ok {
		defer closer.Close()
	}
	t, err := netboot.NewTransfer(r, content, content.Length())
	if err != nil {
		c.WriteToUDPAddrPort(netboot.NotFound(err.Error()).Packet(), to)
		return 0, err
	}
	packets, err := t.First(time.Now())
	buf := make([]byte, 2048)
	for strangers := 0; ; {
		for _, p := range packets {
			c.WriteToUDPAddrPort(p, to) // what is lost, or refused for now, is sent again
		}
		if done, failed := t.Done(); done || err != nil {
			return t.Acknowledged(), errors.Join(err, failed)
		}
		c.SetReadDeadline(t.Deadline())
		n, from, readErr := c.ReadFromUDPAddrPort(buf)
		packets = nil
		switch {
		case ctx.Err() != nil:
			return t.Acknowledged(), ctx.Err()
		case readErr == nil && netip.AddrPortFrom(from.Addr().Unmap(), from.Port()) != to:
			if strangers++; strangers <= strangersAtMost {
				c.WriteToUDPAddrPort(netboot.UnknownTransfer().Packet(), from)
			}
		case readErr == nil:
			packets, err = t.Handle(time.Now(), buf[:n])
		case errors.Is(readErr, os.ErrDeadlineExceeded):
			packets, err = t.Timeout(time.Now())
		default: // it closed its port: ICMP says so
			return t.Acknowledged(), fmt.Errorf("the client has gone: %w", readErr)
		}
	}
}

// hearClosedPorts has errors of ICMP reported on a socket that is not connected, as
// ip(7) says of IP_RECVERR.
func hearClosedPorts(c *net.UDPConn) error {
	raw, err := c.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Control(func(fd uintptr) { failed = unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_RECVERR, 1) })
	return errors.Join(err, failed)
}
