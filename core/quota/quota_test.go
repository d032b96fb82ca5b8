package quota

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestEachHasItsOwn(t *testing.T) {
	var q Quota[string]
	now := time.Now()
	for range 3 {
		assert.True(t, q.Left("a", now))
		assert.True(t, q.Take("a", now, 3, time.Minute))
	}
	assert.False(t, q.Left("a", now))
	assert.False(t, q.Take("a", now, 3, time.Minute))
	assert.True(t, q.Take("b", now, 3, time.Minute))
	assert.True(t, q.Take("a", now.Add(20*time.Second), 3, time.Minute), "a third of it comes back in a third of the time")
	assert.False(t, q.Take("a", now.Add(20*time.Second), 3, time.Minute))
}

func TestWhatIsRememberedIsBounded(t *testing.T) {
	var q Quota[int]
	now := time.Now()
	for i := range atMost + 16 {
		q.Take(i, now, 3, time.Minute)
	}
	assert.LessOrEqual(t, len(q.each), atMost)
	assert.False(t, q.Take(-1, now, 3, time.Minute), "there is no room for one more")
	assert.True(t, q.Take(-1, now.Add(time.Minute), 3, time.Minute), "those that are whole again are forgotten")
}
