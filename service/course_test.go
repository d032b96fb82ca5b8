package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/course"
)

// What a delivery did over time, and how it went, is told long after it.
func TestADeliveryHasACourseAndAStory(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	stop := h.start(2, blank(t, 66<<20), 0, "herb-01")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	stop()
	c, err := h.client.Course(ctx, d.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"herb-01"}, c.Members)
	require.NotEmpty(t, c.Samples)
	assert.Equal(t, []int{course.Checked}, c.Samples[len(c.Samples)-1].Done)
	assert.Contains(t, d.Story[0], "for 1 workstation")
	assert.Contains(t, d.Story[len(d.Story)-1], "herb-01 had its disk checked after")

	t.Log("# a delivery that never began has no course, and its story says so")
	waits, err := h.client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	require.NoError(t, err)
	_, err = h.client.StopDelivery(ctx, waits.ID)
	require.NoError(t, err)
	h.eventually(func() bool { d, err := h.client.Delivery(ctx, waits.ID); return err == nil && d.Ended != nil })
	d, err = h.client.Delivery(ctx, waits.ID)
	require.NoError(t, err)
	assert.Contains(t, d.Story[0], "without having begun")
	c, err = h.client.Course(ctx, waits.ID)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(c.Samples), 1)
	_, err = h.client.Course(ctx, 99)
	assert.Error(t, err)
}
