package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The doctor says so of a service that may have few files open, and has a disk that holds few; and of buffers that are small, where this
// machine's are.
func TestTheDoctorOfAServiceThatMayHaveLittle(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give a process a disk of its own")
	}
	folder := t.TempDir()
	cmd := exec.CommandContext(t.Context(), "unshare", "--mount", "sh", "-c", `
		mount -t tmpfs -o nr_inodes=400 none "$0"
		exec prlimit --nofile=1024:1024 setpriv --bounding-set=-net_admin --inh-caps=-net_admin "$@"`, folder)
	service := jugate(t, "serve", "--data", folder, "--listen", "127.0.0.1:7499")
	cmd.Args, cmd.Env = append(cmd.Args, service.Args...), service.Env
	cmd.Stderr = t.Output()
	require.NoError(t, cmd.Start())
	data := fmt.Sprintf("/proc/%d/root%s", cmd.Process.Pid, folder)
	p := &plant{t: t, data: data, listen: "127.0.0.1:7499", service: cmd}
	p.answers()
	doctor := func() string {
		out, _ := p.command("doctor").CombinedOutput()
		return string(out)
	}
	said := doctor()
	text, err := os.ReadFile("/proc/sys/net/core/rmem_max")
	require.NoError(t, err)
	grants, err := strconv.Atoi(strings.TrimSpace(string(text)))
	require.NoError(t, err)
	assert.Equal(t, 2*grants < 2<<20, strings.Contains(said, "packets are lost at high rates"), "without the capability a service has what the system grants, %d bytes here, twice", grants)
	assert.Regexp(t, `warning +open files: it may have 1024 files and connections open`, said)
	assert.NotContains(t, said, "more files can be made")

	t.Log("# its disk takes hardly another file, and then it does again")
	litter := filepath.Join(data, "litter")
	require.NoError(t, os.Mkdir(litter, 0o700))
	var fs unix.Statfs_t
	for n := 0; ; n++ {
		require.NoError(t, unix.Statfs(data, &fs))
		if fs.Ffree < fs.Files/20 {
			break
		}
		require.NoError(t, os.WriteFile(filepath.Join(litter, fmt.Sprint(n)), nil, 0o600))
	}
	full := regexp.MustCompile(`bad +files on the disk: \d+ of 400 more files can be made; each slab is one`)
	assert.Regexp(t, full, doctor())
	require.NoError(t, os.RemoveAll(litter))
	assert.NotRegexp(t, full, doctor())
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, cmd.Wait())
}
