package apiclient

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"slices"
)

// ErrCertificate says that whoever answered is not the service.
var ErrCertificate = errors.New("whoever answered does not have the service's certificate")

// Pinned makes a configuration that believes one certificate, in PEM, and nothing else: its own
// key, and if it is an authority's, whatever server's it has signed, so that the service's can be
// renewed. It looks at no names, as a service changes its address, and at no dates, as the clocks
// of workstations are wrong more often than a key is stolen.
func Pinned(certificate []byte) (*tls.Config, error) {
	block, _ := pem.Decode(certificate)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("no certificate in PEM")
	}
	pinned, err := x509.ParseCertificate(block.Bytes)
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

func believed(c, pinned *x509.Certificate) bool {
	return bytes.Equal(c.RawSubjectPublicKeyInfo, pinned.RawSubjectPublicKeyInfo) ||
		c.CheckSignatureFrom(pinned) == nil && slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
}
