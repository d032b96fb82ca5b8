package apiclient_test

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/apiclient"
)

// Another machine becomes the service: whoever has both addresses finds it there, and back.
func TestTheServiceMayBeElsewhere(t *testing.T) {
	page := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte(`{"items":[],"total":0}`)) })
	may := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, `{"detail":"this machine may no longer be the service"}`, http.StatusServiceUnavailable)
	})
	gone, doubts, is := httptest.NewTLSServer(page), httptest.NewTLSServer(may), httptest.NewTLSServer(page)
	defer doubts.Close()
	defer is.Close()
	c, err := apiclient.New(gone.URL, "")
	require.NoError(t, err)
	c = c.Over(is.Client()) // all have the same certificate
	c.AlsoAt([]string{doubts.URL + "/", is.URL, "http://192.0.2.1", gone.URL})
	copied := c.As("another")
	_, err = c.Stores(t.Context())
	require.NoError(t, err)
	gone.Close()
	for range 2 {
		_, err = c.Stores(t.Context())
		assert.True(t, apiclient.IsPassing(err), "%v", err)
	}
	_, err = copied.Stores(t.Context())
	require.NoError(t, err)
	assert.Equal(t, is.URL, c.Server())
	is.Close()
	_, err = c.Stores(t.Context())
	assert.ErrorIs(t, err, apiclient.ErrAway)
	assert.Equal(t, gone.URL, c.Server(), "it may be back")
}
