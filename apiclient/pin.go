package apiclient

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
)

// ErrCertificate says that whoever answered is not the service.
var ErrCertificate = errors.New("whoever answered does not have the service's certificate")

// Pinned makes a configuration that believes the key of one certificate, in PEM, and
// nothing else, so that the certificate can be renewed: neither names nor authorities,
// and no dates, as the clocks of workstations are wrong more often than a key is stolen.
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
			if len(s.PeerCertificates) == 0 || !bytes.Equal(s.PeerCertificates[0].RawSubjectPublicKeyInfo, pinned.RawSubjectPublicKeyInfo) {
				return ErrCertificate
			}
			return nil
		},
	}, nil
}
