package access

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"jugate/apiclient"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNobodyLocksOthersOut(t *testing.T) {
	var tr tries
	now := time.Now()
	bad, good := netip.MustParseAddr("192.0.2.66"), netip.MustParseAddr("192.0.2.7")
	for range 100 {
		tr.wrong(now, 66, bad)
	}
	assert.False(t, tr.may(now, 66, bad))
	assert.False(t, tr.may(now, 67, bad), "from the same address as another newcomer")
	assert.False(t, tr.may(now, 0, bad), "nor with tokens")
	assert.True(t, tr.may(now, 7, good))
	assert.True(t, tr.may(now, 0, good))
	assert.True(t, tr.may(now.Add(wrongWithin), 66, bad), "and not for good")
}

func TestTheTokenFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "admin.token")
	made, err := token(path)
	require.NoError(t, err)
	assert.Len(t, made, 64)
	again, err := token(path)
	require.NoError(t, err)
	assert.Equal(t, made, again)
	require.NoError(t, os.WriteFile(path, []byte("\n"), 0o600))
	_, err = token(path)
	assert.ErrorContains(t, err, "holds no token", "an empty file must not let everyone in")
}

func TestTheServicesCertificateIsRenewed(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	open := func() *Access {
		a, err := Open(dir, nil, func() time.Time { return now })
		require.NoError(t, err)
		config, err := apiclient.Pinned(a.Certificate)
		require.NoError(t, err)
		assert.NoError(t, config.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{a.KeyPair.Leaf}}))
		roots := x509.NewCertPool()
		require.True(t, roots.AppendCertsFromPEM(a.Certificate))
		_, err = a.KeyPair.Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: "localhost", CurrentTime: now})
		assert.NoError(t, err, "a browser that trusts the authority does, too")
		return a
	}
	first := open()
	public, err := os.ReadFile(filepath.Join(dir, "authority.pem"))
	require.NoError(t, err)
	assert.Equal(t, first.Certificate, public)
	assert.Equal(t, first.KeyPair.Leaf.Raw, open().KeyPair.Leaf.Raw, "it stays while it lasts")
	now = now.Add(certificateFor - renewBefore + time.Hour)
	next := open()
	assert.NotEqual(t, first.KeyPair.Leaf.Raw, next.KeyPair.Leaf.Raw)
	assert.Equal(t, first.Certificate, next.Certificate, "who trusts the authority goes on doing so")
	assert.Equal(t, first.Secret, next.Secret)

	t.Log("# a certificate of before there was an authority is replaced, and its key is not")
	key := next.KeyPair.PrivateKey.(*ecdsa.PrivateKey)
	own := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: now, NotAfter: now.Add(certificateFor), IPAddresses: addresses()}
	der, err := x509.CreateCertificate(rand.Reader, own, own, &key.PublicKey, key)
	require.NoError(t, err)
	b, err := withKey(key, der)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "service.pem"), b, 0o600))
	last := open()
	assert.Equal(t, next.Secret, last.Secret)
	config, err := apiclient.Pinned(pemOf("CERTIFICATE", der))
	require.NoError(t, err)
	assert.NoError(t, config.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{last.KeyPair.Leaf}}), "which builds of before trust")
}
