package agent_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/trust"
)

// authority certifies a key that signs what agents are told, as a service does.
var authority = sync.OnceValues(func() (signer *trust.Signer, certificate []byte) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: begin, NotAfter: begin.AddDate(20, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		panic(err)
	}
	return &trust.Signer{Key: key, Certificate: parsed}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
})

// standing answers the question for an errand.
func standing(t *testing.T, s api.Standing) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if s.Errand != nil {
			signer, _ := authority()
			var err error
			s.Signed, err = signer.Sign(api.SignedErrand, strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "), s.Errand)
			require.NoError(t, err)
		}
		json.NewEncoder(w).Encode(s)
	}
}
