package trust_test

import (
	"crypto/x509"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/trust"
)

func TestWhoIsTrusted(t *testing.T) {
	pool, err := trust.Pool("")
	require.NoError(t, err)
	assert.Nil(t, pool, "those of the machine")
	_, err = trust.Pool("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n")
	assert.ErrorIs(t, err, trust.ErrNoCertificate)
}

func TestFingerprintsAreComparedHoweverTheyAreWritten(t *testing.T) {
	print := trust.Fingerprint(&x509.Certificate{Raw: []byte("abc")}) // the digest of FIPS 180-4, appendix B.1
	assert.Equal(t, "BA:78:16:BF:8F:01:CF:EA:41:41:40:DE:5D:AE:22:23:B0:03:61:A3:96:17:7A:9C:B4:10:FF:61:F2:00:15:AD", print)
	assert.True(t, trust.SameFingerprint(print, "sha256 "+strings.ToLower(strings.ReplaceAll(print, ":", ""))))
	assert.False(t, trust.SameFingerprint(print, print[1:]))
}
