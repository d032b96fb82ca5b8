package main

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// statusOf is a line of what the kernel says of a process, and of each of its threads.
func statusOf(t *testing.T, process int, line string) (values []string) {
	t.Helper()
	files, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", process))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		text, err := os.Open(f)
		require.NoError(t, err)
		defer text.Close()
		for lines := bufio.NewScanner(text); lines.Scan(); {
			if value, is := strings.CutPrefix(lines.Text(), line+":"); is {
				values = append(values, strings.TrimSpace(value))
			}
		}
	}
	return values
}

func TestTheServiceGivesUpWhatItDoesNotNeed(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("root has something to give up")
	}
	data := filepath.Join(t.TempDir(), "data")
	cmd, _ := serve(t, data)
	want := fmt.Sprintf("%016x", 1<<unix.CAP_NET_BIND_SERVICE|1<<unix.CAP_NET_RAW|1<<unix.CAP_NET_ADMIN)
	for _, line := range []string{"CapEff", "CapPrm"} {
		for _, value := range statusOf(t, cmd.Process.Pid, line) {
			assert.Equal(t, want, value, "%s of every thread", line)
		}
	}
	for _, value := range statusOf(t, cmd.Process.Pid, "NoNewPrivs") {
		assert.Equal(t, "1", value)
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())

	t.Log("# a folder that is somebody else's stays open to root")
	require.NoError(t, filepath.WalkDir(data, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, 65534, 65534)
	}))
	cmd, _ = serve(t, data)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, cmd.Wait())
}
