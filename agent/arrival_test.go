package agent_test

import (
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/agent"
	"jugate/apiclient"
	"jugate/core/answers"
)

// replies answers one request after the other; the last reply counts for all that follow.
// A status of 0 is a service that is away.
type replies struct {
	statuses []int
	asked    int
	body     string
}

func (r *replies) RoundTrip(req *http.Request) (*http.Response, error) {
	status := r.statuses[min(r.asked, len(r.statuses)-1)]
	r.asked++
	body, err := io.ReadAll(req.Body)
	if err != nil {
		return nil, err
	}
	r.body = string(body)
	if status == 0 {
		return nil, errors.New("no route to host")
	}
	return &http.Response{StatusCode: status, Status: http.StatusText(status), Header: http.Header{}, Body: io.NopCloser(strings.NewReader("{}")), Request: req}, nil
}

func TestTheFirstStartIsReportedAndLeavesNothing(t *testing.T) {
	for name, c := range map[string]struct {
		statuses []int
		fails    string
		asked    int
		within   time.Duration
	}{
		"at once":                          {[]int{204}, "", 1, 0},
		"the service is away for a moment": {[]int{0, 503, 204}, "", 3, 20 * time.Second},
		"the token was used already":       {[]int{401}, "Unauthorized", 1, 0},
		"the service never comes back":     {[]int{0}, "could not be told within 1h0m0s", 361, time.Hour},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				root := t.TempDir()
				files := append([]string{"etc/hostname", "etc/os-release", "var/lib/jugate/kept"}, answers.ArrivalFiles...)
				for _, file := range files {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, file)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte("PRETTY_NAME=\"Made-up Linux 4\"\n"), 0o600))
				}
				client, err := apiclient.New("http://192.0.2.1:7460", "token")
				require.NoError(t, err)
				service := &replies{statuses: c.statuses}
				began := time.Now()
				err = agent.Arrive(t.Context(), client.Over(&http.Client{Transport: service}), answers.Arrival{Token: "token"}, root)
				if c.fails == "" {
					require.NoError(t, err)
				} else {
					require.ErrorContains(t, err, c.fails)
				}
				assert.InDelta(t, c.asked, service.asked, 1, "the end of the hour and the last try meet")
				assert.Equal(t, c.within, time.Since(began))
				assert.Contains(t, service.body, "Made-up Linux 4")
				for _, file := range answers.ArrivalFiles {
					assert.NoFileExists(t, filepath.Join(root, file))
				}
				assert.FileExists(t, filepath.Join(root, "var/lib/jugate/kept"), "what others put there stays")
			})
		})
	}
}
