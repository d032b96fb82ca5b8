package volume

import (
	"errors"
	"iter"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func of(extents ...Extent) iter.Seq2[Extent, error] {
	return func(yield func(Extent, error) bool) {
		for _, e := range extents {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func collect(t *testing.T, seq iter.Seq2[Extent, error]) (all []Extent, err error) {
	t.Helper()
	for e, err := range seq {
		if err != nil {
			return all, err
		}
		all = append(all, e)
	}
	return all, nil
}

func TestJoinedHoldsReadersToTheirPromise(t *testing.T) {
	for name, c := range map[string]struct {
		in   []Extent
		want []Extent
		ok   bool
	}{
		"nothing":        {nil, nil, true},
		"touching":       {[]Extent{{0, 5}, {5, 5}, {20, 1}}, []Extent{{0, 10}, {20, 1}}, true},
		"to the end":     {[]Extent{{90, 10}}, []Extent{{90, 10}}, true},
		"over the end":   {[]Extent{{90, 11}}, nil, false},
		"far over":       {[]Extent{{1 << 62, 1 << 62}}, nil, false},
		"backwards":      {[]Extent{{50, 5}, {10, 5}}, nil, false},
		"overlapping":    {[]Extent{{10, 10}, {15, 10}}, nil, false},
		"empty":          {[]Extent{{10, 0}}, nil, false},
		"negative":       {[]Extent{{-5, 10}}, nil, false},
		"negative count": {[]Extent{{5, -1}}, nil, false},
	} {
		got, err := collect(t, joined(of(c.in...), 100))
		if !c.ok {
			assert.ErrorIs(t, err, ErrDamaged, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got, name)
	}
	failing := errors.New("the disk is on fire")
	_, err := collect(t, joined(func(yield func(Extent, error) bool) { yield(Extent{}, failing) }, 100))
	assert.ErrorIs(t, err, failing)
	for range joined(of(Extent{0, 1}, Extent{5, 1}), 100) {
		break
	}
}

func TestWithFixedNamesEveryByteOnce(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		random := func(n int) (all []Extent) {
			at := int64(0)
			for range n {
				at += r.Int64N(20)
				length := 1 + r.Int64N(20)
				all = append(all, Extent{at, length})
				at += length
			}
			return all
		}
		fixed, other := random(r.IntN(5)), random(r.IntN(8))
		want := map[int64]bool{}
		for _, e := range append(append([]Extent{}, fixed...), other...) {
			for at := e.Start; at < e.End(); at++ {
				want[at] = true
			}
		}
		got := map[int64]bool{}
		all, err := collect(t, joined(withFixed(fixed, of(other...)), 1<<20))
		require.NoError(t, err, "seed %d: %v and %v", seed, fixed, other)
		for _, e := range all {
			for at := e.Start; at < e.End(); at++ {
				got[at] = true
			}
		}
		require.Equal(t, want, got, "seed %d: %v and %v", seed, fixed, other)
	}
}

// The bitmap's runs, against looking at each bit.
func TestRunsOfABitmap(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 3))
		b := make([]byte, 1+r.IntN(150_000))
		for i := range b {
			switch r.IntN(4) {
			case 0:
				b[i] = byte(r.Uint32())
			case 1:
				b[i] = 0xFF
			}
		}
		m := bitmap{bits: int64(len(b)*8 - r.IntN(8)), msbFirst: seed%2 == 1, read: func(p []byte, off int64) error {
			copy(p, b[off:])
			return nil
		}}
		set := func(i int64) bool {
			if m.msbFirst {
				return b[i/8]&(0x80>>(i%8)) != 0
			}
			return b[i/8]&(1<<(i%8)) != 0
		}
		next := int64(0)
		require.NoError(t, m.runs(func(first, count int64) bool {
			for ; next < first+count; next++ {
				if set(next) != (next >= first) {
					t.Fatalf("seed %d, bit %d", seed, next)
				}
			}
			return true
		}))
		for ; next < m.bits; next++ {
			if set(next) {
				t.Fatalf("seed %d, bit %d", seed, next)
			}
		}
	}
	failing := errors.New("the disk is on fire")
	m := bitmap{bits: 10, read: func([]byte, int64) error { return failing }}
	assert.ErrorIs(t, m.runs(func(int64, int64) bool { return true }), failing)
}

func TestPartsTellWhatIsFleeting(t *testing.T) {
	v := &Volume{used: of(Extent{0, 100}, Extent{200, 50}), Fleeting: []Extent{{10, 5}, {15, 5}, {90, 120}, {300, 5}}}
	var got []Part
	for p, err := range v.Parts() {
		require.NoError(t, err)
		got = append(got, p)
	}
	assert.Equal(t, []Part{
		{Extent{0, 10}, false}, {Extent{10, 5}, true}, {Extent{15, 5}, true}, {Extent{20, 70}, false}, {Extent{90, 10}, true},
		{Extent{200, 10}, true}, {Extent{210, 40}, false},
	}, got)
}

func TestRunListsComeBackAsTheyWere(t *testing.T) {
	n := &ntfs{clusters: 1 << 40}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		var want attribute
		vcn := int64(0)
		for range 1 + r.IntN(20) {
			one := run{vcn, r.Int64N(1 << (1 + r.IntN(38))), 1 + r.Int64N(1<<(1+r.IntN(20)))}
			if r.IntN(4) == 0 {
				one.lcn = hole
			}
			want.runs = append(want.runs, one)
			vcn += one.count
		}
		var got attribute
		require.NoError(t, n.decodeRuns(&got, 0, encodeRuns(want.runs)))
		require.Equal(t, want, got, "seed %d", seed)
	}
}

func TestLVM2sText(t *testing.T) {
	s, err := parseLVM(`# made by hand
vg0 { # a group
	id = "a\"b" # quoted, and # in "quotes # stays"
	seqno = 12 big = -7
	flags = [] mixed = ["pv0", 0, "pv1", 20]
	inner-1.x { deep { n = 1 } }
}`)
	require.NoError(t, err)
	vg := s.section("vg0")
	assert.Equal(t, `a"b`, vg.text("id"))
	assert.EqualValues(t, 12, vg.number("seqno"))
	assert.EqualValues(t, -7, vg.number("big"))
	assert.Equal(t, []any{"pv0", int64(0), "pv1", int64(20)}, vg["mixed"])
	assert.EqualValues(t, 1, vg.section("inner-1.x").section("deep").number("n"))
	assert.Zero(t, vg.number("none"))
	for _, wrong := range []string{"vg0 {", "vg0 }", "= 1", "a = ", "a = {", `a = "x`, "a = [1", "a 1", "a = 99999999999999999999", "{", "a { b = ]"} {
		_, err := parseLVM(wrong)
		assert.ErrorIs(t, err, ErrDamaged, wrong)
	}
	deep := ""
	for range 5000 {
		deep += "a = ["
	}
	_, err = parseLVM("x " + deep)
	assert.ErrorIs(t, err, ErrDamaged)
	nested := ""
	for range 5000 {
		nested += "a {"
	}
	_, err = parseLVM(nested)
	assert.ErrorIs(t, err, ErrDamaged)
}
