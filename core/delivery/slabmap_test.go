package delivery_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/image"
)

// withoutMap has workstations be ready that have no slab map.
func (s *story) withoutMap(ids ...int64) delivery.Step {
	s.t.Helper()
	for _, id := range ids {
		require.NoError(s.t, s.d.Report(s.now, id, delivery.Report{Phase: delivery.Ready, LacksMap: true}))
	}
	return s.d.Advance(s.now)
}

// needs has a workstation say what it needs, as it has the slab map now.
func (s *story) needs(id int64, first, last int) delivery.Step {
	s.t.Helper()
	set, err := image.ParseRanges([]image.SlabRange{{first, last}}, 100)
	require.NoError(s.t, err)
	require.NoError(s.t, s.d.Lacking(s.now, id, 0, set, nil))
	return s.d.Advance(s.now)
}

func TestTheSlabMapGoesToAllBeforeTheFirstRound(t *testing.T) {
	s := begin(t, "all")
	s.withoutMap(1, 2)
	t.Log("# one has it already, and one comes without")
	s.report(delivery.Ready, 3)
	assert.False(t, s.needs(3, 0, 9).Map)
	assert.False(t, s.d.FetchMap(), "while gathering nobody needs it yet")
	step := s.withoutMap(4)
	assert.True(t, step.Map)
	assert.Nil(t, step.Stream, "nobody could tell which slabs are for it")
	assert.Equal(t, delivery.Sending, s.d.State())
	assert.False(t, s.d.FetchMap())
	assert.False(t, s.d.Advance(s.now).Map, "once only")
	t.Log("# the image goes out as soon as all know what they need, and no more than that")
	s.needs(1, 5, 19)
	assert.Nil(t, s.needs(2, 5, 19).Stream)
	assert.Equal(t, 30, s.needs(4, 20, 29).Stream.Len())
	assert.True(t, s.d.FetchMap(), "whoever comes now")
	t.Log("# which is the first round, whether the map's end was heard of or not")
	assert.Zero(t, s.d.Rounds())
	s.d.RoundEnded(s.now)
	assert.Equal(t, 1, s.d.Rounds())
	assert.Equal(t, delivery.Mending, s.d.State())
}

func TestWhoMissedTheSlabMapIsNotWaitedForLong(t *testing.T) {
	s := begin(t, "all")
	require.True(t, s.withoutMap(1, 2, 3, 4).Map)
	for id := range int64(3) {
		assert.Nil(t, s.needs(id+1, 0, 9).Stream)
	}
	s.pass(3 * time.Second)
	s.d.RoundEnded(s.now)
	assert.True(t, s.d.FetchMap(), "the fourth fetches it")
	assert.Zero(t, s.d.Rounds(), "the map is no round")
	assert.Nil(t, s.d.Advance(s.now).Stream)
	due := s.d.Deadline(s.now)
	assert.Equal(t, 5*time.Second, due.Sub(s.now))
	s.now = due
	assert.Equal(t, 100, s.d.Advance(s.now).Stream.Len(), "it may need everything")
}

func TestNoSlabMapIsSentToWhoHasIt(t *testing.T) {
	s := begin(t, "ready:2")
	s.report(delivery.Ready, 1)
	step := s.report(delivery.Ready, 2)
	assert.False(t, step.Map)
	assert.NotNil(t, step.Stream)
	s.withoutMap(3)
	assert.True(t, s.d.FetchMap(), "who comes late")
}

func TestWhoGoesWhileTheSlabMapIsSentHoldsNobodyUp(t *testing.T) {
	s := begin(t, "all")
	require.True(t, s.withoutMap(1, 2, 3, 4).Map)
	s.needs(1, 0, 9)
	s.needs(2, 0, 9)
	s.needs(3, 0, 9)
	assert.Equal(t, 10, s.fail(4, "the disk is gone").Stream.Len())

	s = begin(t, "all")
	require.True(t, s.withoutMap(1, 2, 3, 4).Map)
	for id := range int64(4) {
		assert.Nil(t, s.fail(id+1, "no disk").Stream)
	}
	assert.Equal(t, delivery.Finished, s.d.State())
}

func TestHowLongItTakesIsNotToldByTheSlabMap(t *testing.T) {
	s := begin(t, "first")
	require.True(t, s.withoutMap(1).Map)
	for n := range int64(10) {
		s.d.Sent(s.now, n*1000, 10_000)
		s.pass(time.Second)
	}
	_, known := s.d.TimeLeft()
	assert.False(t, known)
}
