package course_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/course"
)

var morning = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// run adds what is due of so many seconds.
func run(c *course.Course, from, seconds int) {
	for i := range seconds {
		if now := morning.Add(time.Duration(from+i) * time.Second); c.Due(now) {
			c.Add(course.Sample{At: now, Rate: int64(from + i)}, map[string]int{"herb-01": 100 * i / seconds})
		}
	}
}

func TestACourseOfADayTakesTheRoomOfOneOfAnHour(t *testing.T) {
	c := course.New()
	run(c, 0, 86_400)
	assert.Less(t, len(c.Samples), course.Most)
	assert.Greater(t, len(c.Samples), course.Most/2-1)
	assert.Equal(t, 512*time.Second, c.Every)
	for i := 1; i < len(c.Samples); i++ {
		assert.True(t, c.Samples[i].At.After(c.Samples[i-1].At))
	}
	last := c.Samples[len(c.Samples)-1]
	assert.Less(t, morning.Add(86_400*time.Second).Sub(last.At), 2*c.Every, "the end is in it")
}

func TestWhoComesLaterIsUnknownBefore(t *testing.T) {
	c := course.New()
	c.Add(course.Sample{At: morning}, map[string]int{"herb-02": 10, "herb-01": 20})
	c.Add(course.Sample{At: morning.Add(time.Second)}, map[string]int{"herb-00": 5, "herb-02": 30})
	assert.Equal(t, []string{"herb-01", "herb-02", "herb-00"}, c.Members)
	assert.Equal(t, []int{20, 10}, c.Samples[0].Done)
	assert.Equal(t, []int{course.Unknown, 30, 5}, c.Samples[1].Done)

	t.Log("# it goes on after it was written and read")
	text, err := c.Write()
	require.NoError(t, err)
	again, err := course.Read(text)
	require.NoError(t, err)
	again.Add(course.Sample{At: morning.Add(2 * time.Second)}, map[string]int{"herb-00": 6, "herb-03": 1})
	assert.Equal(t, []int{course.Unknown, course.Unknown, 6, 1}, again.Samples[2].Done)
	_, err = course.Read([]byte("{"))
	assert.Error(t, err)
}

func TestOfVeryManyTheFirstThousandAreShown(t *testing.T) {
	c := course.New()
	all := map[string]int{}
	for i := range 1500 {
		all[fmt.Sprintf("desk-%04d", i)] = 1
	}
	c.Add(course.Sample{At: morning}, all)
	assert.Len(t, c.Members, 1000)
	assert.Len(t, c.Samples[0].Done, 1000)
}

func TestSpread(t *testing.T) {
	assert.Equal(t, course.Spread{}, course.SpreadOf(nil, true))
	assert.Equal(t, course.Spread{Middle: 2, Worst: 9}, course.SpreadOf([]float64{9, 1, 2}, true))
	assert.Equal(t, course.Spread{Middle: 2, Worst: 1}, course.SpreadOf([]float64{9, 1, 2}, false))
}
