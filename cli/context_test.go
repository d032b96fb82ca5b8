package cli_test

import (
	"bytes"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/cli"
)

// No test finds a service that another one has started, or that this machine's user has.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "config")
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_CONFIG_HOME", dir)
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func TestTheServiceIsFoundByWhoeverStartedIt(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	d := desk{t: t}
	_, code := d.run("group", "list", "--server", "https://127.0.0.1:1")
	assert.Equal(t, 1, code)
	data := filepath.Join(t.TempDir(), "data")
	line := until(t, start(t, "serve", "--data", data, "--listen", "127.0.0.1:0"), "https://")
	_, address, _ := strings.Cut(line, "https://")
	d.must("group", "add", "herbarium")
	assert.Contains(t, d.must("config", "show"), "https://"+address)
	assert.NotContains(t, d.must("config", "show", "-o", "json"), secret(t, data), "a token is shown to nobody")
	assert.Regexp(t, `service\s+\d+\.\d+\.\d+`, d.must("version"))

	t.Log("# the token is for that service, and for no other")
	var given atomic.Value
	other := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given.Store(r.Header.Get("Authorization"))
		http.Error(w, "", http.StatusUnauthorized)
	}))
	defer other.Close()
	_, code = d.run("group", "list", "--server", other.URL)
	assert.Equal(t, 1, code)
	assert.Empty(t, given.Load())

	t.Log("# nor for whoever has the port of a service that was killed")
	kept := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "jugate", "context.json")
	gone := exec.Command("true")
	require.NoError(t, gone.Run())
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	left := strings.ReplaceAll(string(text), fmt.Sprint(os.Getpid()), fmt.Sprint(gone.Process.Pid))
	require.NotEqual(t, string(text), left)
	require.NoError(t, os.WriteFile(kept, []byte(strings.ReplaceAll(left, "https://"+address, other.URL)), 0o600))
	said, _ := d.run("config", "show")
	assert.NotContains(t, said, other.URL)
	require.NoError(t, os.WriteFile(kept, text, 0o600))
}

// A service is known by its authority, which is found out once.
func TestNobodyInBetweenIsBelieved(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	d, other := openDesk(t), openDesk(t)
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(os.Getenv("JUGATE_TOKEN")+"\n"), 0o600))
	for _, name := range []string{"JUGATE_SERVER", "JUGATE_TOKEN", "JUGATE_AUTHORITY"} {
		t.Setenv(name, "")
		os.Unsetenv(name)
	}
	d.run("sign-out")
	text, code := d.run("group", "list", "--server", other.url, "--token-file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "certificate signed by unknown authority")
	assert.Contains(t, text, "Nothing was sent")

	t.Log("# with another fingerprint than the engineer has read")
	wrong := strings.Repeat("AB:", 31) + "AB"
	text, code = d.run("sign-in", other.url, "--token-file", file, "--fingerprint", wrong)
	assert.Equal(t, 1, code)
	print := regexp.MustCompile(`([0-9A-F]{2}:){31}[0-9A-F]{2}`).FindString(text)
	require.NotEmpty(t, print, text)
	text = d.must("sign-in", other.url, "--token-file", file, "--fingerprint", strings.ToLower(print))
	assert.Contains(t, text, "signed in at "+other.url)
	d.must("group", "list")

	t.Log("# with another authority at the same address")
	kept := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "jugate", "authority.pem")
	before, err := os.ReadFile(kept)
	require.NoError(t, err)
	someone := httptest.NewTLSServer(nil)
	defer someone.Close()
	require.NoError(t, os.WriteFile(kept, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: someone.Certificate().Raw}), 0o600))
	text, code = d.run("group", "list")
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "Nothing was sent")
	text, code = d.run("sign-in", other.url, "--token-file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "somebody may be in between")
	require.NoError(t, os.WriteFile(kept, before, 0o600))
	d.must("group", "list")

	t.Log("# and none that is for another address")
	text, code = d.run("sign-in", strings.Replace(someone.URL, "127.0.0.1", "localhost", 1), "--token-file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "jugate serve --name")
	text, code = d.run("sign-in", "http://192.0.2.1:7460", "--token-file", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, text, "write https://HOST:PORT")
}

func TestSigningIn(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	d := openDesk(t)
	token := os.Getenv("JUGATE_TOKEN")
	for _, name := range []string{"JUGATE_SERVER", "JUGATE_TOKEN", "JUGATE_AUTHORITY"} {
		t.Setenv(name, "") // is put back afterwards
		os.Unsetenv(name)
	}
	d.must("sign-out")
	text, code := d.run("group", "list", "--server", d.url)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "jugate sign-in")

	t.Log("# a wrong token is not kept")
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte("guessed\n"), 0o600))
	text, code = d.run("sign-in", d.url, "--token-file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "the token is wrong")
	text, code = d.run("sign-out")
	assert.Zero(t, code)
	assert.Contains(t, text, "you were not signed in")

	require.NoError(t, os.WriteFile(file, []byte(token+"\n"), 0o600))
	text = d.must("sign-in", d.url, "--token-file", file)
	assert.Contains(t, text, "signed in at "+d.url+" as the administrator")
	text = d.must("sign-in", d.url, "--token-file", file)
	assert.NotContains(t, text, "fingerprint", "it is known now")
	d.must("group", "add", "herbarium")
	kept, err := os.Stat(filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "jugate", "context.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), kept.Mode())

	t.Log("# a service that is started later does not take its place")
	until(t, start(t, "serve", "--data", filepath.Join(t.TempDir(), "data"), "--listen", "127.0.0.1:0"), "https://")
	assert.Contains(t, d.must("group", "list"), "herbarium")
	_, code = d.run("group", "list", "--token", token, "--token-file", file)
	assert.Equal(t, 2, code)

	t.Log("# what cannot be read is said, and can be removed")
	require.NoError(t, os.WriteFile(filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "jugate", "context.json"), []byte("{"), 0o600))
	text, code = d.run("group", "list")
	assert.Equal(t, 2, code)
	assert.Contains(t, text, "jugate sign-out removes it")
	d.must("sign-out")
}

func secret(t *testing.T, data string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	return strings.TrimSpace(string(text))
}

func TestOldNamesAreRefusedWithTheNewOnes(t *testing.T) {
	for call, want := range map[string]string{
		"bootenv build --offer":               "jugate bootenv is called jugate environment now",
		"group put herbarium herb-01":         "jugate group put is called jugate group include now",
		"group take herbarium herb-01":        "jugate group take is called jugate group exclude now",
		"driver put --to seed-01":             "jugate driver put is called jugate driver install now",
		"image access garden-desk":            "jugate image access is called jugate image recipients now",
		"deliver x --to y --wait-at-most 10m": "--wait-at-most is called --at-latest now",
		"workstaton list":                     `did you mean "jugate workstation"?`,
		"workstation lst":                     `did you mean "jugate workstation list"?`,
		"workstation frobnicate":              "there are address, admit,",
		"image diff a":                        "B[@VERSION] is missing",
		"receipt list all":                    `takes no arguments, and "all" is one`,
		"workstation show herb-01 herb-02":    `"herb-02" is one argument too many`,
		"environment media --service x":       "--into or --onto is missing",
		"domain add x":                        "--account and --unit are missing",
	} {
		var out, errs bytes.Buffer
		assert.Equal(t, 2, cli.Run(t.Context(), strings.Fields(call), &out, &errs), call)
		assert.Contains(t, errs.String(), want, call)
	}
}
