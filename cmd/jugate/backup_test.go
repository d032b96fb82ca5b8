package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/backup"
	"jugate/core/objects"
	"jugate/service"
)

// kills is how often a test kills; JUGATE_KILLS says otherwise.
func kills(t *testing.T, usual int) int {
	if text := os.Getenv("JUGATE_KILLS"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		return n
	}
	return usual
}

// The service is killed while it makes a backup, again and again. What counts as a backup is whole, and the
// next one needs nothing mended.
func TestKilledInTheMiddleOfABackup(t *testing.T) {
	shelf := t.TempDir()
	p := &plant{t: t, data: t.TempDir(), listen: "127.0.0.1:7498"}
	p.start()
	p.must("store", "add", "shelf", shelf)
	written := func() int {
		all, err := filepath.Glob(filepath.Join(shelf, "backups/*/[0-9a-f]*")) // not those that are being written
		require.NoError(t, err)
		return len(all)
	}
	random := rand.New(rand.NewPCG(20, 34))
	more := filepath.Join(p.data, "payloads", "more")
	require.NoError(t, os.MkdirAll(more, 0o755))
	finished := 0
	for n := range kills(t, 12) {
		for i := range 3 {
			content := make([]byte, 100_000)
			for j := range content {
				content[j] = byte(random.Uint32())
			}
			require.NoError(t, os.WriteFile(filepath.Join(more, fmt.Sprintf("%d-%d", n, i)), content, 0o644))
		}
		cmd := p.command("backup", "make", "--to", "shelf")
		until := written() + 1 + random.IntN(12) // with what an earlier kill has left to do, or more than there is
		require.NoError(t, cmd.Start())
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		var err error
		for over := false; !over && written() < until; {
			select {
			case err = <-done:
				over = true
				if err == nil {
					finished++
				}
				done <- err
			default:
				runtime.Gosched()
			}
		}
		require.NoError(t, p.service.Process.Kill())
		p.service.Wait()
		<-done
		p.start()
	}
	p.must("backup", "make", "--to", "shelf")
	store := objects.OpenFolder(shelf)
	all, err := backup.List(t.Context(), store)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(all), finished+1)
	for _, b := range all {
		faults, err := backup.Check(t.Context(), store, b)
		require.NoError(t, err)
		assert.Empty(t, faults, b.ID())
	}
	t.Logf("%d backups of %d were through before the kill", len(all)-1, kills(t, 12))
	p.must("backup", "check", "shelf")
	dir := filepath.Join(t.TempDir(), "jugate")
	_, err = service.Restore(t.Context(), store, "", dir, time.Now(), func(int, int) {})
	require.NoError(t, err)
	p.service.Process.Kill()
	p.service.Wait()
}
