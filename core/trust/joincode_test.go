package trust_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/trust"
)

func authorityOf(t *testing.T) *x509.Certificate {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	require.NoError(t, err)
	out, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return out
}

func TestACodeIsOfOneService(t *testing.T) {
	one, other := authorityOf(t), authorityOf(t)
	text, code := trust.NewJoinCode(one)
	assert.Len(t, strings.Split(text, "-"), 7)
	for _, written := range []string{text, strings.ToLower(text), strings.ReplaceAll(text, "-", " "), " " + text + "\n"} {
		read, err := trust.ParseJoinCode(written)
		require.NoError(t, err, written)
		assert.Equal(t, code, read)
		assert.True(t, read.For(one))
		assert.False(t, read.For(other))
	}
	again, _ := trust.NewJoinCode(one)
	assert.NotEqual(t, text, again)
	for _, bad := range []string{"", text[:len(text)-1], text + "A", strings.Replace(text, text[:1], "0", 1), "jugate"} {
		_, err := trust.ParseJoinCode(bad)
		assert.ErrorIs(t, err, trust.ErrJoinCode, bad)
	}
	assert.NotContains(t, trust.Mark(code.Secret), code.Secret)
}

func FuzzParseJoinCode(f *testing.F) {
	f.Add("KRTW-7Q2M-XB4Y-AAAA-BBBB-CCCC-DDDD")
	f.Fuzz(func(t *testing.T, text string) {
		code, err := trust.ParseJoinCode(text)
		if err == nil && len(code.Secret) != 12 {
			t.Errorf("a secret of %d letters", len(code.Secret))
		}
	})
}
