package stream

import (
	"errors"
	"slices"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsMadeSideBySideComesInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		numbers := []int{5, 1, 4, 2, 3}
		release := map[int]chan bool{}
		for _, n := range numbers {
			release[n] = make(chan bool)
		}
		var got, lost []int
		done := make(chan bool)
		go func() {
			for v := range inOrder(slices.Values(numbers), 3, func(i int) (int, error) {
				<-release[i]
				switch i {
				case 4:
					return 0, errors.New("it cannot be read")
				case 2:
					panic("a bug")
				}
				return i * 10, nil
			}, func(i int, err error) {
				assert.Error(t, err)
				lost = append(lost, i)
			}) {
				got = append(got, v)
			}
			close(done)
		}()
		for _, n := range []int{4, 1, 5, 2, 3} { // the first one is late
			release[n] <- true
			synctest.Wait()
		}
		<-done
		assert.Equal(t, []int{50, 10, 30}, got)
		assert.Equal(t, []int{4, 2}, lost)
	})
}

func TestWhoHasEnoughStopsTheOthers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for range inOrder(func(yield func(int) bool) {
			for i := 0; yield(i); i++ {
			}
		}, 3, func(i int) (int, error) { return i, nil }, nil) {
			break
		}
		synctest.Wait() // nobody is left, or this test would not end
	})
}
