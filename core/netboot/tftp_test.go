package netboot_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/netboot"
)

// readRequest is a request of a client.
func readRequest(file string, options ...string) []byte {
	b := []byte{0, 1}
	for _, s := range append([]string{file, "octet"}, options...) {
		b = append(append(b, s...), 0)
	}
	return b
}

func begin(t *testing.T, r *netboot.TFTPRequest, content io.ReaderAt, size int64) *netboot.Transfer {
	t.Helper()
	s, err := netboot.NewTransfer(r, content, size)
	require.NoError(t, err)
	return s
}

func ack(n uint16) []byte { return binary.BigEndian.AppendUint16([]byte{0, 4}, n) }

func number(p []byte) uint16 { return binary.BigEndian.Uint16(p[2:]) }

func TestRequestsAreRead(t *testing.T) {
	r, err := netboot.ParseTFTP(readRequest("/grub/grub.cfg", "BLKSIZE", "1024", "tsize", "0", "windowsize", "16", "timeout", "3", "odd", "1"))
	require.NoError(t, err)
	assert.Equal(t, "grub/grub.cfg", r.File)
	assert.Equal(t, []int{1024, 16}, []int{r.Block, r.Window})
	assert.Equal(t, 3*time.Second, r.Timeout)
	for name, want := range map[string]string{"shimx64.efi": "shimx64.efi", `\boot\x.efi`: "boot/x.efi", "//a//b/./c": "a/b/c"} {
		r, err := netboot.ParseTFTP(readRequest(name))
		require.NoError(t, err)
		assert.Equal(t, want, r.File)
		assert.Equal(t, []int{512, 1}, []int{r.Block, r.Window})
	}
	for name, code := range map[string]uint16{"../etc/passwd": 2, "a/../../b": 2, `..\..\b`: 2, "a\nb": 4, string(bytes.Repeat([]byte("a"), 300)): 4} {
		_, err := netboot.ParseTFTP(readRequest(name))
		var refusal *netboot.TFTPError
		require.ErrorAs(t, err, &refusal, name)
		assert.Equal(t, code, refusal.Code, name)
		assert.Equal(t, []byte{0, 5, 0, byte(code)}, refusal.Packet()[:4])
	}
	write := readRequest("file")
	write[1] = 2
	_, err = netboot.ParseTFTP(write)
	assert.ErrorContains(t, err, "for reading only")
	for _, noise := range [][]byte{nil, {0, 1}, {0, 1, 'a', 0}, {0, 3, 0, 1, 0}, readRequest("a")[:5], bytes.Repeat([]byte{0}, 2000)} {
		_, err := netboot.ParseTFTP(noise)
		assert.ErrorIs(t, err, netboot.ErrTFTP)
	}
}

// client reads a whole file as a client does, over a wire that loses this share of
// the packets each way, in virtual time.
func client(t *testing.T, content []byte, share float64, seed uint64, options ...string) []byte {
	t.Helper()
	r, err := netboot.ParseTFTP(readRequest("file", options...))
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(seed, 1))
	lost := func() bool { return random.Float64() < share }
	now := noon
	s := begin(t, r, bytes.NewReader(content), int64(len(content)))
	wire, err := s.First(now)
	require.NoError(t, err)
	var got []byte
	next, unacked := uint16(1), 0
	for range 100_000 {
		if done, err := s.Done(); done {
			require.NoError(t, err)
			return got
		}
		var back []byte
		for _, p := range wire {
			if lost() {
				continue
			}
			switch p[1] {
			case 6:
				back = ack(0)
			case 3:
				if number(p) != next { // not in order: say where we are
					back, unacked = ack(next-1), 0
					continue
				}
				got = append(got, p[4:]...)
				next++
				if unacked++; unacked == r.Window || len(p)-4 < r.Block {
					back, unacked = ack(next-1), 0
				}
			}
		}
		if back == nil || lost() {
			now = s.Deadline()
			wire, err = s.Timeout(now)
		} else {
			now = now.Add(time.Millisecond)
			wire, err = s.Handle(now, back)
		}
		require.NoError(t, err)
	}
	require.Fail(t, "the transfer does not end")
	return nil
}

func TestTransfers(t *testing.T) {
	for _, size := range []int{0, 1, 511, 512, 513, 100_000} {
		content := make([]byte, size)
		for i := range content {
			content[i] = byte(i * 7 >> 3)
		}
		for name, options := range map[string][]string{"plain": nil, "blksize": {"blksize", "1024", "tsize", "0"}, "windowsize": {"blksize", "700", "windowsize", "8"}} {
			for _, share := range []float64{0, 0.02} {
				got := client(t, content, share, uint64(size), options...)
				assert.True(t, bytes.Equal(content, got), "%d bytes, %s, %v lost", size, name, share)
			}
		}
	}
}

func TestBlockNumbersWrap(t *testing.T) {
	content := make([]byte, 66_000*8+3)
	copy(content[65_536*8:], "behind the wrap")
	assert.True(t, bytes.Equal(content, client(t, content, 0, 1, "blksize", "8", "windowsize", "64")))
}

func TestTheLastAcknowledgementMayBeLost(t *testing.T) {
	r, _ := netboot.ParseTFTP(readRequest("file"))
	s := begin(t, r, bytes.NewReader([]byte("poppy")), 5)
	_, err := s.First(noon)
	require.NoError(t, err)
	now := noon
	for range 20 {
		now = now.Add(20 * time.Second)
		_, err := s.Timeout(now)
		require.NoError(t, err)
	}
	done, err := s.Done()
	assert.True(t, done)
	assert.NoError(t, err, "all was sent")

	t.Log("# but a client that went away in the middle is an error")
	s = begin(t, r, bytes.NewReader(make([]byte, 5000)), 5000)
	_, err = s.First(noon)
	require.NoError(t, err)
	for range 20 {
		now = now.Add(20 * time.Second)
		s.Timeout(now)
	}
	_, err = s.Done()
	assert.ErrorContains(t, err, "since 0 of 5000 bytes")
}

func TestOldAcknowledgementsAreNotAnswered(t *testing.T) {
	r, _ := netboot.ParseTFTP(readRequest("file"))
	s := begin(t, r, bytes.NewReader(make([]byte, 5000)), 5000)
	_, err := s.First(noon)
	require.NoError(t, err)
	for i := range uint16(3) {
		out, err := s.Handle(noon, ack(i+1))
		require.NoError(t, err)
		require.Len(t, out, 1)
		out, err = s.Handle(noon, ack(i+1)) // a second time
		require.NoError(t, err)
		assert.Empty(t, out, "or every packet would be sent twice from then on")
	}
	out, err := s.Handle(noon, []byte{0, 5, 0, 8, 'n', 'o', 0})
	require.NoError(t, err)
	assert.Empty(t, out)
	done, err := s.Done()
	assert.True(t, done)
	var told *netboot.TFTPError
	assert.True(t, errors.As(err, &told) && told.Text == "no")
}

func TestResendsBackOff(t *testing.T) {
	r, err := netboot.ParseTFTP(readRequest("file"))
	require.NoError(t, err)
	s := begin(t, r, bytes.NewReader(make([]byte, 5000)), 5000)
	_, err = s.First(noon)
	require.NoError(t, err)
	var pauses []float64
	for now := noon; ; {
		if done, _ := s.Done(); done {
			break
		}
		pauses = append(pauses, s.Deadline().Sub(now).Seconds())
		now = s.Deadline()
		_, err := s.Timeout(now)
		require.NoError(t, err)
	}
	assert.Equal(t, []float64{1, 2, 4, 8, 16, 16, 16, 16, 16}, pauses, "RFC 1123, 4.2.3.3")
}

func TestTexts(t *testing.T) {
	ask := []byte("\x00\x01grub.cfg\x00netascii\x00tsize\x000\x00")
	r, err := netboot.ParseTFTP(ask)
	require.NoError(t, err)
	s := begin(t, r, bytes.NewReader([]byte("a\nb\r\nc\rd")), 8)
	out, err := s.First(noon)
	require.NoError(t, err)
	assert.Contains(t, string(out[0]), "tsize\x0010\x00", "what comes, not what lies there")
	out, err = s.Handle(noon, ack(0))
	require.NoError(t, err)
	assert.Equal(t, "a\r\nb\r\nc\r\x00d", string(out[0][4:]))
	_, err = netboot.NewTransfer(r, bytes.NewReader(nil), 8<<20)
	assert.ErrorContains(t, err, "mode octet")
}

func FuzzTFTP(f *testing.F) {
	f.Add(readRequest("shimx64.efi", "blksize", "1468", "tsize", "0"), ack(1), ack(0))
	f.Add(readRequest(`..\x`), ack(65535), []byte{0, 5, 0, 0})
	f.Fuzz(func(t *testing.T, request, first, second []byte) {
		r, err := netboot.ParseTFTP(request)
		if err != nil {
			return
		}
		assert.NotContains(t, "/"+r.File+"/", "/../")
		s := begin(t, r, bytes.NewReader(make([]byte, 3000)), 3000)
		_, err = s.First(noon)
		require.NoError(t, err)
		for _, p := range [][]byte{first, second, first} {
			out, err := s.Handle(noon, p)
			require.NoError(t, err)
			assert.LessOrEqual(t, len(out), 64)
		}
	})
}
