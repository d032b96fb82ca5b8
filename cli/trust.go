package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jugate/core/durable"
	"jugate/core/trust"
)

// A service has an authority of its own, which no machine knows at first. Signing in finds out which, shows
// its fingerprint, and keeps it; from then on nobody else is believed at that address.

// trustFile is where the certificate is kept that sign-in has found.
func trustFile() (string, error) {
	path, err := contextFile()
	return filepath.Join(filepath.Dir(path), "authority.pem"), err
}

// trust finds out whom to believe at the service's address, and returns the file with that; it is empty if
// this machine trusts the service's certificate already. Nothing is sent before.
func (a *app) trust(cmd *cobra.Command, fingerprint string) (file string, err error) {
	u, err := url.Parse(a.server)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return "", usageError{fmt.Errorf("%q is not the address of a service (write https://HOST:PORT)", a.server)}
	}
	before, path, err := readContext()
	if err != nil {
		return "", err
	}
	there := before.SignedIn && before.Server == a.server
	found := slices.ContainsFunc(a.settings, func(s configured) bool { return s.Name == "authority" && s.Source == path }) && before.SignedIn
	if a.authority != "" && !found {
		return filepath.Abs(a.authority)
	}
	root, known, err := shown(cmd.Context(), u)
	if err != nil || known {
		return "", err
	}
	if file, err = trustFile(); err != nil {
		return "", err
	}
	seen := trust.Fingerprint(root)
	switch kept, err := os.ReadFile(file); {
	case fingerprint != "":
		if !trust.SameFingerprint(fingerprint, seen) {
			return "", fmt.Errorf("whoever answers at %s has an authority with another fingerprint: %s", a.server, seen)
		}
	case err == nil && there && bytes.Equal(kept, pemOf(root)):
		return file, nil
	case err == nil && there:
		return "", fmt.Errorf("the authority of %s is not the one that you have signed in with before, but %s: somebody may be in between; if the service was made anew, jugate sign-out and sign in again", a.server, seen)
	default:
		if err := confirmAuthority(cmd, a.server, seen); err != nil {
			return "", err
		}
	}
	return file, keepAuthority(file, root)
}

// shown asks for the certificate at an address, and returns the authority that it comes from, or itself.
// known says that this machine trusts it. An error says that the certificate is not for that address.
func shown(ctx context.Context, u *url.URL) (root *x509.Certificate, known bool, err error) {
	// Who it is is looked at below, and nothing is sent until somebody has said that they know it.
	dialer := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS13}}
	c, err := dialer.DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return nil, false, fmt.Errorf("ask %s for its certificate: %w", u.Host, err)
	}
	defer c.Close()
	chain := c.(*tls.Conn).ConnectionState().PeerCertificates
	between := x509.NewCertPool()
	for _, x := range chain[1:] {
		between.AddCert(x)
	}
	if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: u.Hostname(), Intermediates: between}); err == nil {
		return nil, true, nil
	}
	root = chain[len(chain)-1]
	only := x509.NewCertPool()
	only.AddCert(root)
	if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: u.Hostname(), Intermediates: between, Roots: only}); err != nil {
		return nil, false, fmt.Errorf("the certificate at %s: %w; the service can be given names with jugate serve --name", u.Host, err)
	}
	return root, false, nil
}

// confirmAuthority shows a fingerprint to whoever sits at the terminal. Where nobody does, the first that is
// seen counts.
func confirmAuthority(cmd *cobra.Command, server, seen string) error {
	fmt.Fprintf(cmd.ErrOrStderr(), "%s has an authority of its own, with the fingerprint\n  %s\n", server, seen)
	in, is := terminal(cmd)
	if !is {
		_, err := fmt.Fprintln(cmd.ErrOrStderr(), "which is trusted from now on; --fingerprint says which it has to be.")
		return err
	}
	fmt.Fprint(cmd.ErrOrStderr(), "Is that what the service printed when it started? (yes or no) ")
	answer, _ := bufio.NewReader(in).ReadString('\n')
	if !slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(answer))) {
		return errors.New("then somebody else answers there; nothing was sent")
	}
	return nil
}

func pemOf(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

func keepAuthority(file string, c *x509.Certificate) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return durable.Write(file, pemOf(c), 0o600)
}
