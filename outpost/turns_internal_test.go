package outpost

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"log/slog"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// yard is a wire with outposts of services, and a clock.
type yard struct {
	t   *testing.T
	now time.Time
}

// authority signs certificates of outposts.
func (y *yard) authority() (*x509.Certificate, *ecdsa.PrivateKey) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(y.t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: y.now.Add(-time.Hour), NotAfter: y.now.Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(y.t, err)
	c, err = x509.ParseCertificate(der)
	require.NoError(y.t, err)
	return c, key
}

func (y *yard) outpost(name string, ca *x509.Certificate, caKey *ecdsa.PrivateKey) *turns {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(y.t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: ca.NotBefore, NotAfter: y.now.Add(time.Minute), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, ca, &key.PublicKey, caKey)
	require.NoError(y.t, err)
	o := &Outpost{config: Config{Now: func() time.Time { return y.now }, Log: slog.New(slog.DiscardHandler)}}
	o.identity = identity{name: name, key: key, authority: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.Raw})}
	o.identity.pair.Store(&tls.Certificate{Certificate: [][]byte{der}})
	o.deliveries = &deliveries{o: o}
	o.deliveries.clock.now = o.config.Now
	o.turns = turns{o: o, run: y.now.UnixMilli(), heard: map[string]map[string]neighbour{}}
	return &o.turns
}

func TestOneOfTwoOutpostsIsSilent(t *testing.T) {
	y := &yard{t, time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)}
	ca, key := y.authority()
	alpine, orchid := y.outpost("alpine", ca, key), y.outpost("orchid", ca, key)
	say := func(from *turns) []byte {
		b, err := from.next()
		require.NoError(t, err)
		assert.Less(t, len(b), 1400, "it goes into one packet")
		return b
	}
	first := say(alpine)
	require.NoError(t, orchid.take(y.now, "eth0", first))
	require.NoError(t, alpine.take(y.now, "eth0", say(orchid)))
	require.NoError(t, alpine.take(y.now, "eth0", say(alpine)), "its own, which it hears, too")
	assert.Equal(t, "alpine", orchid.silent("eth0"))
	assert.Empty(t, alpine.silent("eth0"), "the first by name answers")
	assert.Empty(t, orchid.silent("eth1"), "on another wire")

	t.Log("# it fails, and what it has said before does not count again")
	y.now = y.now.Add(goneAfter)
	assert.Empty(t, orchid.silent("eth0"))
	assert.ErrorIs(t, orchid.take(y.now, "eth0", first), errOld)
	require.NoError(t, orchid.take(y.now, "eth0", say(alpine)))
	assert.Equal(t, "alpine", orchid.silent("eth0"))

	t.Log("# started again, it counts from the beginning")
	alpine.run, alpine.said = alpine.run+1, 0
	require.NoError(t, orchid.take(y.now, "eth0", say(alpine)))

	t.Log("# nobody else silences it")
	otherCA, otherKey := y.authority()
	assert.ErrorIs(t, orchid.take(y.now, "eth0", say(y.outpost("aaa", otherCA, otherKey))), errStranger, "of another service")
	var forged signed
	require.NoError(t, json.Unmarshal(say(alpine), &forged))
	forged.Beacon = json.RawMessage(`{"outpost":"aaa","run":9999999999999,"number":1}`)
	text, err := json.Marshal(forged)
	require.NoError(t, err)
	assert.ErrorIs(t, orchid.take(y.now, "eth0", text), errStranger)
	for _, bad := range []string{"", "{}", "null", `{"beacon":{"outpost":"x"},"certificate":"AAAA"}`} {
		assert.Error(t, orchid.take(y.now, "eth0", []byte(bad)), bad)
	}
	late := say(alpine)
	y.now = y.now.Add(2 * time.Minute)
	assert.ErrorIs(t, orchid.take(y.now, "eth0", late), errStranger, "its certificate is over")
}

func FuzzBeacon(f *testing.F) {
	y := &yard{&testing.T{}, time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)}
	ca, key := y.authority()
	alpine, orchid := y.outpost("alpine", ca, key), y.outpost("orchid", ca, key)
	b, err := alpine.next()
	require.NoError(f, err)
	f.Add(b)
	f.Add([]byte(`{"beacon":{"outpost":"aaa"}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if err := orchid.take(y.now, "eth0", text); err == nil {
			var s signed
			require.NoError(t, json.Unmarshal(text, &s))
			assert.Equal(t, ca.RawSubject, mustParse(t, s.Certificate).RawIssuer)
		}
	})
}

func mustParse(t *testing.T, der []byte) *x509.Certificate {
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}
