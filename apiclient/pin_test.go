package apiclient_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

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

	t.Log("# the next certificate of the same key is as good, another key is not")
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for signer, good := range map[crypto.Signer]bool{server.TLS.Certificates[0].PrivateKey.(crypto.Signer): true, key: false} {
		next := &x509.Certificate{SerialNumber: big.NewInt(2), NotAfter: time.Now().AddDate(1, 0, 0)}
		der, err := x509.CreateCertificate(rand.Reader, next, next, signer.Public(), signer)
		require.NoError(t, err)
		config, err = apiclient.Pinned(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
		require.NoError(t, err)
		client = http.Client{Transport: &http.Transport{TLSClientConfig: config}}
		resp, err := client.Get(server.URL)
		if good {
			require.NoError(t, err)
			resp.Body.Close()
		} else {
			assert.ErrorIs(t, err, apiclient.ErrCertificate)
		}
	}

	t.Log("# an authority's servers are believed, and neither its other certificates nor another's")
	newAuthority := func() (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		c := &x509.Certificate{SerialNumber: big.NewInt(3), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
		require.NoError(t, err)
		c, err = x509.ParseCertificate(der)
		require.NoError(t, err)
		return c, key
	}
	ours, ourKey := newAuthority()
	theirs, theirKey := newAuthority()
	config, err = apiclient.Pinned(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ours.Raw}))
	require.NoError(t, err)
	leaf := func(by *x509.Certificate, byKey *ecdsa.PrivateKey, usage ...x509.ExtKeyUsage) *x509.Certificate {
		der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(4), ExtKeyUsage: usage}, by, &key.PublicKey, byKey)
		require.NoError(t, err)
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return c
	}
	for c, good := range map[*x509.Certificate]bool{
		leaf(ours, ourKey, x509.ExtKeyUsageServerAuth): true,
		leaf(ours, ourKey, x509.ExtKeyUsageClientAuth): false,
		leaf(ours, ourKey): false,
		leaf(theirs, theirKey, x509.ExtKeyUsageServerAuth): false,
	} {
		err := config.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{c, ours}})
		assert.Equal(t, good, err == nil, "%v", c.ExtKeyUsage)
	}
	for _, bad := range []string{"", "x", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("k")}))} {
		_, err := apiclient.Pinned([]byte(bad))
		assert.Error(t, err)
	}
}
