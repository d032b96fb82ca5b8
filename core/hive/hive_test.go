package hive_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hive"
)

// made is a hive with what a system has, as far as it matters here.
func made(t testing.TB) []byte {
	h, err := hive.New("SYSTEM")
	require.NoError(t, err)
	for path, values := range map[string]map[string]hive.Value{
		`ControlSet001\Services\corvraid`: {"Type": hive.Number(1), "Start": hive.Number(0), "ImagePath": hive.OfExpand(`System32\drivers\corvraid.sys`), "Owners": hive.OfAll("oem1.inf", "oem2.inf")},
		`Setup`:                           {"OOBEInProgress": hive.Number(1), "CmdLine": hive.Of(`oobe\windeploy.exe`)},
		`ControlSet001\Glashäuser\Ελλάδα`: {"": hive.Of("default"), "größe": hive.OfBytes(bytes.Repeat([]byte("garden "), 1000))},
	} {
		k, err := h.Make(path)
		require.NoError(t, err)
		for name, v := range values {
			require.NoError(t, k.Set(name, v))
		}
	}
	b, err := h.Bytes()
	require.NoError(t, err)
	return b
}

// write has the file where other programs read it.
func write(t *testing.T, b []byte) string {
	path := filepath.Join(t.TempDir(), "SYSTEM")
	require.NoError(t, os.WriteFile(path, b, 0o644))
	return path
}

// judged is what hivexget says of a value.
func judged(t *testing.T, file, key, value string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "hivexget", file, `\`+key, value).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func TestAnotherProgramReadsWhatIsWritten(t *testing.T) {
	file := write(t, made(t))
	assert.Equal(t, "0", judged(t, file, `ControlSet001\Services\corvraid`, "Start"))
	assert.Equal(t, `System32\drivers\corvraid.sys`, judged(t, file, `ControlSet001\Services\corvraid`, "ImagePath"))
	assert.Equal(t, "oem1.inf\noem2.inf", judged(t, file, `controlset001\services\CORVRAID`, "owners"))
	assert.Equal(t, "default", judged(t, file, `ControlSet001\Glashäuser\Ελλάδα`, "@"))
	out, err := exec.CommandContext(t.Context(), "hivexml", file).Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), `name="Glashäuser"`)
	assert.Equal(t, 7, strings.Count(string(out), "<node "))

	t.Log("# a thousand keys are in lists of lists")
	h, err := hive.Read(made(t))
	require.NoError(t, err)
	for i := range 1200 {
		k, err := h.Make(fmt.Sprintf(`ControlSet001\Services\made-up %04d`, (i*7919)%1200))
		require.NoError(t, err)
		require.NoError(t, k.Set("Start", hive.Number(3)))
		require.NoError(t, k.Set("start", hive.Number(uint32(i))), "in its place")
	}
	b, err := h.Bytes()
	require.NoError(t, err)
	file = write(t, b)
	for _, i := range []int{0, 499, 500, 1199} {
		assert.Equal(t, fmt.Sprint(i), judged(t, file, fmt.Sprintf(`ControlSet001\Services\made-up %04d`, (i*7919)%1200), "Start"))
	}
	k, err := h.Find(`ControlSet001\Services`)
	require.NoError(t, err)
	all, err := k.Keys()
	require.NoError(t, err)
	assert.Len(t, all, 1201)
}

func TestWhatAnotherProgramHasWrittenIsRead(t *testing.T) {
	file := write(t, made(t))
	cmd := exec.CommandContext(t.Context(), "hivexsh", "-w", file)
	cmd.Stdin = strings.NewReader(strings.Join([]string{`cd \ControlSet001`, "add Control", "cd Control", "add Class", "setval 3", "Kind", "string:storage", "Count", "dword:7", "Bytes", "hex:3:01,02,03,04,05,06", `cd \ControlSet001\Glashäuser`, "del", "commit", ""}, "\n"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, open := range map[string]func() (*hive.Hive, error){
		"whole": func() (*hive.Hive, error) { return hive.Read(b) },
		"open":  func() (*hive.Hive, error) { return hive.Open(bytes.NewReader(b), int64(len(b))) },
	} {
		h, err := open()
		require.NoError(t, err, name)
		require.NoError(t, h.Check())
		k, err := h.Find(`controlset001\CONTROL`)
		require.NoError(t, err)
		values, err := k.Values()
		require.NoError(t, err)
		require.Len(t, values, 3)
		kind, err := k.Value("kind")
		require.NoError(t, err)
		assert.Equal(t, "storage", kind.Text())
		count, err := k.Value("Count")
		require.NoError(t, err)
		n, is := count.Number()
		assert.True(t, is)
		assert.EqualValues(t, 7, n)
		_, err = h.Find(`ControlSet001\Glashäuser`)
		assert.ErrorIs(t, err, hive.ErrNotFound)
		_, err = k.Value("none")
		assert.ErrorIs(t, err, hive.ErrNotFound)
	}

	t.Log("# and changed again")
	h, err := hive.Read(b)
	require.NoError(t, err)
	k, err := h.Make(`ControlSet001\Control\Class\{4d36e97b-e325-11ce-bfc1-08002be10318}`)
	require.NoError(t, err)
	require.NoError(t, k.Set("", hive.Of("SCSI adapters")))
	b, err = h.Bytes()
	require.NoError(t, err)
	assert.Equal(t, "SCSI adapters", judged(t, write(t, b), `ControlSet001\Control\Class\{4D36E97B-E325-11CE-BFC1-08002BE10318}`, "@"))
}

func TestNothingIsWrittenThatWaitsInALog(t *testing.T) {
	b := made(t)
	binary.LittleEndian.PutUint32(b[4:], binary.LittleEndian.Uint32(b[4:])+1)
	sum := uint32(0)
	for i := 0; i < 508; i += 4 {
		sum ^= binary.LittleEndian.Uint32(b[i:])
	}
	binary.LittleEndian.PutUint32(b[508:], sum)
	h, err := hive.Read(b)
	require.NoError(t, err)
	assert.False(t, h.Clean())
	k, err := h.Find("Setup")
	require.NoError(t, err, "it can be looked at")
	assert.ErrorIs(t, k.Set("OOBEInProgress", hive.Number(0)), hive.ErrUnclean)
	_, err = h.Make("Setup2")
	assert.ErrorIs(t, err, hive.ErrUnclean)
	_, err = h.Bytes()
	assert.ErrorIs(t, err, hive.ErrUnclean)
	open, err := hive.Open(bytes.NewReader(made(t)), int64(len(b)))
	require.NoError(t, err)
	_, err = open.Make("x")
	assert.ErrorContains(t, err, "read whole")
}

func TestDamageIsNoticed(t *testing.T) {
	good := made(t)
	for what, damage := range map[string]func(b []byte) []byte{
		"short": func(b []byte) []byte { return b[:4000] }, "cut off": func(b []byte) []byte { return b[:5000] }, "name": func(b []byte) []byte { b[0] = 'x'; return b }, "checksum": func(b []byte) []byte { b[20]++; return b },
		"empty": func([]byte) []byte { return nil },
	} {
		_, err := hive.Read(damage(bytes.Clone(good)))
		assert.ErrorIs(t, err, hive.ErrFormat, what)
	}
	for i := 4096; i < len(good); i += 13 { // in the bins nothing guards but what is checked
		b := bytes.Clone(good)
		b[i] ^= 0xff
		if h, err := hive.Read(b); err == nil {
			_ = walk(h)
			_ = h.Check()
		}
	}
}

// walk reads everything, to a bound.
func walk(h *hive.Hive) error {
	root, err := h.Root()
	if err != nil {
		return err
	}
	left := 300
	var down func(k *hive.Key, depth int) error
	down = func(k *hive.Key, depth int) error {
		if left--; left < 0 || depth > 20 {
			return errors.New("enough")
		}
		values, err := k.Values()
		if err != nil {
			return err
		}
		for _, v := range values {
			_, _ = v.Text(), v.Texts()
			v.Number()
		}
		keys, err := k.Keys()
		if err != nil {
			return err
		}
		for _, sub := range keys {
			if err := down(sub, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return down(root, 0)
}

func FuzzHive(f *testing.F) {
	f.Add(made(f))
	f.Add([]byte("regf"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 1<<20 {
			return
		}
		if len(b) >= 512 { // else hardly anything comes past the checksum
			sum := uint32(0)
			for i := 0; i < 508; i += 4 {
				sum ^= binary.LittleEndian.Uint32(b[i:])
			}
			binary.LittleEndian.PutUint32(b[508:], sum)
		}
		h, err := hive.Read(b)
		if err != nil {
			return
		}
		_ = walk(h)
		if h.Check() != nil {
			return
		}
		k, err := h.Make(`Garden\Desk`)
		if err != nil {
			return
		}
		if k.Set("Start", hive.Of("a text that needs room")) != nil {
			return
		}
		if _, err := h.Bytes(); err != nil && !errors.Is(err, hive.ErrFormat) {
			t.Error(err)
		}
	})
}
