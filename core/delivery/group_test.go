package delivery_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/image"
)

// group is a delivery that is sending, with what each workstation reports.
type group struct {
	*story
	at map[int64]*delivery.Report
}

func sending(t *testing.T) *group {
	g := &group{begin(t, "all"), map[int64]*delivery.Report{}}
	require.NotNil(t, g.report(delivery.Ready, 1, 2, 3, 4).Stream)
	for id := int64(1); id <= 4; id++ {
		g.at[id] = &delivery.Report{Phase: delivery.Receiving, Total: 100e6, BacklogLimit: 64e6, DiskSpeed: 100e6}
	}
	return g
}

// run lets seconds pass; in each the stream sends so many bytes and each
// workstation is changed and reports.
func (g *group) run(seconds int, bytes int64, change func(id int64, r *delivery.Report)) (aside map[int64]string, steps []delivery.Step) {
	aside = map[int64]string{}
	for range seconds {
		g.pass(time.Second)
		g.sent += bytes
		g.d.Sent(g.now, g.sent, 100e6)
		for id := int64(1); id <= 4; id++ {
			r := g.at[id]
			r.Packets += 1000
			r.Done, r.Multicast = r.Done+bytes, r.Multicast+bytes
			if change != nil {
				change(id, r)
			}
			if r.Phase != "" {
				require.NoError(g.t, g.d.Report(g.now, id, *r))
			}
		}
		step := g.d.Advance(g.now)
		for _, m := range step.Aside {
			aside[m.ID] = m.Aside
		}
		steps = append(steps, step)
	}
	return aside, steps
}

func TestTheSlowOneIsSetAsideWithTheReason(t *testing.T) {
	for name, c := range map[string]struct {
		change func(r *delivery.Report)
		want   string
	}{
		"loss":          {func(r *delivery.Report) { r.Lost += 220 }, "loses 18 % of packets"},
		"disk":          {func(r *delivery.Report) { r.Backlog, r.DiskSpeed = 60e6, 2e6 }, "its disk writes 2.0 MB/s"},
		"silence":       {func(r *delivery.Report) { r.Phase = "" }, "silent for 20 s"},
		"deafness":      {func(r *delivery.Report) { r.Packets = 0 }, "hears nothing of the multicast"},
		"nothing wrong": {func(r *delivery.Report) { r.Lost += 20; r.Backlog = 10e6 }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			g := sending(t)
			aside, _ := g.run(25, 2e6, func(id int64, r *delivery.Report) {
				if id == 3 {
					c.change(r)
				}
			})
			if c.want == "" {
				assert.Empty(t, aside)
				return
			}
			assert.Equal(t, map[int64]string{3: c.want}, aside)
		})
	}
}

func TestTheRuleCanBeSet(t *testing.T) {
	rule, err := delivery.ParseRule("all")
	require.NoError(t, err)
	for _, c := range []struct {
		aside delivery.AsideRule
		want  int
	}{{delivery.AsideRule{Never: true}, 0}, {delivery.AsideRule{Loss: 0.3}, 0}, {delivery.AsideRule{Loss: 0.01}, 1}} {
		g := sending(t)
		g.d = delivery.New(delivery.Options{Rule: rule, Ordered: g.now, Aside: c.aside}, []int64{1, 2, 3, 4})
		g.report(delivery.Ready, 1, 2, 3, 4)
		aside, _ := g.run(10, 1e6, func(id int64, r *delivery.Report) {
			if id == 2 {
				r.Lost += 200
			}
		})
		assert.Len(t, aside, c.want)
	}
}

func TestWhenAllAreSlowTheStreamIsNotTheyAre(t *testing.T) {
	g := sending(t)
	aside, steps := g.run(20, 1e6, func(_ int64, r *delivery.Report) { r.Backlog = 60e6 })
	assert.Empty(t, aside)
	last := steps[len(steps)-1]
	assert.Less(t, last.Pace, 0.2)
	said := ""
	for _, s := range steps {
		for _, n := range s.Notes {
			said += n.Text
		}
	}
	assert.Equal(t, "slowed down: the workstations' disks do not keep up", said)
	t.Log("# they keep up again: it speeds up, to what was ordered and no more")
	_, steps = g.run(60, 1e6, func(_ int64, r *delivery.Report) { r.Backlog = 0 })
	assert.Equal(t, 1.0, steps[len(steps)-1].Pace)
	t.Log("# most lose packets: the rate is too high for the way")
	aside, steps = g.run(20, 0, func(_ int64, r *delivery.Report) { r.Lost += 300 })
	assert.Empty(t, aside)
	assert.Less(t, steps[len(steps)-1].Pace, 0.6)
}

// One disk that goes bad does not make the group's time jump.
func TestTimeLeftStaysBelievable(t *testing.T) {
	g := sending(t)
	dice := rand.New(rand.NewPCG(1, 1))
	var last time.Duration
	for second := range 45 {
		g.run(1, 1.8e6+int64(dice.IntN(400_000)), func(id int64, r *delivery.Report) {
			if id == 4 && second > 10 { // its disk all but stops
				r.Done -= 1.9e6
				r.Backlog, r.DiskSpeed = 63e6, 50e3
			}
		})
		left, known := g.d.TimeLeft()
		if second < 3 {
			continue
		}
		require.True(t, known)
		truth := time.Duration(100e6-g.sent)*time.Second/2e6 + time.Second
		assert.InDelta(t, truth.Seconds(), left.Seconds(), 0.25*truth.Seconds()+2, "after %d s", second)
		if last > 0 {
			assert.Less(t, left, last+4*time.Second, "no jump, after %d s", second)
		}
		last = left
	}
	assert.NotEmpty(t, g.d.Aside(4))
	left, known := g.d.MemberLeft(4)
	require.True(t, known)
	assert.Greater(t, left, 10*time.Minute, "that one will take long, and says so")
	t.Log("# paused: nothing can be said")
	g.d.Pause(g.now)
	_, known = g.d.TimeLeft()
	assert.False(t, known)
}

func lacks(t *testing.T, ranges ...image.SlabRange) *image.SlabSet {
	s, err := image.ParseRanges(ranges, 1<<24)
	require.NoError(t, err)
	return s
}

func TestMendingSendsTheUnionOfWhatTwoLack(t *testing.T) {
	g := sending(t)
	g.report(delivery.Receiving, 1, 2, 3, 4)
	g.d.RoundEnded(g.now)
	assert.Nil(t, g.d.Advance(g.now).Stream, "nobody has said yet what it lacks")
	require.NoError(t, g.d.Lacking(g.now, 1, 1, lacks(t, image.SlabRange{3, 5}, image.SlabRange{70, 70}), nil))
	require.NoError(t, g.d.Lacking(g.now, 2, 1, lacks(t, image.SlabRange{5, 6}), nil))
	g.report(delivery.Checking, 3)
	assert.Nil(t, g.d.Advance(g.now).Stream, "4 has not")
	require.NoError(t, g.d.Lacking(g.now, 4, 1, lacks(t, image.SlabRange{70, 70}), nil))
	again := g.d.Advance(g.now).Stream
	require.NotNil(t, again)
	assert.Equal(t, []image.SlabRange{{5, 5}, {70, 70}}, again.Ranges())
	for id, want := range map[int64][]image.SlabRange{1: {{3, 4}}, 2: {{6, 6}}, 4: {}} {
		fetch, decided := g.d.Fetch(id)
		assert.Equal(t, 1, decided)
		assert.Equal(t, want, fetch.Ranges(), "what it lacks alone, workstation %d fetches", id)
	}
	t.Log("# after the second round one lacks something still: that is for unicast")
	g.d.RoundEnded(g.now)
	g.report(delivery.Checking, 2, 4)
	require.NoError(t, g.d.Lacking(g.now, 1, 2, lacks(t, image.SlabRange{5, 5}), nil))
	assert.Nil(t, g.d.Advance(g.now).Stream)
	fetch, decided := g.d.Fetch(1)
	assert.Equal(t, 2, decided)
	assert.Equal(t, []image.SlabRange{{5, 5}}, fetch.Ranges())
	assert.ErrorIs(t, g.d.Lacking(g.now, 9, 2, lacks(t), nil), delivery.ErrNotMember)
}

func TestWhoDoesNotSayIsNotWaitedForLong(t *testing.T) {
	g := sending(t)
	g.report(delivery.Receiving, 1, 2, 3, 4)
	g.d.RoundEnded(g.now)
	for id := int64(1); id <= 3; id++ {
		require.NoError(t, g.d.Lacking(g.now, id, 1, lacks(t, image.SlabRange{9, 9}), nil))
	}
	assert.Nil(t, g.d.Advance(g.now).Stream)
	g.pass(5 * time.Second)
	again := g.d.Advance(g.now).Stream
	require.NotNil(t, again)
	assert.Equal(t, 1, again.Len())
}

func TestMulticastMendingEndsAfterSomeRounds(t *testing.T) {
	g := sending(t)
	g.report(delivery.Receiving, 1, 2, 3, 4)
	rounds := 0
	for round := 1; round < 10; round++ {
		g.d.RoundEnded(g.now)
		for id := int64(1); id <= 4; id++ {
			require.NoError(t, g.d.Lacking(g.now, id, round, lacks(t, image.SlabRange{0, 9}), nil))
		}
		if g.d.Advance(g.now).Stream == nil {
			break
		}
		rounds++
	}
	assert.Equal(t, 3, rounds)
	fetch, _ := g.d.Fetch(2)
	assert.Equal(t, 10, fetch.Len())
}

func TestOnlyWhatSomeoneNeedsIsSent(t *testing.T) {
	s := begin(t, "all")
	for id := int64(1); id <= 4; id++ {
		require.NoError(t, s.d.Lacking(s.now, id, 0, lacks(t, image.SlabRange{int(id), int(id) + 1}), nil))
	}
	stream := s.report(delivery.Ready, 1, 2, 3, 4).Stream
	require.NotNil(t, stream)
	assert.Equal(t, []image.SlabRange{{1, 5}}, stream.Ranges())
}

func TestANetworkWithoutMulticastEndsTheStream(t *testing.T) {
	g := sending(t)
	_, steps := g.run(8, 1e6, func(_ int64, r *delivery.Report) { r.Packets = 0 })
	ended := false
	for _, s := range steps {
		ended = ended || s.EndStream
	}
	assert.True(t, ended)
	assert.True(t, g.d.Unheard())
}

// What goes out as a delta is what everybody who lacks it can make of its disk.
func TestSlabsGoByDeltaIfEverybodyHasTheirBases(t *testing.T) {
	for name, c := range map[string]struct {
		lacking, has [4][]image.SlabRange
		whole        bool // one of them has not said what it needs
		want         []image.SlabRange
	}{
		"all have them":             {[4][]image.SlabRange{{{3, 6}}, {{3, 6}}, {{4, 4}}, {}}, [4][]image.SlabRange{{{3, 6}}, {{3, 6}}, {{4, 4}}, {}}, false, []image.SlabRange{{3, 6}}},
		"one lacks one":             {[4][]image.SlabRange{{{3, 6}}, {{3, 6}}, {{4, 4}}, {}}, [4][]image.SlabRange{{{3, 6}}, {{3, 3}, {5, 6}}, {{4, 4}}, {}}, false, []image.SlabRange{{3, 3}, {5, 6}}},
		"one has nothing":           {[4][]image.SlabRange{{{3, 6}}, {{0, 9}}, {{4, 4}}, {}}, [4][]image.SlabRange{{{3, 6}}, {}, {{4, 4}}, {}}, false, []image.SlabRange{}},
		"one has not said anything": {[4][]image.SlabRange{{{3, 6}}, {{3, 6}}, {{4, 4}}}, [4][]image.SlabRange{{{3, 6}}, {{3, 6}}, {{4, 4}}}, true, []image.SlabRange{}},
	} {
		t.Run(name, func(t *testing.T) {
			s := begin(t, "all")
			for id := int64(1); id <= 4; id++ {
				if id < 4 || !c.whole {
					require.NoError(t, s.d.Lacking(s.now, id, 0, lacks(t, c.lacking[id-1]...), lacks(t, c.has[id-1]...)))
				}
				require.NoError(t, s.d.Report(s.now, id, delivery.Report{Phase: delivery.Ready}))
			}
			step := s.d.Advance(s.now)
			require.NotNil(t, step.Stream)
			assert.Equal(t, c.want, step.ByDelta.Ranges())
		})
	}
}

func TestWhoIsApartTakesNoPartInTheStream(t *testing.T) {
	rule, err := delivery.ParseRule("all")
	require.NoError(t, err)
	set := func(n int) *image.SlabSet {
		s := &image.SlabSet{}
		for i := range n {
			s.Add(i)
		}
		return s
	}
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	for what, c := range map[string]struct {
		apart []int64
		want  int
		ends  bool
	}{"one of two": {[]int64{2}, 4, false}, "all": {[]int64{1, 2}, 0, true}} {
		t.Run(what, func(t *testing.T) {
			d := delivery.New(delivery.Options{Rule: rule, Ordered: now, Every: set(10), Bytes: 10 << 20}, []int64{1, 2})
			for _, id := range c.apart {
				d.SetApart(now, id, "at the outpost alpine")
			}
			for id, lacks := range map[int64]int{1: 4, 2: 10} {
				require.NoError(t, d.Report(now, id, delivery.Report{Phase: delivery.Ready, Total: 10 << 20}))
				require.NoError(t, d.Lacking(now, id, 0, set(lacks), nil))
			}
			step := d.Advance(now)
			require.NotNil(t, step.Stream)
			assert.Equal(t, c.want, step.Stream.Len())
			assert.Equal(t, c.ends, step.EndStream)
			assert.Empty(t, step.Aside, "nobody is judged")
			assert.Equal(t, "at the outpost alpine", d.Aside(2))
		})
	}
}
