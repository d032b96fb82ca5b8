package memo_test

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"

	"jugate/core/memo"
)

func TestAThingIsMadeOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := memo.Cache[int, string]{Most: 2}
		var made atomic.Int64
		ready := make(chan struct{})
		var asking sync.WaitGroup
		for range 10 {
			asking.Go(func() {
				v, err := c.Get(1, func() (string, error) { made.Add(1); <-ready; return "one", nil })
				assert.NoError(t, err)
				assert.Equal(t, "one", v)
			})
		}
		synctest.Wait() // all of them wait for the first
		close(ready)
		asking.Wait()
		assert.EqualValues(t, 1, made.Load())
	})
}

func TestThoseAskedForLastAreKept(t *testing.T) {
	c := memo.Cache[int, int]{Most: 2}
	made := 0
	get := func(n int) {
		v, err := c.Get(n, func() (int, error) { made++; return n * n, nil })
		assert.NoError(t, err)
		assert.Equal(t, n*n, v)
	}
	for _, n := range []int{1, 2, 1, 3, 1} {
		get(n)
	}
	assert.Equal(t, 3, made)
	get(2)
	assert.Equal(t, 4, made, "it has had to go")
}

func TestAFailureIsNotRemembered(t *testing.T) {
	var c memo.Cache[string, *int]
	away := errors.New("away")
	v, err := c.Get("a", func() (*int, error) { return nil, away })
	assert.ErrorIs(t, err, away)
	assert.Nil(t, v)
	v, err = c.Get("a", func() (*int, error) { return new(int), nil })
	assert.NoError(t, err)
	assert.NotNil(t, v)
}
