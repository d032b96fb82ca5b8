package bootwire

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
			sent, err := s.transfer(ctx, local, from, r)
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

// transfer sends one file, from a port of its own (RFC 1350, 4).
func (s *TFTP) transfer(ctx context.Context, local net.IP, to netip.AddrPort, r *netboot.TFTPRequest) (int64, error) {
	c, err := net.DialUDP("udp4", &net.UDPAddr{IP: local}, net.UDPAddrFromAddrPort(to))
	if err != nil {
		return 0, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	content, err := s.Open(r.File, to.Addr())
	if err != nil {
		c.Write(netboot.NotFound(err.Error()).Packet())
		return 0, err
	}
	if closer, ok := content.(io.Closer); ok {
		defer closer.Close()
	}
	t := netboot.NewTransfer(r, content, content.Length())
	packets, err := t.First(time.Now())
	buf := make([]byte, 2048)
	for {
		for _, p := range packets {
			c.Write(p) // what is lost, or refused for now, is sent again
		}
		if done, failed := t.Done(); done || err != nil {
			return t.Acknowledged(), errors.Join(err, failed)
		}
		c.SetReadDeadline(t.Deadline())
		n, readErr := c.Read(buf)
		switch {
		case ctx.Err() != nil:
			return t.Acknowledged(), ctx.Err()
		case readErr == nil:
			packets, err = t.Handle(time.Now(), buf[:n])
		case errors.Is(readErr, os.ErrDeadlineExceeded):
			packets, err = t.Timeout(time.Now())
		default: // it closed its port: ICMP says so
			return t.Acknowledged(), fmt.Errorf("the client has gone: %w", readErr)
		}
	}
}
