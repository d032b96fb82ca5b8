package apiclient

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"slices"
	"time"

	"jugate/core/trust"
)

// ErrCertificate says that whoever answered is not the service.
var ErrCertificate = errors.New("whoever answered does not have the service's certificate")

// Pinned makes a configuration that believes one certificate, in PEM, and nothing else: its own
// key, and if it is an authority's, whatever server's it has signed, so that the service's can be
// renewed. It looks at no names, as a service changes its address, and at no dates, as the clocks
// of workstations are wrong more often than a key is stolen.
func Pinned(certificate []byte) (*tls.Config, error) {
	pinned, err := trust.Certificate(certificate)
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		MinVersion:         tls.VersionTLS13,
		InsecureSkipVerify: true, // VerifyConnection does all of it
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 || !believed(s.PeerCertificates[0], pinned) {
				return ErrCertificate
			}
			return nil
		},
	}, nil
}

// ownCertificate makes a key with a certificate that nobody has to believe: it says which key it is (RFC
// 8705, 2.2).
func ownCertificate() (*tls.Certificate, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return CertificateOf(key)
}

// CertificateOf is a certificate with nothing to say but its key, signed by itself.
func CertificateOf(key ed25519.PrivateKey) (*tls.Certificate, error) {
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "jugate agent"}, NotAfter: time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)} // RFC 5280, 4.1.2.5
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

func believed(c, pinned *x509.Certificate) bool {
	return bytes.Equal(c.RawSubjectPublicKeyInfo, pinned.RawSubjectPublicKeyInfo) ||
		c.CheckSignatureFrom(pinned) == nil && slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
}
