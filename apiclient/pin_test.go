package apiclient_test

import (
	"encoding/pem"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/apiclient"
)

func TestOneCertificateIsBelieved(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "poppy") }))
	defer server.Close()
	own := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	config, err := apiclient.Pinned(own)
	require.NoError(t, err)
	client := http.Client{Transport: &http.Transport{TLSClientConfig: config}}
	resp, err := client.Get(server.URL)
	require.NoError(t, err, "whatever its name and its dates")
	resp.Body.Close()

	other := append([]byte{}, server.Certificate().Raw...)
	other[len(other)-1] ^= 1
	config, err = apiclient.Pinned(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: other}))
	require.NoError(t, err)
	client = http.Client{Transport: &http.Transport{TLSClientConfig: config}}
	_, err = client.Get(server.URL)
	assert.ErrorIs(t, err, apiclient.ErrCertificate)
	for _, bad := range []string{"", "x", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("k")}))} {
		_, err := apiclient.Pinned([]byte(bad))
		assert.Error(t, err)
	}
}
