package wire

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// inLine puts packets of these lengths one behind the other.
func inLine(lengths ...int) [][]byte {
	memory := make([]byte, 256<<10)
	for i := range memory {
		memory[i] = byte(i * 7 >> 3)
	}
	var packets [][]byte
	for _, n := range lengths {
		packets = append(packets, memory[:n])
		memory = memory[n:]
	}
	return packets
}

func repeat(n, times int) (all []int) {
	for range times {
		all = append(all, n)
	}
	return all
}

func TestPacketsOfOneSizeGoTogether(t *testing.T) {
	for name, c := range map[string]struct {
		packets [][]byte
		want    []int // how many packets each piece has
	}{
		"nothing":                      {nil, nil},
		"one":                          {inLine(1400), []int{1}},
		"all alike":                    {inLine(1400, 1400, 1400), []int{3}},
		"the last is shorter":          {inLine(1400, 1400, 90), []int{3}},
		"a short one ends a piece":     {inLine(1400, 90, 1400, 1400), []int{2, 2}},
		"a longer one begins a piece":  {inLine(90, 1400, 1400), []int{1, 2}},
		"no more than the kernel cuts": {inLine(repeat(100, 130)...), []int{64, 64, 2}},
		"no more than a datagram":      {inLine(repeat(1472, 64)...), []int{44, 20}},
		"not in line":                  {[][]byte{inLine(1400)[0], inLine(1400)[0]}, []int{1, 1}},
	} {
		t.Run(name, func(t *testing.T) {
			got := pieces(c.packets)
			var counts []int
			var all []byte
			for _, p := range got {
				counts = append(counts, (len(p.bytes)+p.size-1)/p.size)
				all = append(all, p.bytes...)
				assert.LessOrEqual(t, len(p.bytes), mergedBytes-64)
			}
			assert.Equal(t, c.want, counts)
			assert.True(t, bytes.Equal(bytes.Join(c.packets, nil), all))
			s := &Socket{config: Config{Group: netip.MustParseAddrPort("233.252.0.7:6003")}}
			messages := s.messages(c.packets)
			require.Len(t, messages, len(c.want))
			s.whole = true
			one := s.uncut(messages)
			require.Len(t, one, len(c.packets), "each as it was")
			for i := range one {
				assert.True(t, bytes.Equal(c.packets[i], one[i].Buffers[0]))
				assert.Empty(t, one[i].OOB)
			}
		})
	}
}

// What goes out in one piece comes in as the packets that it was, for whoever listens.
func TestPiecesComeAsPackets(t *testing.T) {
	c := Config{Group: netip.MustParseAddrPort("233.252.0.99:26999"), Interface: "lo", TTL: NoTTL}
	in, err := Listen(c)
	require.NoError(t, err)
	defer in.Close()
	plain, err := Listen(c) // as with a kernel that does not join what comes
	require.NoError(t, err)
	defer plain.Close()
	plain.merged = nil
	raw, err := plain.conn.SyscallConn()
	require.NoError(t, err)
	require.NoError(t, raw.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.IPPROTO_UDP, unix.UDP_GRO, 0) }))
	require.NoError(t, err)
	out, err := Dial(c)
	require.NoError(t, err)
	defer out.Close()
	packets := inLine(append(append(repeat(1400, 50), 90), repeat(700, 10)...)...)
	require.NoError(t, out.write(t.Context(), packets, func(error) {}))
	for name, s := range map[string]*Socket{"joined": in, "one by one": plain} {
		var got [][]byte
		for len(got) < len(packets) {
			require.NoError(t, s.SetReadDeadline(time.Now().Add(5*time.Minute)))
			batch := newBatch(2048)[:7] // smaller than a piece
			n, err := s.ReadBatch(batch, 0)
			require.NoError(t, err, name)
			for _, m := range batch[:n] {
				got = append(got, bytes.Clone(m.Buffers[0][:m.N]))
			}
		}
		for i := range packets {
			require.True(t, bytes.Equal(packets[i], got[i]), "%s: packet %d", name, i)
		}
	}
}
