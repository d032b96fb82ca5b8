package access

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"jugate/core/durable"
	"jugate/core/slabstore"
)

const (
	// certificateFor is how long the service's is. A start that finds less than renewBefore
	// left makes the next one.
	certificateFor = 2 * 365 * 24 * time.Hour
	renewBefore    = 120 * 24 * time.Hour
	// pinnedWhole is longer than the life of any certificate but those of version 0.1.0.
	// Builds of that version trust the certificate byte by byte, so it is kept.
	pinnedWhole = 10 * 365 * 24 * time.Hour
)

// openCertificate reads the service's key and certificate, and makes what is missing or will
// not last. The key stays the same: builds of before there was an authority trust it.
func (a *Access) openCertificate(dir string) error {
	authority, err := openAuthority(dir, a.Now())
	if err != nil {
		return err
	}
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
		own, is := a.KeyPair.PrivateKey.(*ecdsa.PrivateKey)
		if leaf := a.KeyPair.Leaf; is && leaf.NotAfter.Sub(leaf.NotBefore) < pinnedWhole && !authority.lasts(leaf, a.Now(), addresses()) {
			key = own
		}
	}
	if key != nil {
		if b, err = authority.issue(a.Now(), key, addresses()); err != nil {
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
	a.Certificate = pemOf("CERTIFICATE", a.KeyPair.Certificate[len(a.KeyPair.Certificate)-1])
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
