package standby

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/lease"
	"jugate/core/objects"
)

// away is a store that answers only while the road to it is open.
type away struct {
	objects.Store
	closed bool
}

func (a *away) Put(ctx context.Context, name string, body []byte, when objects.Condition) (string, error) {
	if a.closed {
		return "", errors.New("no route to host")
	}
	return a.Store.Put(ctx, name, body, when)
}

// A machine that slept is the service again at once, if nobody else has become it; if its store does not
// answer, or somebody has, it says so.
func TestAMachineThatSlept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx := t.Context()
		road := &away{Store: objects.OpenFolder(t.TempDir())}
		held, err := lease.Take(ctx, road, lease.Lease{Service: "garden", Holder: "one", Machine: "one"}, lease.Options{})
		require.NoError(t, err)
		s := &Standby{Log: slog.New(slog.DiscardHandler), Publish: func(any) {}}
		assert.NoError(t, s.Serving(ctx), "no copy is kept")
		s.now = &copying{held: held}

		time.Sleep(time.Hour)
		require.False(t, held.Valid())
		assert.NoError(t, s.Serving(ctx))
		assert.True(t, held.Valid())

		t.Log("# its store is away, and comes back")
		time.Sleep(time.Hour)
		road.closed = true
		assert.EqualError(t, s.Serving(ctx), "this machine may no longer be the service: the store that says who is the service does not answer: no route to host")
		road.closed = false
		assert.ErrorContains(t, s.Serving(ctx), "no route", "until a renewal says otherwise")
		s.renewed(s.now, held.Renew(ctx))
		assert.NoError(t, s.Serving(ctx))

		t.Log("# another one takes it")
		time.Sleep(time.Hour)
		_, err = lease.Take(ctx, road, lease.Lease{Service: "garden", Holder: "two", Machine: "two"}, lease.Options{Wait: true})
		require.NoError(t, err)
		assert.EqualError(t, s.Serving(ctx), "this machine may no longer be the service: another machine has become the service: two, in term 2")

		t.Log("# it was given up here")
		s.now.ended.Store(true)
		s.lease = ""
		gone, cancel := context.WithCancel(ctx)
		cancel()
		assert.ErrorIs(t, s.Serving(gone), context.Canceled)
		assert.Empty(t, s.lease)
	})
}
