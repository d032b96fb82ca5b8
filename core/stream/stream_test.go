package stream_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/stream"
)

const session = 0x5E005300

func frame(n int, seed uint64) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(seed), byte(n)}).Read(b)
	return b
}

func everything(int) bool { return true }

func TestFramesComeTogetherInAnyOrder(t *testing.T) {
	for _, n := range []int{1, 1399, 1400, 1401, 64 * 1400, 64*1400 + 1, 130*1400 - 1, 1 << 20} {
		want := frame(n, 1)
		packets := slices.Collect(stream.Cut(session, 7, want))
		assert.Len(t, packets, (n+1399)/1400)
		rand.Shuffle(len(packets), func(i, j int) { packets[i], packets[j] = packets[j], packets[i] })
		a := stream.NewAssembly(session, 2<<20, everything)
		for i, p := range packets {
			d, err := stream.Parse(p.Append(nil))
			require.NoError(t, err)
			require.Equal(t, p, d)
			got := a.Add(d)
			if i < len(packets)-1 {
				require.Nil(t, got)
				require.Nil(t, a.Add(d), "a packet that comes twice counts once")
			} else {
				assert.Equal(t, want, got)
			}
		}
		_, any := a.Oldest(0)
		assert.False(t, any)
	}
}

func TestAPartialNamesWhatIsMissing(t *testing.T) {
	want := frame(200*1400+77, 2)
	for _, lost := range [][]int{{0}, {200}, {63, 64}, {0, 1, 2, 100, 127, 128, 199, 200}, {5}} {
		a := stream.NewAssembly(session, 2<<20, everything)
		n := 0
		for d := range stream.Cut(session, 3, want) {
			if !slices.Contains(lost, n) {
				require.Nil(t, a.Add(d))
			}
			n++
		}
		p, ok := a.Oldest(0)
		require.True(t, ok)
		before := p.Have()
		var filled int64
		for r := range p.Missing() {
			copy(p.Frame[r.Start:r.Start+r.Length], want[r.Start:])
			filled += r.Length
		}
		assert.Equal(t, want, p.Frame, "%v", lost)
		assert.EqualValues(t, len(want), before+filled)
		a.Take(p)
		_, ok = a.Oldest(0)
		assert.False(t, ok)
	}
}

func TestMemoryStaysBounded(t *testing.T) {
	a := stream.NewAssembly(session, 10_000, everything)
	for slab := range 5 { // each lacks its last packet
		packets := slices.Collect(stream.Cut(session, slab, frame(4000, uint64(slab))))
		for _, d := range packets[:len(packets)-1] {
			a.Add(d)
		}
	}
	p, ok := a.Oldest(1)
	require.True(t, ok)
	assert.Equal(t, 3, p.Slab, "slabs 0 to 2 were given up")
	a.Take(p)
	_, ok = a.Oldest(1)
	assert.False(t, ok)
}

func TestStrangersAreIgnored(t *testing.T) {
	a := stream.NewAssembly(session, 1<<20, func(slab int) bool { return slab == 1 })
	for d := range stream.Cut(session+1, 1, frame(100, 1)) {
		assert.Nil(t, a.Add(d), "another session")
	}
	for d := range stream.Cut(session, 2, frame(100, 1)) {
		assert.Nil(t, a.Add(d), "a slab that is there already")
	}
	first := slices.Collect(stream.Cut(session, 1, frame(2000, 1)))
	a.Add(first[0])
	for d := range stream.Cut(session, 1, frame(1900, 1)) {
		assert.Nil(t, a.Add(d), "the same slab with another length")
	}
	assert.Equal(t, frame(2000, 1), a.Add(first[1]))
}

func FuzzParse(f *testing.F) {
	for d := range stream.Cut(session, 1, frame(3000, 1)) {
		f.Add(d.Append(nil))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		a := stream.NewAssembly(session, 1<<20, everything)
		d, err := stream.Parse(b)
		if err != nil {
			return
		}
		if again := d.Append(nil); !slices.Equal(again, b) {
			t.Fatalf("%x became %x", b, again)
		}
		a.Add(d)
		if p, ok := a.Oldest(0); ok {
			for r := range p.Missing() {
				if r.Length <= 0 || r.Start+r.Length > int64(len(p.Frame)) {
					t.Fatal(r)
				}
			}
		}
	})
}
