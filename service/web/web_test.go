package web

import (
	"testing"
	"time"

	"jugate/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBearer(t *testing.T) {
	for header, want := range map[string]string{"Bearer abc": "abc", "bearer  abc ": "abc", "Basic abc": "", "": "", "abc": ""} {
		assert.Equal(t, want, bearer(header), header)
	}
}

func TestASlowListenerIsToldThatItMissedSomething(t *testing.T) {
	var b Events
	now := time.Now()
	slow, err := b.listen(now, 0, nil)
	require.NoError(t, err)
	gone, err := b.listen(now, 0, nil)
	require.NoError(t, err)
	b.leave(gone)
	for i := range listenerBuffer + 10 {
		b.Publish(i)
	}
	assert.Empty(t, gone.events)
	for i := range listenerBuffer {
		require.Equal(t, i, (<-slow.events).event)
	}
	b.Publish("next")
	assert.Equal(t, api.Resync{Missed: 10}, (<-slow.events).event)
	next := <-slow.events
	assert.Equal(t, "next", next.event)

	t.Log("# whoever comes back hears what has been since")
	b.Publish("and another")
	back, err := b.listen(now, next.id, nil)
	require.NoError(t, err)
	assert.Equal(t, "and another", (<-back.events).event)
	late, err := b.listen(now, 5, nil)
	require.NoError(t, err)
	assert.Equal(t, api.Resync{}, (<-late.events).event, "too long ago")

	t.Log("# and not everybody can listen")
	for range listenersAtMost {
		_, err = b.listen(now, 0, nil)
	}
	assert.ErrorIs(t, err, errListeners)
}

func TestWorkstationsOfADeliveryAreToldToThoseWhoShowIt(t *testing.T) {
	var e Events
	now := time.Now()
	list, err := e.listen(now, 0, nil)
	require.NoError(t, err)
	shows, err := e.listen(now, 0, []int64{7})
	require.NoError(t, err)
	e.Publish(api.DeliveryMoved{Delivery: 7})
	e.Publish(api.DeliveryMoved{Delivery: 8})
	e.Publish(api.Delivery{ID: 7})
	assert.Equal(t, api.Delivery{ID: 7}, (<-list.events).event)
	assert.Equal(t, api.DeliveryMoved{Delivery: 7}, (<-shows.events).event)
	last := <-shows.events
	assert.Equal(t, api.Delivery{ID: 7}, last.event)
	assert.Empty(t, shows.events)

	t.Log("# they are not kept for those who come back: those fetch the delivery anew")
	e.Publish(api.Delivery{ID: 7})
	back, err := e.listen(now, last.id, []int64{7})
	require.NoError(t, err)
	assert.Equal(t, api.Resync{}, (<-back.events).event)
}
