package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"time"
)

// certificateYears is how long the service's certificate is dated. Agents compare it
// byte by byte and do not look at dates.
const certificateYears = 30

// openCertificate reads the service's certificate and key, or makes them on the
// first start. Builds of the boot environment carry the certificate, so that agents
// call this service and no other.
func (s *Service) openCertificate() error {
	file := filepath.Join(s.config.Data, "service.pem")
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = newCertificate(s.config.Now()); err == nil {
			err = os.WriteFile(file, b, 0o600)
		}
	}
	if err != nil {
		return err
	}
	if s.keyPair, err = tls.X509KeyPair(b, b); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	s.certificate = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.keyPair.Certificate[0]})
	return nil
}

// newCertificate makes a key and a certificate for it, signed by itself, in PEM.
func newCertificate(now time.Time) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	cert := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "jugate"}, DNSNames: []string{"jugate"},
		NotBefore: now.AddDate(-1, 0, 0), NotAfter: now.AddDate(certificateYears, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...), nil
}

// agentURL is where agents call the service, for machines that reach it at server
// (HOST:PORT of HTTP): by TLS where it listens for that.
func (s *Service) agentURL(server string) string {
	if s.securePort == 0 {
		return "http://" + server
	}
	host, _, err := net.SplitHostPort(server)
	if err != nil {
		host = server
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return fmt.Sprintf("https://%s:%d", host, s.securePort)
	}
	return "https://" + netip.AddrPortFrom(a, s.securePort).String()
}
