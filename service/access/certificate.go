package access

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
	"slices"
	"time"

	"jugate/core/durable"
	"jugate/core/slabstore"
)

const (
	// certificateFor is how long a certificate is valid. A start that finds less than
	// renewBefore left makes the next one, for the same key, as agents trust the key.
	certificateFor = 2 * 365 * 24 * time.Hour
	renewBefore    = 120 * 24 * time.Hour
	// pinnedWhole is longer than the life of any certificate but those of version 0.1.0.
	// Builds of that version trust the certificate byte by byte, so it is kept.
	pinnedWhole = 10 * 365 * 24 * time.Hour
)

// names tells whether a certificate has all of the addresses.
func names(c *x509.Certificate, addresses []net.IP) bool {
	for _, a := range addresses {
		if !slices.ContainsFunc(c.IPAddresses, a.Equal) {
			return false
		}
	}
	return true
}

// newCertificate makes a certificate for a key, signed by itself, and returns both in
// PEM (RFC 5280, 4.2.1.6, for the addresses).
func newCertificate(now time.Time, key *ecdsa.PrivateKey, addresses []net.IP) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	dns := []string{"jugate", "localhost"}
	if host, err := os.Hostname(); err == nil && host != "" && !slices.Contains(dns, host) {
		dns = append(dns, host)
	}
	cert := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "jugate"}, DNSNames: dns, IPAddresses: addresses,
		NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(certificateFor),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
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

// openCertificate reads the service's key and certificate, or makes them on the first
// start. Builds of the boot environment carry the certificate, so that agents call this
// service and no other.
func (a *Access) openCertificate(dir string) error {
	file := filepath.Join(dir, "service.pem")
	b, err := os.ReadFile(file)
	var key *ecdsa.PrivateKey
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		if a.KeyPair, err = tls.X509KeyPair(b, b); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		own, ok := a.KeyPair.PrivateKey.(*ecdsa.PrivateKey)
		if leaf := a.KeyPair.Leaf; ok && leaf.NotAfter.Sub(leaf.NotBefore) < pinnedWhole &&
			(a.Now().After(leaf.NotAfter.Add(-renewBefore)) || !names(leaf, addresses())) {
			key = own
		}
	}
	if key != nil {
		if b, err = newCertificate(a.Now(), key, addresses()); err != nil {
			return err
		}
		if err := durable.Write(file, b, 0o600); err != nil {
			return err
		}
		if a.KeyPair, err = tls.X509KeyPair(b, b); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
	}
	der, err := x509.MarshalPKCS8PrivateKey(a.KeyPair.PrivateKey)
	if err != nil {
		return err
	}
	a.Secret = slabstore.Sum(append([]byte("jugate: secret of the service\n"), der...)).String()
	a.Certificate = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.KeyPair.Certificate[0]})
	return nil
}

// addresses are those that workstations may reach the service at.
func addresses() (all []net.IP) {
	interfaces, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, i := range interfaces {
		if n, ok := i.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			all = append(all, n.IP)
		}
	}
	return all
}

// AgentURL is where agents call the service, for machines that reach it at server
// (HOST:PORT of HTTP): by TLS where it listens for that.
func (a *Access) AgentURL(server string) string {
	if a.SecurePort == 0 {
		return "http://" + server
	}
	host, _, err := net.SplitHostPort(server)
	if err != nil {
		host = server
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return fmt.Sprintf("https://%s:%d", host, a.SecurePort)
	}
	return "https://" + netip.AddrPortFrom(ip, a.SecurePort).String()
}
