package main

import (
	"bufio"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"jugate/apiclient"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The test binary is also the program: started with this variable it is jugate.
func TestMain(m *testing.M) {
	if os.Getenv("JUGATE_TEST_BE_JUGATE") != "" {
		main()
		return
	}
	config, err := os.MkdirTemp("", "jugate-test-config") // services of tests leave nothing with this machine's user
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_CONFIG_HOME", config)
	code := m.Run()
	os.RemoveAll(config)
	os.Exit(code)
}

func jugate(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), os.Args[0], args...)
	cmd.Env = append(os.Environ(), "JUGATE_TEST_BE_JUGATE=1")
	return cmd
}

// serve starts a service and returns its address once it answers.
func serve(t *testing.T, data string) (cmd *exec.Cmd, url string) {
	t.Helper()
	cmd = jugate(t, "serve", "--data", data, "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	_, url, found := strings.Cut(lines.Text(), "console and interface: ")
	require.True(t, found, lines.Text())
	return cmd, url
}

func TestServeMakesItsFolderAndEndsOnSIGTERM(t *testing.T) {
	data := filepath.Join(t.TempDir(), "new", "data")
	cmd, url := serve(t, data)
	info, err := os.Stat(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.FileExists(t, filepath.Join(data, "jugate.db"))

	client, err := apiclient.New(url, "")
	require.NoError(t, err)
	authority, err := os.ReadFile(filepath.Join(data, "authority.pem"))
	require.NoError(t, err)
	client, err = client.Trusting(authority)
	require.NoError(t, err)
	resp, err := client.HTTP().Get(url + "/healthz")
	require.NoError(t, err)
	defer resp.Body.Close()
	var health struct{ Status string }
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&health))
	assert.Equal(t, "up", health.Status)

	t.Log("# a second start on the same folder is refused, with the reason")
	second := jugate(t, "serve", "--data", data, "--listen", "127.0.0.1:0")
	text, err := second.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 1, second.ProcessState.ExitCode())
	assert.Contains(t, string(text), "the data folder is in use")

	t.Log("# with an event stream and a long poll open, it still ends within five seconds")
	token, err := os.ReadFile(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	req, err := http.NewRequest(http.MethodGet, url+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	events, err := client.HTTP().Do(req)
	require.NoError(t, err)
	defer events.Body.Close()
	agent := jugate(t, "simulate", "--server", url, "--authority", filepath.Join(data, "authority.pem"), "--address", "00:00:5e:00:53:01")
	agentSays, err := agent.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, agent.Start())
	waitFor(t, bufio.NewScanner(agentSays), "waiting to be admitted")

	began := time.Now()
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait(), "exit code 0")
	assert.Less(t, time.Since(began), 5*time.Second)

	t.Log("# the folder is free again, the token is the same, and the agent has noticed")
	again, _ := serve(t, data)
	same, err := os.ReadFile(filepath.Join(data, "admin.token"))
	require.NoError(t, err)
	assert.Equal(t, token, same)
	require.NoError(t, again.Process.Signal(syscall.SIGTERM))
	require.NoError(t, again.Wait())
	waitFor(t, bufio.NewScanner(agentSays), "does not answer")
	require.NoError(t, agent.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, agent.Wait())
}

// waitFor reads lines until one contains text.
func waitFor(t *testing.T, lines *bufio.Scanner, text string) {
	t.Helper()
	for lines.Scan() {
		if strings.Contains(lines.Text(), text) {
			return
		}
	}
	t.Fatalf("it never said %q", text)
}

func TestDemoOncePrintsOneJSONDocument(t *testing.T) {
	cmd := jugate(t, "demo", "--once", "--json", "--loss", "0.03")
	var story strings.Builder
	cmd.Stderr = &story
	out, err := cmd.Output()
	require.NoError(t, err, story.String())
	var report struct {
		Image    string
		Version  int
		Receipts []struct {
			Workstation     string
			HardwareAddress string `json:"hardware_address"`
			Image           string
			Version         int
			Digest          string
			Verified        bool
			Outcome         string
			BytesMulticast  int64 `json:"bytes_multicast"`
			BytesUnicast    int64 `json:"bytes_unicast"`
			Seconds         float64
		}
		WireBytes  int64 `json:"wire_bytes"`
		ImageBytes int64 `json:"image_bytes"`
	}
	require.NoError(t, json.Unmarshal(out, &report))
	assert.Equal(t, "garden-desk", report.Image)
	assert.Equal(t, 1, report.Version)
	require.Len(t, report.Receipts, 8)
	for _, r := range report.Receipts {
		assert.True(t, r.Verified, r.Workstation)
		assert.EqualValues(t, "delivered", r.Outcome)
		assert.Regexp(t, `^00:00:5e:00:53:1[1-8]$`, r.HardwareAddress)
		assert.Regexp(t, `^[0-9a-f]{64}$`, r.Digest)
		assert.Positive(t, r.BytesMulticast) // how much depends on how busy this machine is
		assert.Positive(t, r.Seconds)
	}
	assert.Less(t, report.WireBytes, 4*report.ImageBytes, "half of what eight would cost one by one, even where the machine is busy")
}
