package wipe_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/disk"
	"jugate/core/wipe"
)

const mib = 1 << 20

// platter is a disk in memory, full of data, that can fail.
type platter struct {
	b      []byte
	writes int
	breaks int   // at the write of this number; 0 never
	lies   int64 // the byte that is never written; 0 is
	purges func() (string, error)
}

func newPlatter(size int) *platter {
	p := &platter{b: make([]byte, size)}
	dice := rand.NewPCG(1, 2)
	for i := range p.b {
		p.b[i] = byte(dice.Uint64()) | 1
	}
	return p
}

func (p *platter) ReadAt(b []byte, at int64) (int, error) { return copy(b, p.b[at:]), nil }
func (p *platter) WriteAt(b []byte, at int64) (int, error) {
	if p.writes++; p.writes == p.breaks {
		return 0, errors.New("the power has gone")
	}
	kept := p.b[p.lies]
	copy(p.b[at:], b)
	if p.lies > 0 {
		p.b[p.lies] = kept
	}
	return len(b), nil
}
func (p *platter) Size() int64     { return int64(len(p.b)) }
func (p *platter) SectorSize() int { return 512 }
func (p *platter) Sync() error     { return nil }
func (p *platter) Zero(at, n int64) error {
	_, err := p.WriteAt(make([]byte, n), at)
	return err
}

// purging is one that offers to purge itself.
type purging struct{ *platter }

func (p purging) Purge(context.Context) (string, error) { return p.purges() }

func TestNothingIsLeftOfADisk(t *testing.T) {
	for _, fast := range []bool{false, true} {
		for _, verify := range []string{wipe.Sample, wipe.Whole} {
			p := newPlatter(8*mib + 512)
			var last, of int64
			r, err := wipe.Wipe(t.Context(), p, wipe.Plan{Method: wipe.Clear, Fast: fast, Verify: verify, Tell: func(_ string, done, total int64) { last, of = done, total }})
			require.NoError(t, err)
			assert.Equal(t, make([]byte, len(p.b)), p.b)
			assert.Equal(t, []any{verify, true, wipe.Clear, p.Size()}, []any{r.Verify, r.Began, r.Method, r.Size})
			assert.Equal(t, of, last)
			if verify == wipe.Whole {
				assert.Equal(t, p.Size(), r.Read)
			} else {
				assert.Greater(t, r.Read, p.Size()/10, "at least 10 % of it")
			}
			assert.Contains(t, r.Technique, map[bool]string{true: "zero-out", false: "overwritten once"}[fast])
		}
	}
}

// Wherever it is cut off, the disk says so, or is as it was.
func TestADiskSaysThatItsWipeWasCutOff(t *testing.T) {
	whole := newPlatter(3 * mib)
	_, err := wipe.Wipe(t.Context(), whole, wipe.Plan{Method: wipe.Clear, Verify: wipe.Whole})
	require.NoError(t, err)
	for n := 1; n <= whole.writes; n++ {
		p := newPlatter(3 * mib)
		p.breaks = n
		r, err := wipe.Wipe(t.Context(), p, wipe.Plan{Method: wipe.Clear, Verify: wipe.Whole})
		require.ErrorContains(t, err, "the power has gone")
		assert.Equal(t, "nothing", r.Verify)
		mark, err := disk.ReadMark(p)
		require.NoError(t, err)
		if n == 1 {
			assert.Nil(t, mark)
			assert.Equal(t, newPlatter(3*mib).b, p.b)
			continue
		}
		require.NotNil(t, mark, "write %d", n)
		assert.True(t, mark.Wiping)
		assert.Equal(t, "unfinished-wipe", mark.Finding().Code)
		p.breaks = 0
		_, err = wipe.Wipe(t.Context(), p, wipe.Plan{Method: wipe.Clear, Verify: wipe.Whole})
		require.NoError(t, err, "it is wiped to the end later")
		assert.Equal(t, make([]byte, len(p.b)), p.b)
	}
	ctx, cancel := context.WithCancel(t.Context())
	p := newPlatter(3 * mib)
	_, err = wipe.Wipe(ctx, p, wipe.Plan{Method: wipe.Clear, Verify: wipe.Whole, Tell: func(string, int64, int64) { cancel() }})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestADiskThatKeepsDataIsNotWiped(t *testing.T) {
	p := newPlatter(3 * mib)
	p.lies = 2*mib + 77
	r, err := wipe.Wipe(t.Context(), p, wipe.Plan{Method: wipe.Clear, Verify: wipe.Whole})
	assert.ErrorContains(t, err, "still has data at byte 2097229")
	assert.Equal(t, "nothing", r.Verify)
	mark, err := disk.ReadMark(p)
	require.NoError(t, err)
	assert.NotNil(t, mark)
}

func TestPurge(t *testing.T) {
	p := newPlatter(2 * mib)
	_, err := wipe.Wipe(t.Context(), p, wipe.Plan{Method: wipe.Purge, Verify: wipe.Whole})
	assert.ErrorIs(t, err, wipe.ErrNoPurge)
	assert.Equal(t, newPlatter(2*mib).b, p.b, "it is not cleared in its place")

	p.purges = func() (string, error) { return "", fmt.Errorf("asked: %w", wipe.ErrNoPurge) }
	r, err := wipe.Wipe(t.Context(), purging{p}, wipe.Plan{Method: wipe.Purge, Verify: wipe.Whole})
	assert.ErrorIs(t, err, wipe.ErrNoPurge)
	assert.False(t, r.Began)
	p.purges = func() (string, error) { return "", errors.New("it has failed") }
	r, err = wipe.Wipe(t.Context(), purging{p}, wipe.Plan{Method: wipe.Purge, Verify: wipe.Whole})
	assert.ErrorContains(t, err, "it has failed")
	assert.True(t, r.Began)
	p.purges = func() (string, error) { return "its keys were thrown away", nil }
	r, err = wipe.Wipe(t.Context(), purging{p}, wipe.Plan{Method: wipe.Purge, Verify: wipe.Whole})
	require.NoError(t, err)
	assert.Equal(t, []any{"its keys were thrown away", wipe.Whole}, []any{r.Technique, r.Verify})
	assert.Equal(t, make([]byte, len(p.b)), p.b)
	_, err = wipe.Wipe(t.Context(), p, wipe.Plan{Method: "shred", Verify: wipe.Whole})
	assert.ErrorContains(t, err, "is not known")
}

// Section 4.7.3: of each thousandth two places that do not overlap, each at least a twentieth of it; and the first and the last sector.
func TestSamplesCoverADisk(t *testing.T) {
	dice := rand.New(rand.NewPCG(3, 4))
	for _, sectors := range []int64{1, 2, 7, 999, 1000, 1001, 39_999, 40_000, 1_000_000, 976_773_168} {
		all := wipe.Samples(sectors*512, 512, dice.Int64N)
		covered, end := int64(0), int64(0)
		for _, s := range all {
			assert.True(t, 0 <= s[0] && s[0] < s[1] && s[1] <= sectors*512 && s[0]%512 == 0 && s[1]%512 == 0, "%v of %d", s, sectors)
			covered += max(0, s[1]-max(end, s[0]))
			end = max(end, s[1])
		}
		assert.Equal(t, []int64{0, sectors * 512}, []int64{all[0][0], end})
		assert.GreaterOrEqual(t, covered*10, sectors*512, "of %d sectors", sectors)
		if sectors >= 40_000 {
			each := (sectors + 999) / 1000 * 512
			for from := int64(0); from+each <= sectors*512; from += each {
				n := 0
				for _, s := range all[1 : len(all)-1] {
					if s[0] >= from && s[1] <= from+each && s[1]-s[0] >= each/20 {
						n++
					}
				}
				require.GreaterOrEqual(t, n, 2, "from %d of %d", from, sectors)
			}
		}
	}
}
