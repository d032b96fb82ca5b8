package cli_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/demo/golddisk"
)

func TestCompletionOffersWhatFits(t *testing.T) {
	d := openDesk(t)
	disk := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, golddisk.Blank(disk, golddisk.MiB))
	until(t, start(t, "simulate", "--address", "00:00:5e:00:53:21", "--disk", disk), "waiting to be admitted")
	d.must("workstation", "admit", "00:00:5e:00:53:22", "herb-02")
	d.must("group", "add", "herbarium")
	offered := func(words ...string) string { return d.must(append([]string{"__complete"}, words...)...) }
	assert.Contains(t, offered("workstation", "admit", ""), "00:00:5e:00:53:21\tAlder Works A310")
	assert.NotContains(t, offered("workstation", "admit", ""), "herb-02", "it is in the roster already")
	assert.NotContains(t, offered("workstation", "admit", "00:00:5e:00:53:21", ""), "herb", "a new name is anybody's choice")
	assert.Contains(t, offered("workstation", "retire", ""), "herb-02")
	assert.Contains(t, offered("workstation", "wake", "herb-02", ""), "herbarium")
	assert.Contains(t, offered("group", "include", ""), "herbarium")
	assert.NotContains(t, offered("group", "include", ""), "herb-02")
	assert.Contains(t, offered("group", "include", "herbarium", "x", ""), "herb-02")
	assert.NotContains(t, offered("group", "remove", "herbarium", ""), "herbarium", "it takes one")
	assert.Contains(t, offered("deliver", "garden-desk", "--to", ""), "herbarium")
	assert.Contains(t, offered("delivery", "list", "--sort", ""), "-created")
	assert.Contains(t, offered("receipt", "list", "--outcome", ""), "absent")
	assert.Contains(t, offered("explain", ""), "mending")
}
