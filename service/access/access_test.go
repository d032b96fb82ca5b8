package access

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"log/slog"
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
	made, err := readLastResort(path)
	require.NoError(t, err)
	assert.Len(t, made, 64)
	again, err := readLastResort(path)
	require.NoError(t, err)
	assert.Equal(t, made, again)
	require.NoError(t, os.WriteFile(path, []byte("\n"), 0o600))
	_, err = readLastResort(path)
	assert.ErrorContains(t, err, "holds no token", "an empty file must not let everyone in")
}

func TestTheServicesCertificateIsRenewed(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	open := func() *Access {
		a, err := Open(dir, Names{}, slog.New(slog.DiscardHandler), func() time.Time { return now })
		require.NoError(t, err)
		config, err := apiclient.Pinned(a.Certificates.Authority)
		require.NoError(t, err)
		assert.NoError(t, config.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{a.Certificates.issued.Load().Leaf}}))
		roots := x509.NewCertPool()
		require.True(t, roots.AppendCertsFromPEM(a.Certificates.Authority))
		_, err = a.Certificates.issued.Load().Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: "localhost", CurrentTime: now})
		assert.NoError(t, err, "a browser that trusts the authority does, too")
		return a
	}
	first := open()
	public, err := os.ReadFile(filepath.Join(dir, "authority.pem"))
	require.NoError(t, err)
	assert.Equal(t, first.Certificates.Authority, public)
	assert.Equal(t, first.Certificates.issued.Load().Leaf.Raw, open().Certificates.issued.Load().Leaf.Raw, "it stays while it lasts")
	now = now.Add(certificateFor - renewBefore + time.Hour)
	next := open()
	assert.NotEqual(t, first.Certificates.issued.Load().Leaf.Raw, next.Certificates.issued.Load().Leaf.Raw)
	assert.Equal(t, first.Certificates.Authority, next.Certificates.Authority, "who trusts the authority goes on doing so")
	assert.Equal(t, first.Secret, next.Secret)

	t.Log("# a certificate of before there was an authority is replaced, and its key is not")
	key := next.Certificates.issued.Load().PrivateKey.(*ecdsa.PrivateKey)
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
	assert.NoError(t, config.VerifyConnection(tls.ConnectionState{PeerCertificates: []*x509.Certificate{last.Certificates.issued.Load().Leaf}}), "which builds of before trust")
}

// given writes a certificate of somebody else's for a name.
func given(t *testing.T, dir, name string, until time.Time) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{name}, NotBefore: until.Add(-time.Hour), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &private.PublicKey, private)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	certificate, key = filepath.Join(dir, "own.pem"), filepath.Join(dir, "own.key")
	require.NoError(t, os.WriteFile(certificate, pemOf("CERTIFICATE", der), 0o600))
	require.NoError(t, os.WriteFile(key, pemOf("PRIVATE KEY", pkcs8), 0o600))
	return certificate, key
}

func TestACertificateOfOnesOwnIsShownToWhoCallsByItsName(t *testing.T) {
	now, dir := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC), t.TempDir()
	own := Names{Also: []string{"boot.fennholt.example"}}
	own.Certificate, own.Key = given(t, dir, "jugate.fennholt.example", now.Add(time.Hour))
	a, err := Open(t.TempDir(), own, slog.New(slog.DiscardHandler), func() time.Time { return now })
	require.NoError(t, err)
	shown := func(name string) *x509.Certificate {
		c, err := a.Certificates.For(&tls.ClientHelloInfo{ServerName: name})
		require.NoError(t, err)
		return c.Leaf
	}
	first := shown("jugate.fennholt.example")
	assert.Equal(t, []string{"jugate.fennholt.example"}, first.DNSNames)
	for _, name := range []string{"", "localhost", "boot.fennholt.example"} {
		assert.Contains(t, shown(name).DNSNames, "boot.fennholt.example", "by address, as agents do, or another name: %q", name)
	}

	t.Log("# it is read again when it changes, and not while its key is still the old one")
	key, err := os.ReadFile(own.Key)
	require.NoError(t, err)
	given(t, dir, "jugate.fennholt.example", now.Add(2*time.Hour))
	next, err := os.ReadFile(own.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(own.Key, key, 0o600))
	later := now.Add(time.Second)
	require.NoError(t, os.Chtimes(own.Certificate, later, later))
	assert.ErrorContains(t, a.Certificates.Refresh(), "own.pem")
	assert.Equal(t, first.Raw, shown("jugate.fennholt.example").Raw)
	require.NoError(t, os.WriteFile(own.Key, next, 0o600))
	require.NoError(t, a.Certificates.Refresh())
	assert.Equal(t, now.Add(2*time.Hour), shown("jugate.fennholt.example").NotAfter)

	t.Log("# at the start it has to be good")
	for _, bad := range []Names{{Certificate: own.Certificate}, {Certificate: own.Certificate, Key: own.Certificate}, {Certificate: "nowhere", Key: own.Key}} {
		_, err := Open(t.TempDir(), bad, slog.New(slog.DiscardHandler), time.Now)
		assert.Error(t, err)
	}
}
