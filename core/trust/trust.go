// Package trust reads whose certificates are believed, and what people compare of one.
package trust

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// ErrNoCertificate says that what should be a certificate is none.
var ErrNoCertificate = errors.New("it is not a certificate in PEM")

// Pool has the certificates of a text in PEM; an empty text stands for those that this machine trusts, which nil does
// in a tls.Config.
func Pool(text string) (*x509.CertPool, error) {
	if text == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(text)) {
		return nil, ErrNoCertificate
	}
	return pool, nil
}

// Certificate reads one certificate in PEM.
func Certificate(text []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, ErrNoCertificate
	}
	return x509.ParseCertificate(block.Bytes)
}

// Fingerprint is the SHA-256 of a certificate in pairs of hexadecimal digits.
func Fingerprint(c *x509.Certificate) string {
	return strings.ReplaceAll(fmt.Sprintf("% X", sha256.Sum256(c.Raw)), " ", ":")
}

// SameFingerprint compares two, however they are written.
func SameFingerprint(a, b string) bool {
	plain := strings.NewReplacer(":", "", " ", "", "SHA256", "", "sha256", "")
	return strings.EqualFold(plain.Replace(a), plain.Replace(b))
}

// IsOutpost tells whether a certificate is one that an authority has made for an outpost, and good now.
func IsOutpost(certificate, authority *x509.Certificate, now time.Time) bool {
	return certificate.CheckSignatureFrom(authority) == nil && slices.Contains(certificate.ExtKeyUsage, x509.ExtKeyUsageClientAuth) &&
		now.After(certificate.NotBefore) && now.Before(certificate.NotAfter)
}
