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
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"jugate/core/durable"
	"jugate/core/slabstore"
	"jugate/core/trust"
)

const (
	// certificateFor is how long the service's certificate is good. Once less than renewBefore is
	// left, the next is made.
	certificateFor = 2 * 365 * 24 * time.Hour
	renewBefore    = 120 * 24 * time.Hour
)

// Names says what the service is called beside the names and addresses of its machine, and where its own
// certificate is, if somebody else has issued one.
type Names struct {
	Also []string // DNS names
	// Certificate and Key are PEM files: a chain with the leaf first, and its key. They are read again
	// when they change.
	Certificate, Key string
}

// Certificates are what the service shows by TLS: one that its own authority has issued, and perhaps one
// of somebody else's for the names in that. Agents, and whoever calls by address, are shown the first.
type Certificates struct {
	Authority []byte // certificate, PEM

	dir       string
	names     Names
	authority *authority
	log       *slog.Logger
	now       func() time.Time

	issued, given atomic.Pointer[tls.Certificate] // given is nil if there is none
	written       [2]time.Time                    // when the files of given were, for Refresh alone
}

func openCertificates(dir string, names Names, log *slog.Logger, now func() time.Time) (c *Certificates, err error) {
	c = &Certificates{dir: dir, names: names, log: log, now: now}
	if c.authority, err = openAuthority(dir, now()); err != nil {
		return nil, err
	}
	if (names.Certificate == "") != (names.Key == "") {
		return nil, errors.New("a certificate and its key are needed together")
	}
	if err := c.Refresh(); err != nil {
		return nil, err
	}
	chain := c.issued.Load().Certificate
	c.Authority = pemOf("CERTIFICATE", chain[len(chain)-1])
	return c, nil
}

// Until is when the first of the certificates that the service shows ends.
func (c *Certificates) Until() time.Time {
	until := c.issued.Load().Leaf.NotAfter
	if given := c.given.Load(); given != nil && given.Leaf != nil && given.Leaf.NotAfter.Before(until) {
		until = given.Leaf.NotAfter
	}
	return until
}

// Refresh renews the certificate that the authority issues, and reads the one that was given if its files have changed. It
// is called from time to time, by one at a time.
func (c *Certificates) Refresh() error {
	return errors.Join(c.renew(), c.readGiven())
}

// Pool has the authority.
func (c *Certificates) Pool() *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AddCert(c.authority.certificate)
	return pool
}

// Fingerprint is what people compare of the authority's certificate.
func (c *Certificates) Fingerprint() string { return trust.Fingerprint(c.authority.certificate) }

// renew makes the certificate that the authority issues when it is missing, will not last, or lacks a name
// or address. The key stays the same: builds of before there was an authority trust it.
func (c *Certificates) renew() error {
	file, names := filepath.Join(c.dir, "service.pem"), c.allNames()
	b, err := os.ReadFile(file)
	var key *ecdsa.PrivateKey
	var pair tls.Certificate
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		if pair, err = tls.X509KeyPair(b, b); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		own, is := pair.PrivateKey.(*ecdsa.PrivateKey)
		if is && !c.authority.lasts(pair.Leaf, c.now(), names, addresses()) {
			key = own
		}
	}
	if key != nil {
		if b, err = c.authority.issue(c.now(), key, names, addresses()); err != nil {
			return err
		}
		if err := durable.Write(file, b, 0o600); err != nil {
			return err
		}
		if pair, err = tls.X509KeyPair(b, b); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		c.log.Info("the service's certificate was issued", "names", names, "until", pair.Leaf.NotAfter)
	}
	c.issued.Store(&pair)
	return nil
}

// allNames are the DNS names of the service.
func (c *Certificates) allNames() []string {
	all := append([]string{"jugate", "localhost"}, c.names.Also...)
	if host, err := os.Hostname(); err == nil && host != "" {
		all = append(all, host)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// readGiven reads the certificate that somebody else has issued, if its files have changed. While they do not fit each
// other, as in the midst of a renewal, the last one counts.
func (c *Certificates) readGiven() error {
	if c.names.Certificate == "" {
		return nil
	}
	var written [2]time.Time
	for i, path := range []string{c.names.Certificate, c.names.Key} {
		if info, err := os.Stat(path); err == nil {
			written[i] = info.ModTime()
		}
	}
	if c.given.Load() != nil && written == c.written {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.names.Certificate, c.names.Key)
	if err != nil {
		return fmt.Errorf("the certificate in %s: %w", c.names.Certificate, err)
	}
	if now := c.now(); now.After(pair.Leaf.NotAfter) {
		c.log.Warn("the certificate that was given has expired", "file", c.names.Certificate, "on", pair.Leaf.NotAfter)
	}
	c.written = written
	c.given.Store(&pair)
	return nil
}

// For chooses the certificate for whoever calls.
func (c *Certificates) For(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if given := c.given.Load(); given != nil && hello.ServerName != "" && given.Leaf.VerifyHostname(hello.ServerName) == nil {
		return given, nil
	}
	return c.issued.Load(), nil
}

// secret is what only this service knows.
func (c *Certificates) secret() (string, error) {
	der, err := x509.MarshalPKCS8PrivateKey(c.issued.Load().PrivateKey)
	if err != nil {
		return "", err
	}
	return slabstore.Sum(append([]byte("jugate: secret of the service\n"), der...)).String(), nil
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
