package lab

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// The domain that a host can be the controller of.
const (
	DomainName     = "fennholt.example"
	DomainRealm    = "FENNHOLT.EXAMPLE"
	DomainShort    = "FENNHOLT"
	DomainAdmin    = "Administrator"
	DomainPassword = "Sundial-2.14" // of the administrator, and of every account that is made here
)

// Domain is a real domain controller on a host: Debian's Samba, which has to be installed.
type Domain struct {
	Authority []byte // PEM, that its certificate comes from

	host *Host
	dir  string
	cmd  *exec.Cmd

	resolving []string // folders with the resolv.conf of hosts
}

// StartDomain makes the domain in dir, and its controller dc1 on the host. It returns when the
// directory takes connections. Close ends it.
func (h *Host) StartDomain(ctx context.Context, dir string) (*Domain, error) {
	d := &Domain{host: h, dir: dir}
	address := h.Address.String()
	if err := d.certificate(); err != nil {
		return nil, err
	}
	// In memory there are no extended attributes; the module has a file for them.
	provision := h.Command(ctx, "samba-tool", "domain", "provision", "--realm="+DomainRealm, "--domain="+DomainShort, "--dns-backend=SAMBA_INTERNAL", "--server-role=dc",
		"--targetdir="+filepath.Join(dir, "domain"), "--adminpass="+DomainPassword, "--host-name=dc1", "--host-ip="+address,
		"--option=interfaces="+Interface, "--option=bind interfaces only=yes", "--option=dns forwarder=", "--option=pid directory="+dir, "--option=log file="+filepath.Join(dir, "log.%m"),
		"--option=vfs objects=dfs_samba4 acl_xattr xattr_tdb", "--option=xattr_tdb:file="+filepath.Join(dir, "xattr.tdb"),
		"--option=tls keyfile="+filepath.Join(dir, "key.pem"), "--option=tls certfile="+filepath.Join(dir, "dc1.pem"), "--option=tls cafile="+filepath.Join(dir, "authority.pem"))
	if out, err := provision.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("make the domain: %w: %s", err, lastLines(string(out), 15))
	}
	d.cmd = h.Command(context.WithoutCancel(ctx), "samba", "--interactive", "--model=single", "--configfile="+d.config())
	if err := d.cmd.Start(); err != nil {
		return nil, err
	}
	for {
		conn, err := h.Dial(ctx, "tcp", net.JoinHostPort(address, "636"))
		if err == nil {
			return d, conn.Close()
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(fmt.Errorf("the domain controller did not start: %w", err), d.Close())
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (d *Domain) config() string { return filepath.Join(d.dir, "domain", "etc", "smb.conf") }

// Close ends the domain controller.
func (d *Domain) Close() error {
	for _, dir := range d.resolving {
		os.RemoveAll(dir)
	}
	if err := d.cmd.Process.Signal(os.Interrupt); err != nil {
		return err
	}
	d.cmd.Wait() // which tells of the signal
	return nil
}

// Tool runs samba-tool on the domain's own files, and returns what it prints.
func (d *Domain) Tool(ctx context.Context, args ...string) (string, error) {
	out, err := d.host.Command(ctx, "samba-tool", append(args, "--configfile="+d.config())...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("samba-tool %v: %w: %s", args, err, lastLines(string(out), 5))
	}
	return string(out), err
}

// Account makes an account of a person or program, and returns its security identifier.
func (d *Domain) Account(ctx context.Context, name string) (sid string, err error) {
	if _, err := d.Tool(ctx, "user", "create", name, DomainPassword); err != nil {
		return "", err
	}
	out, err := d.Tool(ctx, "user", "show", name, "--attributes=objectSid")
	_, sid, _ = strings.Cut(out, "objectSid: ")
	return strings.TrimSpace(sid), err
}

// computerClass is the class of computers in the directory's schema (MS-ADSC, 2.21).
const computerClass = "bf967a86-0de6-11d0-a285-00aa003049e2"

// Joiner makes a unit, and an account that may create and delete computers in it, and nothing else.
func (d *Domain) Joiner(ctx context.Context, unit, name string) error {
	sid, err := d.Account(ctx, name)
	if err != nil {
		return err
	}
	if _, err := d.Tool(ctx, "ou", "create", unit); err != nil {
		return err
	}
	_, err = d.Tool(ctx, "dsacl", "set", "--objectdn="+unit, "--sddl=(OA;;CCDC;"+computerClass+";;"+sid+")")
	return err
}

// Resolve has a host ask the domain controller for names, until the controller is closed.
func (d *Domain) Resolve(h *Host) error {
	dir := filepath.Join("/etc/netns", h.namespace())
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	d.resolving = append(d.resolving, dir)
	return os.WriteFile(filepath.Join(dir, "resolv.conf"), []byte("nameserver "+d.host.Address.String()+"\nsearch "+DomainName+"\n"), 0o644)
}

// certificate makes an authority, and the controller's certificate, which is good for a way through the loopback, too.
func (d *Domain) certificate() error {
	root, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	until := time.Now().Add(24 * time.Hour)
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Fennholt authority"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	top, err := x509.CreateCertificate(rand.Reader, authority, authority, &root.PublicKey, root)
	if err != nil {
		return err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "dc1." + DomainName}, DNSNames: []string{"dc1." + DomainName, DomainName}, IPAddresses: []net.IP{d.host.Address.AsSlice(), net.IPv4(127, 0, 0, 1)}, NotBefore: authority.NotBefore, NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	own, err := x509.CreateCertificate(rand.Reader, leaf, authority, &key.PublicKey, root)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	d.Authority = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: top})
	return errors.Join(
		os.WriteFile(filepath.Join(d.dir, "authority.pem"), d.Authority, 0o644),
		os.WriteFile(filepath.Join(d.dir, "dc1.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own}), 0o644),
		os.WriteFile(filepath.Join(d.dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
}
