package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// loop is a disk of this machine, which is said to be removable or not.
func loop(t *testing.T, size int64, removable string) (device, file string) {
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	file = filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, size))
	out, err := exec.CommandContext(t.Context(), "losetup", "--find", "--show", file).CombinedOutput()
	if err != nil {
		t.Skipf("loop devices cannot be had here: %s", out)
	}
	device = strings.TrimSpace(string(out))
	t.Cleanup(func() { assert.NoError(t, exec.Command("losetup", "--detach", device).Run()) })
	var s unix.Stat_t
	require.NoError(t, unix.Stat(device, &s))
	at := filepath.Join(sysRoot, "dev/block", fmt.Sprintf("%d:%d", unix.Major(s.Rdev), unix.Minor(s.Rdev)))
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "removable"), []byte(removable+"\n"), 0o644))
	return device, file
}

func TestMediaGoOntoARemovableDiskAlone(t *testing.T) {
	before := sysRoot
	sysRoot = t.TempDir()
	t.Cleanup(func() { sysRoot = before })
	media := bytes.Repeat([]byte("media "), 300_000)
	write := func(device string, answer string, yes bool, from func(io.Writer) error) (string, error) {
		cmd := &cobra.Command{}
		var said bytes.Buffer
		cmd.SetIn(strings.NewReader(answer))
		cmd.SetOut(&said)
		cmd.SetErr(&said)
		cmd.SetContext(t.Context())
		err := writeStick(cmd, device, yes, from)
		return said.String(), err
	}
	good := func(w io.Writer) error { _, err := w.Write(media); return err }

	fixed, _ := loop(t, 8<<20, "0")
	_, err := write(fixed, "yes\n", true, good)
	assert.ErrorContains(t, err, "is not a removable disk, and only those are overwritten")
	_, err = write(filepath.Join(t.TempDir(), "nothing"), "", true, good)
	assert.Error(t, err)
	plain := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(plain, nil, 0o600))
	_, err = write(plain, "", true, good)
	assert.ErrorContains(t, err, "is not a disk")

	device, file := loop(t, 8<<20, "1")
	out, err := exec.CommandContext(t.Context(), "sh", "-c", "printf 'label: gpt\nsize=4M, type=linux, name=HOLIDAY\n' | sfdisk -q --no-reread "+file+" && mkfs.ext4 -q -F -L HOLIDAY -E offset=1048576 "+file+" 4M").CombinedOutput()
	require.NoError(t, err, "%s", out)
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	said, err := write(device, "no\n", false, good)
	assert.ErrorContains(t, err, "nothing was done")
	assert.Contains(t, said, "HOLIDAY", "what is on it is shown first")
	is, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(was, is))

	said, err = write(device, "yes\n", false, good)
	require.NoError(t, err)
	assert.Contains(t, said, "were read back")
	is, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(media, is[:len(media)]))

	_, err = write(device, "", true, func(w io.Writer) error { _, err := w.Write(make([]byte, 9<<20)); return err })
	assert.ErrorContains(t, err, "too small")
	_, err = write(device, "", true, func(io.Writer) error { return errors.New("the service is away") })
	assert.ErrorContains(t, err, "the service is away")

	s, err := openStick(device)
	require.NoError(t, err)
	defer s.Close()
	digest, n, err := s.fill(good)
	require.NoError(t, err)
	require.NoError(t, s.check(digest, n))
	other, err := os.OpenFile(file, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = other.WriteAt([]byte("X"), 4096)
	require.NoError(t, errors.Join(err, other.Sync(), other.Close()))
	assert.ErrorContains(t, s.check(digest, n), "does not give back what was written")
}
