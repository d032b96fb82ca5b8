package stream

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/delivery"
)

// ended is a workstation that has its image.
func ended(id int64) delivery.Member {
	return delivery.Member{ID: id, Phase: delivery.Ended, Outcome: delivery.Delivered, Ended: time.Now()}
}

func TestADeliveryWithAPartElsewhere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{}
		s, _, stop := begin(t, b, 3)
		defer stop()
		r := s.Runner(7)
		require.True(t, r.Place(time.Now(), 2, "alpine"))
		require.True(t, r.Place(time.Now(), 3, "alpine"))
		assert.False(t, r.Place(time.Now(), 3, "alpine"), "it is there already")
		assert.False(t, r.Place(time.Now(), 9, "alpine"), "nobody")
		assert.Equal(t, "alpine", r.Where(2))
		members, open := r.At("alpine")
		assert.True(t, open)
		assert.Len(t, members, 2)
		_, err := r.Report(time.Now(), 2, delivery.Report{Phase: delivery.Ready})
		assert.ErrorIs(t, err, delivery.ErrNotMember, "that is for who serves it")

		t.Log("# whoever is here need not wait for those elsewhere, and the whole is as far as the part that is behind")
		_, err = r.Report(time.Now(), 1, delivery.Report{Phase: delivery.Ready})
		require.NoError(t, err)
		after(time.Second)
		assert.Equal(t, delivery.Gathering, r.Status(time.Now()).State)
		left := time.Minute
		r.Told(time.Now(), Part{Where: "alpine", State: delivery.Sending, WireBytes: 500, Left: left, LeftKnown: true}, []MemberStatus{
			{Member: Member{ID: 2}, Status: delivery.Member{Phase: delivery.Receiving, Last: delivery.Report{Phase: delivery.Receiving, Done: 3, Total: 5}}, Speed: 7},
			{Member: Member{ID: 1}, Status: delivery.Member{Phase: delivery.Ended}},
			{Member: Member{ID: 3}, Status: delivery.Member{Phase: delivery.Receiving, Last: delivery.Report{Done: -1}}}})
		status := r.Status(time.Now())
		assert.Equal(t, 2, status.Parts[0].Open)
		assert.EqualValues(t, 500, r.WireBytes())
		for _, wire := range []int64{700, 100} { // it was started again between the two
			r.Told(time.Now(), Part{Where: "alpine", State: delivery.Sending, WireBytes: wire}, nil)
		}
		assert.EqualValues(t, 800, r.WireBytes())
		m, _ := r.Member(2)
		assert.EqualValues(t, 3, m.Status.Last.Done)
		assert.EqualValues(t, 7, m.Speed)
		m, _ = r.Member(3)
		assert.Equal(t, delivery.Awaited, m.Status.Phase, "what cannot be is not believed")
		assert.NotEqual(t, delivery.Ended, func() delivery.Phase { m, _ := r.Member(1); return m.Status.Phase }(), "nor of whom it does not serve")

		through(t, s, 1)
		after(time.Second)
		assert.Equal(t, delivery.Sending, r.Status(time.Now()).State, "the others go on")
		r.EndsElsewhere(2)
		assert.True(t, r.Through(2))
		r.EndedElsewhere(ended(2))
		after(time.Second)
		_, open = r.At("alpine")
		assert.True(t, open)
		r.EndedElsewhere(ended(3))
		after(time.Second)
		receipts, _, state, _ := b.seen()
		assert.Equal(t, delivery.Finished, state)
		assert.Len(t, receipts, 1, "those of the others are written by who has handed them in")
		assert.Nil(t, s.Runner(7))
	})
}

func TestWhoComesBackFromElsewhereIsServedHere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{}
		s, _, stop := begin(t, b, 2)
		defer stop()
		r := s.Runner(7)
		r.Place(time.Now(), 2, "alpine")
		_, err := r.Report(time.Now(), 1, delivery.Report{Phase: delivery.Ready})
		require.NoError(t, err)
		after(time.Second)
		through(t, s, 1)
		after(time.Second)
		require.NotNil(t, s.Runner(7), "one is still elsewhere")
		require.True(t, r.Place(time.Now(), 2, ""))
		_, open := r.At("alpine")
		assert.False(t, open)
		_, err = r.Report(time.Now(), 2, delivery.Report{Phase: delivery.Ready})
		require.NoError(t, err)
		after(time.Minute) // nobody else is waited for long
		through(t, s, 2)
		after(time.Second)
		receipts, _, state, _ := b.seen()
		assert.Equal(t, delivery.Finished, state)
		assert.Len(t, receipts, 2)
	})
}

func TestAPartElsewhereIsStoppedOrAbandoned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{}
		s, _, stop := begin(t, b, 2)
		defer stop()
		r := s.Runner(7)
		r.Place(time.Now(), 2, "alpine")
		r.Stop(time.Now(), "stopped by the administrator")
		assert.False(t, r.Place(time.Now(), 2, ""), "nothing begins any more")
		after(time.Second)
		receipts, _, state, _ := b.seen()
		assert.Len(t, receipts, 1)
		assert.False(t, state.Over(), "what is on the other disk is not known yet")
		assert.Equal(t, "stopped by the administrator", r.Stopping())
		r.Abandon(time.Now(), "elsewhere", "nobody's")
		r.Abandon(time.Now(), "alpine", "it will not be heard of again")
		after(2 * time.Second)
		receipts, _, state, _ = b.seen()
		assert.Equal(t, delivery.Stopped, state)
		assert.Equal(t, delivery.Failed, receipts["herb-02"].End.Outcome)
	})
}

// The gather rule of a network counts those who may turn up there still.
func TestThoseWhoMayTurnUpAreWaitedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &book{}
		s, o, stop := begin(t, b, 1)
		stop()
		o.Others, o.AtLatest = 1, time.Now().Add(time.Hour)
		ctx, end := context.WithCancel(t.Context())
		defer s.Wait()
		defer end()
		require.NoError(t, s.Start(ctx, o, []Member{{ID: 1, Name: "alpine-01"}}))
		r := s.Runner(7)
		for range 3 {
			_, err := r.Report(time.Now(), 1, delivery.Report{Phase: delivery.Ready})
			require.NoError(t, err)
			after(10 * time.Second)
		}
		assert.Equal(t, delivery.Gathering, r.Status(time.Now()).State)
		r.SetOthers(0)
		after(time.Second)
		assert.NotEqual(t, delivery.Gathering, r.Status(time.Now()).State)
		r.Release(nil)
		after(time.Second)
		assert.Nil(t, s.Runner(7), "nobody is left, and there is no receipt")
		receipts, _, _, _ := b.seen()
		assert.Empty(t, receipts)
	})
}
