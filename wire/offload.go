package wire

import (
	"encoding/binary"
	"errors"
	"net"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Packets of one size that follow each other go to the kernel, and come from it, in one
// piece (UDP_SEGMENT and UDP_GRO of udp(7)): most of what a packet costs is paid once for
// all of them. On the wire they are what they would have been.
const (
	// mergedBytes is the most that the kernel takes, or gives, in one piece, headers included.
	mergedBytes = 64<<10 - 1
	// mergedPackets is how many packets those are at the most.
	mergedPackets = 64
	// merges is how many pieces one system call brings.
	merges = 16
)

// piece is packets of one size that lie one behind the other; the last may be shorter.
type piece struct {
	bytes []byte
	size  int // of a packet
}

// pieces joins packets that follow each other, as long as they lie in memory as they do in
// line.
func pieces(packets [][]byte) (into []piece) {
	ended := true
	for _, p := range packets {
		if n := len(into) - 1; !ended && len(p) <= into[n].size && len(into[n].bytes)+len(p) <= mergedBytes-64 && len(into[n].bytes)/into[n].size < mergedPackets && follows(into[n].bytes, p) {
			into[n].bytes = into[n].bytes[:len(into[n].bytes)+len(p)]
			ended = len(p) < into[n].size
			continue
		}
		into = append(into, piece{p, len(p)})
		ended = false
	}
	return into
}

// follows tells whether b lies right behind a.
func follows(a, b []byte) bool {
	return len(b) > 0 && cap(a) >= len(a)+len(b) && &a[:len(a)+1][len(a)] == &b[0]
}

// segment is the control message that has the kernel cut a piece into packets of a size.
func segment(size int) []byte {
	oob := make([]byte, unix.CmsgSpace(2))
	head := (*unix.Cmsghdr)(unsafe.Pointer(&oob[0]))
	head.Level, head.Type = unix.IPPROTO_UDP, unix.UDP_SEGMENT
	head.SetLen(unix.CmsgLen(2))
	binary.NativeEndian.PutUint16(oob[unix.CmsgLen(0):], uint16(size))
	return oob
}

// cannotCut tells of an error of a kernel or an interface that do not know the command.
func cannotCut(err error) bool {
	return errors.Is(err, syscall.EIO) || errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.EMSGSIZE)
}

// merged reads packets that the kernel has joined.
type merged struct {
	batch []Message
	from  net.Addr
	size  int    // of a packet
	left  []byte // of the piece that is being taken apart
	next  []Message
}

// merge has the kernel join what comes; nil if it does not know the command.
func merge(fd int) *merged {
	if unix.SetsockoptInt(fd, unix.IPPROTO_UDP, unix.UDP_GRO, 1) != nil {
		return nil
	}
	m := &merged{batch: newBatch(64 << 10)[:merges]}
	for i := range m.batch {
		m.batch[i].OOB = make([]byte, unix.CmsgSpace(4))
	}
	return m
}

// take fills ms with packets, which are good until the next read.
func (m *merged) take(ms []Message) (n int) {
	for n < len(ms) {
		if len(m.left) == 0 {
			if len(m.next) == 0 {
				return n
			}
			first := m.next[0]
			m.next = m.next[1:]
			m.left, m.from = first.Buffers[0][:first.N], first.Addr
			if m.size = joined(first.OOB[:first.NN]); m.size == 0 {
				m.size = len(m.left)
			}
			if len(m.left) == 0 { // an empty packet
				ms[n].N, ms[n].Addr = 0, m.from
				n++
				continue
			}
		}
		k := min(m.size, len(m.left))
		ms[n].Buffers[0], ms[n].N, ms[n].Addr = m.left[:k], k, m.from
		m.left = m.left[k:]
		n++
	}
	return n
}

// joined is the size of the packets that a piece was made of; 0 if it is one packet.
func joined(oob []byte) int {
	if len(oob) < unix.CmsgLen(4) {
		return 0
	}
	head, content, _, err := unix.ParseOneSocketControlMessage(oob)
	if err != nil || head.Level != unix.IPPROTO_UDP || head.Type != unix.UDP_GRO || len(content) < 4 {
		return 0
	}
	return int(binary.NativeEndian.Uint32(content))
}

// ReadBatch reads packets; their bytes are good until the next call.
func (s *Socket) ReadBatch(ms []Message, flags int) (int, error) {
	if s.merged == nil {
		return s.batcher.ReadBatch(ms, flags)
	}
	if n := s.merged.take(ms); n > 0 {
		return n, nil
	}
	n, err := s.batcher.ReadBatch(s.merged.batch, flags)
	if err != nil {
		return n, err
	}
	s.merged.next = s.merged.batch[:n]
	return s.merged.take(ms), nil
}
