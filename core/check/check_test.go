package check_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/check"
	"jugate/core/disk"
)

const mib = 1 << 20

// memory is memory with a fault: something that happens to its words between writing and reading.
type memory struct {
	pieces [][]uint64
	settle func(pieces [][]uint64)
	closed bool
}

func (m *memory) Pieces(context.Context) ([][]uint64, error) { return m.pieces, nil }
func (m *memory) Settle() {
	if m.settle != nil {
		m.settle(m.pieces)
	}
}
func (m *memory) Address(piece, word int) (uint64, bool) {
	return 0x1_0000_0000 + uint64(piece)<<20 + uint64(word)*8, true
}
func (m *memory) Close() error { m.closed = true; return nil }

func walked(t *testing.T, m *memory, quick bool) *check.MemoryReport {
	t.Helper()
	now := time.Time{}
	var last, of int64
	report, err := check.WalkMemory(t.Context(), m, quick, func() time.Time { now = now.Add(time.Second); return now }, func(done, total int64) { last, of = done, total })
	require.NoError(t, err)
	assert.Equal(t, of, last)
	assert.True(t, m.closed)
	return report
}

func TestFaultyMemoryIsFound(t *testing.T) {
	made := func(settle func(pieces [][]uint64)) *memory {
		return &memory{pieces: [][]uint64{make([]uint64, 1000), make([]uint64, 500)}, settle: settle}
	}
	good := walked(t, made(nil), false)
	assert.Equal(t, []any{int64(1500 * 8), int64(0), 6}, []any{good.Bytes, good.Wrong, good.Rounds})

	for name, settle := range map[string]func(p [][]uint64){
		"a bit that sticks at one":  func(p [][]uint64) { p[1][7] |= 1 << 40 },
		"a bit that sticks at zero": func(p [][]uint64) { p[1][7] &^= 1 << 40 },
		"a bit that its neighbour drags": func(p [][]uint64) {
			if p[1][8]&1 == 1 {
				p[1][7] ^= 1 << 40
			}
		},
	} {
		for _, quick := range []bool{true, false} {
			r := walked(t, made(settle), quick)
			require.Len(t, r.Faults, 1, name)
			f := r.Faults[0]
			assert.Equal(t, []any{int64(1), uint64(1 << 40), int64(1007 * 8), uint64(0x1_0010_0038)}, []any{r.Wrong, f.Bits, f.Offset, f.Address}, name)
			assert.Positive(t, f.Times)
		}
	}

	mirrored := walked(t, made(func(p [][]uint64) { copy(p[1], p[0][500:]) }), true) // an address line that is dead
	assert.Greater(t, mirrored.Wrong, int64(400))
	assert.Len(t, mirrored.Faults, 100)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := check.WalkMemory(ctx, made(nil), true, time.Now, func(int64, int64) {})
	assert.ErrorIs(t, err, context.Canceled)
}

// platter is a disk whose clock goes on as it is read, and that fails in places.
type platter struct {
	now   time.Time
	fails func(at, length int64) bool
	slow  func(at int64) float64 // how much slower it is than 100 MiB/s
}

func (p *platter) ReadAt(b []byte, at int64) (int, error) {
	if p.fails != nil && p.fails(at, int64(len(b))) {
		p.now = p.now.Add(time.Second)
		return 0, errors.New("input/output error")
	}
	factor := 1.0
	if p.slow != nil {
		factor = p.slow(at)
	}
	p.now = p.now.Add(time.Duration(factor * float64(len(b)) / (100 * mib) * float64(time.Second)))
	return len(b), nil
}

func TestASurfaceIsReadWholeOrAsASample(t *testing.T) {
	const size = 10_000 * mib
	within := func(start, length int64) func(at, n int64) bool {
		return func(at, n int64) bool { return at < start+length && at+n > start }
	}
	look := func(p *platter, sample bool) *check.SurfaceReport {
		r, err := check.Surface(t.Context(), p, size, 512, check.SurfaceOptions{Sample: sample, Now: func() time.Time { return p.now }})
		require.NoError(t, err)
		return r
	}
	good := look(&platter{}, false)
	assert.Equal(t, []any{int64(size), int64(0), 256}, []any{good.Read, good.Lost, len(good.Speeds)})
	assert.InDelta(t, 100*mib, good.Usual(), mib)
	assert.Empty(t, good.Slow())
	sample := look(&platter{}, true)
	assert.Equal(t, int64(256*4*mib), sample.Read)

	bad := look(&platter{fails: within(5000*mib+512, 1024)}, false)
	assert.Equal(t, []check.Stretch{{Start: 5000*mib + 512, Length: 1024}}, bad.Unreadable, "by the sector")
	assert.EqualValues(t, 1024, bad.Lost)

	slow := look(&platter{slow: func(at int64) float64 {
		if at > 9000*mib {
			return 10
		}
		return 1
	}}, true)
	assert.Greater(t, len(slow.Slow()), 20)
	assert.GreaterOrEqual(t, slow.Slow()[0].Start, int64(8990*mib))

	dead := &platter{fails: func(int64, int64) bool { return true }}
	r := look(dead, false)
	assert.Equal(t, int64(256*64*512), r.Lost, "no stretch is tried for ever")
	assert.EqualValues(t, size, r.Lost+r.Untried)
	assert.LessOrEqual(t, len(r.Unreadable), 100)
	assert.Zero(t, r.Usual())
	verdicts := check.Judge(check.Result{Surface: r}, nil)
	assert.Equal(t, check.Bad, check.Worst(verdicts))

	small, err := check.Surface(t.Context(), &platter{}, 512, 512, check.SurfaceOptions{})
	require.NoError(t, err)
	assert.EqualValues(t, 512, small.Read)
	_, err = check.Surface(t.Context(), &platter{}, 100, 512, check.SurfaceOptions{})
	assert.Error(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = check.Surface(ctx, &platter{}, size, 512, check.SurfaceOptions{})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestASurfaceOfAFile(t *testing.T) {
	r, err := check.Surface(t.Context(), short{3*mib + 100}, 3*mib+100, 4096, check.SurfaceOptions{})
	require.NoError(t, err)
	assert.Zero(t, r.Lost)
	assert.EqualValues(t, 3*mib+100, r.Read)
}

// short is a file that says that it has ended with its last bytes.
type short struct{ size int64 }

func (s short) ReadAt(b []byte, at int64) (int, error) {
	if at+int64(len(b)) >= s.size {
		return int(s.size - at), io.EOF
	}
	return len(b), nil
}

func TestWhatAResultMeans(t *testing.T) {
	words := func(r check.Result, earlier ...check.Result) (all []string) {
		for _, f := range check.Judge(r, earlier) {
			all = append(all, string(f.About)+", "+string(f.Verdict)+": "+f.Text)
		}
		return all
	}
	assert.Empty(t, words(check.Result{}))
	assert.Equal(t, check.Good, check.Worst(nil))
	assert.Equal(t, []string{"memory, good: 2.0 GiB kept what was written in 2 rounds, 3.0 s for each GiB"}, words(check.Result{Memory: &check.MemoryReport{Bytes: 2 << 30, Seconds: 6, Rounds: 2}}))
	assert.Equal(t, []string{"memory, bad: 3 words did not keep what was written, the first at physical address 0x1000: replace the module"},
		words(check.Result{Memory: &check.MemoryReport{Bytes: 2 << 30, Wrong: 3, Faults: []check.BadWord{{Address: 0x1000}}}}))
	assert.Equal(t, []string{"surface, bad: 4.0 KiB in one place cannot be read, the first at byte 8192; a sample of 1.0 MiB was read"},
		words(check.Result{Surface: &check.SurfaceReport{Size: mib, Read: mib, Sample: true, Lost: 4096, Unreadable: []check.Stretch{{Start: 8192, Length: 4096}}}}))

	vitals := func(defects int64) *disk.Vitals { return &disk.Vitals{Serial: "D1", Hours: 4000, Defects: defects} }
	assert.Equal(t, []string{"health, good: the disk says nothing against itself after 4000 hours"}, words(check.Result{Health: vitals(2)}, check.Result{}, check.Result{Health: vitals(2)}))
	assert.Equal(t, []string{"health, bad: 5 more defects than at the check before (2, now 7): it is failing"},
		words(check.Result{Health: vitals(7)}, check.Result{}, check.Result{Health: vitals(2)}, check.Result{Health: vitals(0)}))
	assert.Equal(t, []string{"health, good: nothing is known: the disk does not say how it is"}, words(check.Result{Health: &disk.Vitals{Silent: true}}, check.Result{Health: vitals(2)}))
	assert.Equal(t, []string{"health, doubtful: 93 % of the disk's life are used"}, words(check.Result{Health: &disk.Vitals{Used: 93}}))
	assert.Equal(t, []string{"health, bad: the disk says: it can only be read"}, words(check.Result{Health: &disk.Vitals{Wrong: []string{"it can only be read"}}}))

	assert.Equal(t, []string{"network, good: 800 Mbit/s from the service, 100 of 100 multicast packets heard"}, words(check.Result{Network: &check.NetworkReport{Bytes: 100e6, Seconds: 1, Sent: 100, Heard: 100}}))
	assert.Equal(t, []string{"network, doubtful: 5.0 % of multicast packets are lost", "network, doubtful: the link has only 10 Mbit/s: look at the cable"},
		words(check.Result{Network: &check.NetworkReport{Bytes: 1e6, Seconds: 1, Sent: 100, Heard: 95, Link: 10e6}}))
	assert.Contains(t, words(check.Result{Network: &check.NetworkReport{Sent: 100}})[0], "no multicast is heard")
}

// Whatever an agent tells is judged in words.
func FuzzJudge(f *testing.F) {
	f.Add([]byte(`{"surface_check":{"unread_bytes":7,"speeds":[1,2,3]},"memory_check":{"wrong_words":1},"network_check":{"multicast_sent":3},"health_check":{"defects":-1}}`))
	f.Add([]byte(`{"surface_check":{"size":-1,"speeds":[1e300,0],"unreadable":[{"from_byte":-5}]}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var r check.Result
		if json.Unmarshal(text, &r) != nil || r.Sound() != nil {
			return
		}
		for _, one := range check.Judge(r, []check.Result{r}) {
			assert.NotEmpty(t, one.Text)
		}
		if r.Surface != nil {
			r.Surface.Slow()
		}
	})
}
