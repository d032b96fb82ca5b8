package service_test

import (
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// scrape gets the figures as a program that watches does.
func (h *house) scrape(token string) (status int, text string) {
	h.t.Helper()
	req, err := http.NewRequestWithContext(h.t.Context(), http.MethodGet, h.url+"/metrics", nil)
	require.NoError(h.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := h.client.HTTP().Do(req)
	require.NoError(h.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(h.t, err)
	return resp.StatusCode, string(b)
}

func TestFiguresForProgramsThatWatch(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	status, _ := h.scrape("")
	assert.Equal(t, http.StatusUnauthorized, status)
	status, _ = h.scrape("not a token")
	assert.Equal(t, http.StatusUnauthorized, status)

	w := h.called(7, "A310")
	h.called(8, "A310")
	_, err := h.client.Admit(t.Context(), w.Addresses[0], api.Admission{Name: "herb-07"})
	require.NoError(t, err)
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, 66<<20), 0, "herb-01")
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})

	status, text := h.scrape(h.token)
	require.Equal(t, http.StatusOK, status, text)
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	require.NoError(t, err)
	figure := func(name, label string) float64 {
		require.Contains(t, families, name)
		for _, m := range families[name].Metric {
			if label == "" || m.Label[0].GetValue() == label {
				return m.GetGauge().GetValue() + m.GetCounter().GetValue()
			}
		}
		t.Errorf("%s has no %s", name, label)
		return -1
	}
	assert.EqualValues(t, 3, figure("jugate_workstations", "admitted"))
	assert.EqualValues(t, 1, figure("jugate_workstations", "newcomer"))
	assert.EqualValues(t, 1, figure("jugate_needs", "newcomers"))
	assert.EqualValues(t, 0, figure("jugate_needs", "failures"))
	assert.EqualValues(t, 0, figure("jugate_part_state", "records"))
	assert.EqualValues(t, 1, figure("jugate_part_state", "backups"))
	assert.EqualValues(t, 1, figure("jugate_receipts_total", "delivered"))
	assert.Positive(t, figure("jugate_received_bytes_total", "unicast")+figure("jugate_received_bytes_total", "multicast"))

	t.Log("# names and units are as such programs expect them")
	problems, err := promlint.New(strings.NewReader(text)).Lint()
	require.NoError(t, err)
	for _, p := range problems {
		if strings.HasPrefix(p.Metric, "jugate_") {
			t.Errorf("%s: %s", p.Metric, p.Text)
		}
	}

	t.Log("# each figure is described, and each rule speaks of one that is there")
	guide, err := os.ReadFile("../docs/metrics.md")
	require.NoError(t, err)
	for name := range families {
		if strings.HasPrefix(name, "jugate_") {
			assert.Contains(t, string(guide), "`"+name, name)
		}
	}
	for _, name := range regexp.MustCompile(`jugate_[a-z_]+`).FindAllString(string(guide), -1) {
		assert.Contains(t, families, name)
	}
}
