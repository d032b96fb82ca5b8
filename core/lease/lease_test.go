package lease_test

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/lease"
	"jugate/core/objects"
)

func who(machine string) lease.Lease {
	return lease.Lease{Service: "garden", Holder: machine, Machine: machine}
}

func quiet(error) {}

func TestOneHoldsIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := objects.OpenFolder(t.TempDir())
		ctx, stop := context.WithCancel(t.Context())
		first, err := lease.Take(ctx, s, who("one"), lease.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), first.Term())
		var kept sync.WaitGroup
		kept.Go(func() { assert.NoError(t, first.Keep(ctx, quiet)) })

		began := time.Now()
		_, err = lease.Take(t.Context(), s, who("two"), lease.Options{})
		assert.ErrorIs(t, err, lease.ErrHeld)
		assert.ErrorContains(t, err, "one, in term 1")
		assert.LessOrEqual(t, time.Since(began), lease.For, "it is seen to be renewed")
		other := who("two")
		other.Service = "another"
		_, err = lease.Take(t.Context(), s, other, lease.Options{})
		assert.ErrorIs(t, err, lease.ErrOther)

		// The holder dies, and whoever waits is the next.
		taking := make(chan *lease.Held)
		go func() {
			h, err := lease.Take(t.Context(), s, who("two"), lease.Options{Wait: true})
			assert.NoError(t, err)
			taking <- h
		}()
		time.Sleep(time.Hour)
		stop()
		kept.Wait()
		second := <-taking
		assert.Equal(t, int64(2), second.Term())
		assert.True(t, second.Valid())
		assert.False(t, first.Valid(), "it has ended before")
		assert.ErrorIs(t, first.Renew(t.Context()), lease.ErrTaken)
		assert.ErrorContains(t, first.Renew(t.Context()), "two, in term 2")

		// The same data folder, started again, holds it as before; one that was given back is free at once.
		again, err := lease.Take(t.Context(), s, who("two"), lease.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(2), again.Term())
		assert.ErrorIs(t, second.Renew(t.Context()), lease.ErrTaken, "a copy of its folder is not it")
		require.NoError(t, again.Give(t.Context()))
		assert.False(t, again.Valid())
		began = time.Now()
		third, err := lease.Take(t.Context(), s, who("three"), lease.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(3), third.Term())
		assert.Zero(t, time.Since(began))
	})
}

// A holder that goes on without the lease is not followed by anybody who waits for it.
func TestAHolderThatGoesOnWithoutIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := objects.OpenFolder(t.TempDir())
		flaky := away{s, new(atomic.Bool), new(atomic.Bool)}
		first, err := lease.Take(t.Context(), flaky, who("one"), lease.Options{})
		require.NoError(t, err)
		flaky.gone.Store(true)
		require.ErrorIs(t, first.End(t.Context()), errAway)
		assert.True(t, first.Valid(), "nobody was told")
		flaky.gone.Store(false)
		require.NoError(t, first.Renew(t.Context()))
		require.NoError(t, first.End(t.Context()))
		_, err = lease.Take(t.Context(), s, who("two"), lease.Options{Wait: true})
		assert.ErrorIs(t, err, lease.ErrOver)
		again, err := lease.Take(t.Context(), s, who("one"), lease.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), again.Term())
	})
}

// away is a store that does not answer, or whose answers are lost.
type away struct {
	objects.Store
	gone, deaf *atomic.Bool
}

var errAway = errors.New("away")

func (a away) Put(ctx context.Context, name string, content []byte, when objects.Condition) (string, error) {
	if a.gone.Load() {
		return "", errAway
	}
	tag, err := a.Store.Put(ctx, name, content, when)
	if a.deaf.Load() && err == nil { // the client tries again, and finds its own write there
		return a.Store.Put(ctx, name, content, when)
	}
	return tag, err
}

// A holder that cannot reach the store stops before anybody else can begin, and goes on if nobody has.
func TestAHolderThatIsCutOffStopsInTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := objects.OpenFolder(t.TempDir())
		flaky := away{s, new(atomic.Bool), new(atomic.Bool)}
		ctx, stop := context.WithCancel(t.Context())
		defer stop()
		first, err := lease.Take(ctx, flaky, who("one"), lease.Options{})
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- first.Keep(ctx, quiet) }()
		time.Sleep(time.Minute)
		assert.True(t, first.Valid())
		flaky.gone.Store(true)
		time.Sleep(lease.For)
		assert.False(t, first.Valid())
		flaky.gone.Store(false)
		time.Sleep(lease.For / 2)
		assert.True(t, first.Valid(), "nobody has taken it meanwhile")

		flaky.gone.Store(true)
		second := make(chan *lease.Held)
		go func() {
			h, err := lease.Take(t.Context(), s, who("two"), lease.Options{Wait: true})
			assert.NoError(t, err)
			assert.False(t, first.Valid(), "two at once")
			second <- h
		}()
		<-second
		flaky.gone.Store(false)
		assert.ErrorIs(t, <-ended, lease.ErrTaken)
	})
}

func TestAnAnswerThatWasLost(t *testing.T) {
	s := objects.OpenFolder(t.TempDir())
	flaky := away{s, new(atomic.Bool), new(atomic.Bool)}
	flaky.deaf.Store(true)
	h, err := lease.Take(t.Context(), flaky, who("one"), lease.Options{})
	require.NoError(t, err)
	require.NoError(t, h.Renew(t.Context()))
	assert.True(t, h.Valid())
}

// late is a store that does what it is asked for, but whose answer, or what it says who holds the lease, does not come in time.
type late struct {
	objects.Store
	puts, stats atomic.Bool
}

func (l *late) Put(ctx context.Context, name string, content []byte, when objects.Condition) (string, error) {
	tag, err := l.Store.Put(ctx, name, content, when)
	if l.puts.Load() {
		return "", errAway
	}
	return tag, err
}

func (l *late) Stat(ctx context.Context, name string) (objects.Object, error) {
	if l.stats.Load() {
		return objects.Object{}, errAway
	}
	return l.Store.Stat(ctx, name)
}

// A holder that has not heard whether it has renewed the lease is not taken for another one; a copy of its data folder is.
func TestARenewalThatNobodyHeardOf(t *testing.T) {
	s := &late{Store: objects.OpenFolder(t.TempDir())}
	h, err := lease.Take(t.Context(), s, who("one"), lease.Options{})
	require.NoError(t, err)
	s.puts.Store(true)
	for range 3 {
		require.ErrorIs(t, h.Renew(t.Context()), errAway)
	}
	s.puts.Store(false)
	s.stats.Store(true)
	require.ErrorIs(t, h.Renew(t.Context()), errAway, "nobody knows yet who holds it")
	s.stats.Store(false)
	require.NoError(t, h.Renew(t.Context()))
	assert.True(t, h.Valid())

	s.puts.Store(true)
	require.ErrorIs(t, h.End(t.Context()), errAway)
	s.puts.Store(false)
	require.NoError(t, h.Renew(t.Context()), "it is held as before")
	l, _, err := lease.Read(t.Context(), s)
	require.NoError(t, err)
	assert.False(t, l.Over)

	s.puts.Store(true)
	require.ErrorIs(t, h.Renew(t.Context()), errAway)
	s.puts.Store(false)
	copied, err := lease.Take(t.Context(), s, who("one"), lease.Options{})
	require.NoError(t, err)
	assert.ErrorIs(t, h.Renew(t.Context()), lease.ErrTaken)
	assert.NoError(t, copied.Renew(t.Context()))
}

// However many want it, one has it.
func TestManyWantIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := objects.OpenFolder(t.TempDir())
		_, err := lease.Take(t.Context(), s, lease.Lease{Service: "garden", Holder: "dead", For: time.Millisecond}, lease.Options{})
		require.NoError(t, err)
		var holds atomic.Int64
		var all sync.WaitGroup
		ctx, stop := context.WithCancel(t.Context())
		for n := range 20 {
			all.Go(func() {
				h, err := lease.Take(ctx, s, who(string(rune('a'+n))), lease.Options{})
				if err != nil {
					return
				}
				holds.Add(1)
				assert.NoError(t, h.Keep(ctx, quiet))
			})
		}
		time.Sleep(time.Hour)
		assert.Equal(t, int64(1), holds.Load())
		stop()
		all.Wait()
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"format":"jugate lease 1","service":"garden","term":1,"for":1}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s := objects.OpenFolder(t.TempDir())
		_, err := s.Put(t.Context(), lease.Name, raw, objects.Always)
		require.NoError(t, err)
		if l, _, err := lease.Read(t.Context(), s); err == nil {
			assert.Positive(t, l.Term)
			assert.LessOrEqual(t, l.For, time.Hour)
		}
	})
}
