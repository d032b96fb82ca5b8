package service_test

import (
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/delivery"
)

// A service that is asked to end does so while streams run, consoles listen, agents wait, and somebody holds a request that never
// ends; the next one goes on with what was open.
func TestAServiceEndsUnderLoad(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	gold := gold(t)
	h.start(1, gold.Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	for n := 2; n <= 6; n++ {
		h.start(n, blank(t, gold.Size), 0, fmt.Sprintf("herb-0%d", n))
	}
	d, err := h.client.Deliver(t.Context(), api.NewDelivery{Image: "garden-desk@1", To: []string{"herb-02", "herb-03", "herb-04", "herb-05", "herb-06"}, Rate: 500_000})
	require.NoError(t, err)
	h.eventually(func() bool {
		d, err = h.client.Delivery(t.Context(), d.ID)
		return err == nil && d.State == delivery.Sending
	})
	for range 100 { // consoles
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.url+"/api/v1/events", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+h.token)
		response, err := h.client.HTTP().Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
	}
	at, err := url.Parse(h.url)
	require.NoError(t, err)
	held, err := tls.Dial("tcp", at.Host, &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer held.Close()
	_, err = fmt.Fprintf(held, "POST /api/v1/payloads?payload=orchid HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Type: application/octet-stream\r\nContent-Length: 1000000\r\n\r\nhalf", at.Host, h.token)
	require.NoError(t, err)

	h.eventually(func() bool { // the service has begun to take it
		files, err := filepath.Glob(filepath.Join(data, "payloads", "*"))
		return err == nil && len(files) > 0
	})

	began := time.Now()
	h.stop()
	t.Logf("ended after %.1f s, with a request that never ended", time.Since(began).Seconds())
	_, err = io.ReadAll(held)
	t.Logf("the request was told: %v", err)
	h = open(t, data, "127.0.0.1:0")
	d, err = h.client.Delivery(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Nil(t, d.Ended, "it goes on")
}
