package access

import (
	"cmp"
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
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jugate/core/durable"
	"jugate/core/trust"
)

// authorityFor is how long the authority's own certificate is valid.
const authorityFor = 20 * 365 * 24 * time.Hour

// authority signs the certificates of this service, and nothing else: builds of the boot
// environment and delivered systems trust it, so that the service's certificate can be renewed.
type authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

func pemOf(kind string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
}

// withKey is a key and certificates in PEM.
func withKey(key *ecdsa.PrivateKey, certificates ...[]byte) ([]byte, error) {
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	b := pemOf("PRIVATE KEY", pkcs8)
	for _, der := range certificates {
		b = append(b, pemOf("CERTIFICATE", der)...)
	}
	return b, nil
}

// unlikely is a serial number that no other certificate has (RFC 5280, 4.1.2.2).
func unlikely() (*big.Int, error) { return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) }

// openAuthority reads the authority's key and certificate, or makes them on the first start. Its
// certificate stands in a file of its own, too, for people to give to browsers.
func openAuthority(dir string, now time.Time) (*authority, error) {
	file := filepath.Join(dir, "authority.key")
	b, err := os.ReadFile(file)
	if err == nil {
		pair, err := tls.X509KeyPair(b, b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		key, is := pair.PrivateKey.(*ecdsa.PrivateKey)
		if !is || !pair.Leaf.IsCA {
			return nil, fmt.Errorf("%s is not the key of an authority", file)
		}
		return &authority{pair.Leaf, key}, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := unlikely()
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	c := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: strings.TrimSpace("Jugate authority " + host)}, NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(authorityFor),
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, IsCA: true, MaxPathLenZero: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	if b, err = withKey(key, der); err != nil {
		return nil, err
	}
	if err := durable.Write(file, b, 0o600); err != nil {
		return nil, err
	}
	if c, err = x509.ParseCertificate(der); err != nil {
		return nil, err
	}
	return &authority{c, key}, durable.Write(filepath.Join(dir, "authority.pem"), pemOf("CERTIFICATE", der), 0o644)
}

// issue makes a certificate for a key of the service, and returns both in PEM, with the
// authority's behind (RFC 5280, 4.2.1.6, for names and addresses).
func (a *authority) issue(now time.Time, key *ecdsa.PrivateKey, names []string, addresses []net.IP) ([]byte, error) {
	return a.certify(key, &x509.Certificate{
		Subject: pkix.Name{CommonName: "jugate"}, DNSNames: names, IPAddresses: addresses,
		NotBefore: now.Add(-24 * time.Hour), NotAfter: now.Add(certificateFor), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	})
}

// issueSigner makes a certificate for a key that signs what agents do and load (RFC 5280, 4.2.1.12), and returns both in
// PEM. It is good as long as the authority's own.
func (a *authority) issueSigner(key *ecdsa.PrivateKey) ([]byte, error) {
	return a.certify(key, &x509.Certificate{
		Subject: pkix.Name{CommonName: "jugate signer"}, NotBefore: a.certificate.NotBefore, NotAfter: a.certificate.NotAfter,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning},
	})
}

// outpostFor is how long the certificate of an outpost is good; it asks for the next when a third of that is over.
const outpostFor = 30 * 24 * time.Hour

// CertifyOutpost makes a certificate for the public key of an outpost, with which it answers machines and calls the service. It is
// good for outpostFor if life is 0, and has no names in it, so that no browser takes an outpost for the service.
func (c *Certificates) CertifyOutpost(name string, key any, life time.Duration) (chain string, until time.Time, err error) {
	now := c.now()
	until = now.Add(cmp.Or(life, outpostFor))
	der, err := c.authority.sign(key, &x509.Certificate{
		Subject: pkix.Name{CommonName: "jugate outpost " + name}, NotBefore: now.Add(-24 * time.Hour), NotAfter: until,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	})
	if err != nil {
		return "", until, err
	}
	return string(append(pemOf("CERTIFICATE", der), pemOf("CERTIFICATE", c.authority.certificate.Raw)...)), until, nil
}

// IsOutpost tells whether a certificate is one that CertifyOutpost has made and that is good now.
func (c *Certificates) IsOutpost(certificate *x509.Certificate) bool {
	return trust.IsOutpost(certificate, c.authority.certificate, c.now())
}

// Certificate is the authority's.
func (c *Certificates) Certificate() *x509.Certificate { return c.authority.certificate }

// certify completes a certificate for a key of the service.
func (a *authority) certify(key *ecdsa.PrivateKey, c *x509.Certificate) ([]byte, error) {
	der, err := a.sign(&key.PublicKey, c)
	if err != nil {
		return nil, err
	}
	return withKey(key, der, a.certificate.Raw)
}

// sign completes a certificate for a key.
func (a *authority) sign(key any, c *x509.Certificate) (der []byte, err error) {
	if c.SerialNumber, err = unlikely(); err != nil {
		return nil, err
	}
	c.KeyUsage, c.BasicConstraintsValid = x509.KeyUsageDigitalSignature, true
	return x509.CreateCertificate(rand.Reader, c, a.certificate, key, a.key)
}

// lasts tells whether a certificate of the service is good for a while, for all names and addresses.
func (a *authority) lasts(c *x509.Certificate, now time.Time, names []string, addresses []net.IP) bool {
	return c.CheckSignatureFrom(a.certificate) == nil && now.Before(c.NotAfter.Add(-renewBefore)) &&
		!slices.ContainsFunc(names, func(name string) bool { return !slices.Contains(c.DNSNames, name) }) &&
		!slices.ContainsFunc(addresses, func(ip net.IP) bool { return !slices.ContainsFunc(c.IPAddresses, ip.Equal) })
}
