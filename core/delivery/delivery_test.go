package delivery_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
	"jugate/core/image"
)

// story is a delivery to workstations 1 to 4 with a clock that it turns itself.
type story struct {
	t    *testing.T
	d    *delivery.Delivery
	now  time.Time
	sent int64 // bytes of the stream
}

func begin(t *testing.T, rule string) *story {
	r, err := delivery.ParseRule(rule)
	require.NoError(t, err)
	whole, err := image.ParseRanges([]image.SlabRange{{0, 99}}, 100)
	require.NoError(t, err)
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	return &story{t: t, d: delivery.New(delivery.Options{Rule: r, Ordered: now, Every: whole}, []int64{1, 2, 3, 4}), now: now}
}

func (s *story) pass(d time.Duration) { s.now = s.now.Add(d) }

func (s *story) report(phase delivery.Phase, ids ...int64) delivery.Step {
	s.t.Helper()
	for _, id := range ids {
		if phase == delivery.Ended && s.phase(id) != delivery.Checking {
			require.NoError(s.t, s.d.Report(s.now, id, delivery.Report{Phase: delivery.Checking}))
		}
		require.NoError(s.t, s.d.Report(s.now, id, delivery.Report{Phase: phase, Verified: phase == delivery.Ended}))
	}
	return s.d.Advance(s.now)
}

func (s *story) phase(id int64) delivery.Phase {
	for _, m := range s.d.Members() {
		if m.ID == id {
			return m.Phase
		}
	}
	return ""
}

func (s *story) fail(id int64, why string) delivery.Step {
	s.t.Helper()
	require.NoError(s.t, s.d.Report(s.now, id, delivery.Report{Phase: delivery.Ended, Error: why}))
	return s.d.Advance(s.now)
}

func TestAllReadyThenSentThenMendedThenFinished(t *testing.T) {
	s := begin(t, "all")
	t.Log("# three are ready: one is awaited still")
	assert.Nil(t, s.report(delivery.Ready, 1, 2, 3).Stream)
	assert.Equal(t, delivery.Gathering, s.d.State())
	t.Log("# the fourth starts it")
	s.pass(10 * time.Second)
	assert.Equal(t, 100, s.report(delivery.Ready, 4).Stream.Len())
	assert.Equal(t, delivery.Sending, s.d.State())
	assert.Nil(t, s.report(delivery.Receiving, 1, 2, 3, 4).Stream, "once only")
	s.d.RoundEnded(s.now)
	assert.Equal(t, delivery.Mending, s.d.State())
	t.Log("# each that ends is named once, for its receipt")
	s.pass(5 * time.Second)
	ended := s.report(delivery.Ended, 1, 2, 3).Ended
	require.Len(t, ended, 3)
	assert.Equal(t, delivery.Delivered, ended[0].Outcome)
	assert.Equal(t, 5*time.Second, ended[0].Ended.Sub(ended[0].Began))
	assert.Len(t, s.report(delivery.Ended, 4).Ended, 1)
	assert.Equal(t, delivery.Finished, s.d.State())
	assert.Empty(t, s.d.Advance(s.now).Ended)
}

func TestReadyCountStartsWithoutTheRestWhoMayJoinLate(t *testing.T) {
	s := begin(t, "ready:2")
	assert.Nil(t, s.report(delivery.Ready, 1).Stream)
	assert.NotNil(t, s.report(delivery.Ready, 2).Stream)
	t.Log("# 3 comes while it is sending and is taken in; 4 never comes")
	s.pass(time.Second)
	s.report(delivery.Ready, 3)
	s.d.RoundEnded(s.now)
	s.report(delivery.Ended, 1, 2)
	assert.Equal(t, delivery.Mending, s.d.State(), "3 is still busy")
	ended := s.report(delivery.Ended, 3).Ended
	require.Len(t, ended, 2)
	assert.Equal(t, delivery.Absent, ended[1].Outcome)
	assert.EqualValues(t, 4, ended[1].ID)
	assert.Equal(t, delivery.Finished, s.d.State())
	assert.ErrorIs(t, s.d.Report(s.now, 4, delivery.Report{Phase: delivery.Ready}), delivery.ErrOver)
}

func TestWhoCannotTakePartIsNotWaitedFor(t *testing.T) {
	s := begin(t, "all")
	s.report(delivery.Ready, 1, 2, 3)
	step := s.fail(4, "the disk is too small")
	assert.NotNil(t, step.Stream)
	require.Len(t, step.Ended, 1)
	assert.Equal(t, delivery.Failed, step.Ended[0].Outcome)
	assert.Equal(t, "the disk is too small", step.Ended[0].Reason)
}

func TestWhenNobodyCanTakePartNothingIsSent(t *testing.T) {
	s := begin(t, "first")
	for id := range int64(4) {
		assert.Nil(t, s.fail(id+1, "no disk").Stream)
	}
	assert.Equal(t, delivery.Finished, s.d.State())
}

func TestSilence(t *testing.T) {
	s := begin(t, "ready:2")
	s.report(delivery.Ready, 1)
	s.pass(time.Minute)
	t.Log("# silent while gathering: awaited again, so 2 alone does not start it")
	assert.Nil(t, s.report(delivery.Ready, 2).Stream)
	assert.NotNil(t, s.report(delivery.Ready, 1).Stream)
	t.Log("# silent while sending: set aside")
	s.pass(19 * time.Second)
	assert.Empty(t, s.report(delivery.Receiving, 1).Aside)
	s.pass(time.Second)
	aside := s.d.Advance(s.now).Aside
	require.Len(t, aside, 1)
	assert.EqualValues(t, 2, aside[0].ID)
	assert.Equal(t, "silent for 20 s", aside[0].Aside)
	t.Log("# it was switched off and on, and is one of the group again")
	s.pass(time.Minute)
	s.report(delivery.Ready, 1, 2)
	assert.Empty(t, s.d.Aside(2))
	t.Log("# silent for good: given up, and told so")
	for range 15 {
		s.pass(20 * time.Second)
		s.report(delivery.Receiving, 1)
	}
	var gone *delivery.Member
	for _, m := range s.d.Members() {
		if m.ID == 2 {
			gone = &m
		}
	}
	assert.Equal(t, delivery.Failed, gone.Outcome)
	assert.Equal(t, "silent for 300 s", gone.Reason)
}

func TestStopEndsEveryoneButThoseWhoAreThrough(t *testing.T) {
	s := begin(t, "ready:2")
	s.report(delivery.Ready, 1, 2)
	s.report(delivery.Ended, 1)
	s.d.Stop(s.now, "stopped by the engineer")
	ended := s.d.Advance(s.now).Ended
	require.Len(t, ended, 3)
	for _, m := range ended {
		assert.Equal(t, delivery.WasStopped, m.Outcome)
	}
	assert.Equal(t, delivery.Stopped, s.d.State())
	assert.ErrorIs(t, s.d.Report(s.now, 2, delivery.Report{Phase: delivery.Ended, Verified: true}), delivery.ErrOver)
}

func TestAnEndWithoutACheckIsNoDelivery(t *testing.T) {
	s := begin(t, "first")
	s.report(delivery.Ready, 1)
	require.NoError(t, s.d.Report(s.now, 1, delivery.Report{Phase: delivery.Ended}))
	ended := s.d.Advance(s.now).Ended
	assert.Equal(t, delivery.Failed, ended[0].Outcome)
}
