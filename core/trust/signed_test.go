package trust_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/trust"
)

// party is a key with its certificate.
type party struct {
	key         *ecdsa.PrivateKey
	certificate *x509.Certificate
}

func (p party) pem() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.certificate.Raw})
}

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

// certified makes a key that by certifies, or that certifies itself.
func certified(t testing.TB, by *party, c x509.Certificate) party {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c.SerialNumber, c.Subject.Organization, c.NotBefore, c.NotAfter, c.BasicConstraintsValid = big.NewInt(1), []string{"Fennholt Botanic Garden"}, noon, noon.Add(time.Hour), true
	parent, signer := &c, key
	if by != nil {
		parent, signer = by.certificate, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return party{key, certificate}
}

func newAuthority(t testing.TB) party {
	return certified(t, nil, x509.Certificate{Subject: pkix.Name{CommonName: "authority"}, IsCA: true, KeyUsage: x509.KeyUsageCertSign})
}

func codeSigner(t testing.TB, by *party) *trust.Signer {
	p := certified(t, by, x509.Certificate{KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}})
	return &trust.Signer{Key: p.key, Certificate: p.certificate}
}

type said struct{ Disk string }

func TestOnlyWhatTheAuthoritysSignerSaysIsTaken(t *testing.T) {
	authority, other := newAuthority(t), newAuthority(t)
	signer := codeSigner(t, &authority)
	good, err := signer.Sign("errand", "a pass", said{"only"})
	require.NoError(t, err)
	var got said
	require.NoError(t, trust.OpenSigned(good, authority.pem(), "errand", "a pass", &got))
	assert.Equal(t, said{"only"}, got)

	tls := certified(t, &authority, x509.Certificate{KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	by := func(s *trust.Signer, kind, pass string) string {
		signed, err := s.Sign(kind, pass, said{"serial=AW-0001"})
		require.NoError(t, err)
		return signed
	}
	part := strings.Split(good, ".")
	for why, wrong := range map[string]string{
		"another authority's signer":                      by(codeSigner(t, &other), "errand", "a pass"),
		"the authority's signer, but with somebody's key": by(&trust.Signer{Key: tls.key, Certificate: signer.Certificate}, "errand", "a pass"),
		"the key that the service shows by TLS":           by(&trust.Signer{Key: tls.key, Certificate: tls.certificate}, "errand", "a pass"),
		"another kind":                                    by(signer, "modules", "a pass"),
		"another pass":                                    by(signer, "errand", "another pass"),
		"another payload":                                 part[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(`{"Disk":"all"}`)) + "." + part[2],
		"no signature":                                    part[0] + "." + part[1] + ".",
		"no algorithm":                                    base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + part[1] + ".",
		"nothing":                                         "",
	} {
		got = said{}
		assert.ErrorIs(t, trust.OpenSigned(wrong, authority.pem(), "errand", "a pass", &got), trust.ErrUnsigned, why)
		assert.Zero(t, got, why)
	}
	assert.ErrorIs(t, trust.OpenSigned(good, nil, "errand", "a pass", &got), trust.ErrNoCertificate)
}

// Whether the signature is one is asked of somebody else, too: of openssl, which knows nothing of JOSE and gets the
// signed bytes, and the signature in DER.
func TestSignaturesAreThoseOfTheStandard(t *testing.T) {
	authority := newAuthority(t)
	signer := codeSigner(t, &authority)
	signed, err := signer.Sign("errand", "a pass", said{"only"})
	require.NoError(t, err)
	part := strings.Split(signed, ".")
	require.Len(t, part, 3)
	raw, err := base64.RawURLEncoding.DecodeString(part[2])
	require.NoError(t, err)
	require.Len(t, raw, 64, "R and S of RFC 7518, 3.4")
	header, err := base64.RawURLEncoding.DecodeString(part[0])
	require.NoError(t, err)
	var fields map[string]any
	require.NoError(t, json.Unmarshal(header, &fields))
	assert.Equal(t, "ES256", fields["alg"])
	assert.Equal(t, []any{base64.StdEncoding.EncodeToString(signer.Certificate.Raw)}, fields["x5c"])

	dir := t.TempDir()
	write := func(name string, b []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		return path
	}
	public, err := x509.MarshalPKIXPublicKey(&signer.Key.PublicKey)
	require.NoError(t, err)
	key := write("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))
	text := write("text", []byte(part[0]+"."+part[1]))
	out, err := exec.Command("openssl", "dgst", "-sha256", "-verify", key, "-signature", write("signature", der(t, raw)), text).CombinedOutput()
	require.NoError(t, err, "%s", out)
	leaf := write("leaf.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signer.Certificate.Raw}))
	out, err = exec.Command("openssl", "verify", "-purpose", "codesign", "-no_check_time", "-CAfile", write("authority.pem", authority.pem()), leaf).CombinedOutput()
	if err != nil && strings.Contains(string(out), "purpose") { // openssl before 3.2 has no such purpose
		out, err = exec.Command("openssl", "verify", "-no_check_time", "-CAfile", filepath.Join(dir, "authority.pem"), leaf).CombinedOutput()
	}
	require.NoError(t, err, "%s", out)
}

// der is a signature as ECDSA-Sig-Value (RFC 3279, 2.2.3).
func der(t *testing.T, raw []byte) []byte {
	b, err := asn1.Marshal(struct{ R, S *big.Int }{new(big.Int).SetBytes(raw[:32]), new(big.Int).SetBytes(raw[32:])})
	require.NoError(t, err)
	return b
}

func FuzzWhatIsSigned(f *testing.F) {
	authority := newAuthority(f)
	good, err := codeSigner(f, &authority).Sign("errand", "a pass", said{"only"})
	require.NoError(f, err)
	f.Add(good)
	f.Add("..")
	f.Add(`{"payload":"","signatures":[]}`)
	f.Fuzz(func(t *testing.T, signed string) {
		var got said
		if trust.OpenSigned(signed, authority.pem(), "errand", "a pass", &got) == nil && got != (said{"only"}) {
			t.Fatalf("%q was taken as %v", signed, got)
		}
	})
}
