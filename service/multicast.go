package service

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/time/rate"

	"jugate/core/delivery"
	"jugate/core/stream"
)

// Multicast says where streams go.
type Multicast struct {
	// Interface is the name of the network interface; empty leaves the choice
	// to the system's routes.
	Interface string
	// Groups is the range that deliveries take their addresses from, by default
	// 239.255.0.0/24 of the site-local scope (RFC 2365).
	Groups netip.Prefix
	Port   uint16 // 6003 by default
	TTL    int    // 1 by default; NoTTL stands for 0, which never leaves the machine
	Rate   int64  // bits a second of one stream, 100 Mbit/s by default
}

// NoTTL as Multicast.TTL keeps packets on this machine.
const NoTTL = -1

func (m *Multicast) setDefaults() {
	if !m.Groups.IsValid() {
		m.Groups = netip.MustParsePrefix("239.255.0.0/24")
	}
	if m.Port == 0 {
		m.Port = 6003
	}
	if m.TTL == 0 {
		m.TTL = 1
	}
	if m.Rate == 0 {
		m.Rate = 100_000_000
	}
}

// channel is the address of delivery number n: neighbours in time get different
// ones.
func (m *Multicast) channel(n int64) netip.AddrPort {
	base := m.Groups.Masked().Addr().As4()
	hosts := int64(1) << (32 - m.Groups.Bits())
	offset := uint32(0)
	if hosts > 2 {
		offset = uint32(1 + n%(hosts-2))
	}
	v := uint32(base[0])<<24 | uint32(base[1])<<16 | uint32(base[2])<<8 | uint32(base[3])
	v += offset
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}), m.Port)
}

// multicaster sends the plain paced stream of core/stream.
type multicaster struct {
	config Multicast
}

// sendBatch is how many datagrams go out with one system call.
const sendBatch = 32

// Send is delivery.Sender.
func (m *multicaster) Send(ctx context.Context, to delivery.Channel, frames iter.Seq2[delivery.Frame, error], sent func(slab int, wireBytes int64)) error {
	conn, err := m.dial()
	if err != nil {
		return err
	}
	defer conn.Close()
	out := &pacedWriter{
		conn:   ipv4.NewPacketConn(conn),
		to:     net.UDPAddrFromAddrPort(to.Group),
		budget: rate.NewLimiter(rate.Limit(to.Rate)/8, sendBatch*(stream.MaxDatagram+stream.IPOverhead)),
	}
	for frame, err := range frames {
		if err != nil {
			return err
		}
		for d := range stream.Cut(to.Session, frame.Slab, frame.Bytes) {
			if err := out.add(ctx, d); err != nil {
				return err
			}
		}
		if err := out.flush(ctx); err != nil {
			return err
		}
		sent(frame.Slab, out.wire)
	}
	return nil
}

func (m *multicaster) dial() (*net.UDPConn, error) {
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return nil, fmt.Errorf("open a socket for multicast: %w", err)
	}
	p := ipv4.NewPacketConn(conn)
	if m.config.Interface != "" {
		ifi, err := net.InterfaceByName(m.config.Interface)
		if err != nil {
			conn.Close()
			return nil, fmt.Errorf("multicast interface %q: %w", m.config.Interface, err)
		}
		if err := p.SetMulticastInterface(ifi); err != nil {
			conn.Close()
			return nil, fmt.Errorf("multicast on interface %q: %w", m.config.Interface, err)
		}
	}
	ttl := max(m.config.TTL, 0)
	if err := errors.Join(p.SetMulticastTTL(ttl), p.SetMulticastLoopback(true)); err != nil {
		conn.Close()
		return nil, fmt.Errorf("set up multicast: %w", err)
	}
	return conn, nil
}

// pacedWriter sends datagrams in batches, no faster than its budget.
type pacedWriter struct {
	conn   *ipv4.PacketConn
	to     net.Addr
	budget *rate.Limiter // bytes
	wire   int64         // bytes sent, with IP and UDP headers

	batch []ipv4.Message
	bytes int // of the batch, with headers
}

func (w *pacedWriter) add(ctx context.Context, d stream.Datagram) error {
	packet := d.Append(make([]byte, 0, stream.MaxDatagram))
	w.batch = append(w.batch, ipv4.Message{Buffers: [][]byte{packet}, Addr: w.to})
	w.bytes += len(packet) + stream.IPOverhead
	if len(w.batch) < sendBatch {
		return nil
	}
	return w.flush(ctx)
}

func (w *pacedWriter) flush(ctx context.Context) error {
	if err := w.budget.WaitN(ctx, w.bytes); err != nil {
		return err
	}
	for left := w.batch; len(left) > 0; {
		n, err := w.conn.WriteBatch(left, 0)
		if errors.Is(err, syscall.ENOBUFS) { // the card's queue is full: that is no error, just too fast
			select {
			case <-time.After(time.Millisecond):
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if err != nil {
			return fmt.Errorf("send by multicast to %s: %w", w.to, err)
		}
		left = left[n:]
	}
	w.wire += int64(w.bytes)
	w.batch, w.bytes = w.batch[:0], 0
	return nil
}
