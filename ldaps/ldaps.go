// Package ldaps connects to directories by TLS (RFC 4511, RFC 4513), and says in words why one does not answer, is
// not trusted, or does not take an account.
//
//	d := ldaps.Directory{Name: "garden", Server: "ldaps://dc1.fennholt.example", Certificate: authority}
//	conn, _, err := d.Open(ctx)
//	err = d.SignIn(conn, account, password)
package ldaps

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"jugate/core/fault"
	"jugate/core/join"
	"jugate/core/trust"
	"jugate/withdrawn"
)

// AnswersWithin is how long a directory may take for one answer.
const AnswersWithin = 10 * time.Second

// Directory is where one is reached.
type Directory struct {
	Name        string // as people call it
	Server      string // ldaps://HOST[:PORT]
	Certificate string // PEM of the authority that is trusted; empty: those of this machine
	// Dial reaches it; nil does it as usual.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// CheckServer refuses what is not the address of a directory by TLS.
func CheckServer(server, example string) error {
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "ldaps" || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil || u.RawQuery != "" {
		return fault.Invalid.Errorf("%q is not the address of a directory, such as ldaps://%s; LDAP without TLS would show passwords to others", server, example)
	}
	return nil
}

// Open connects by TLS, and tells at which address. The error is a fault.Conflict; join.ErrAway if the directory may answer
// later.
func (d Directory) Open(ctx context.Context) (*ldap.Conn, netip.Addr, error) {
	u, err := url.Parse(d.Server)
	if err != nil {
		return nil, netip.Addr{}, fault.Conflict.Mark(err)
	}
	roots, err := trust.Pool(d.Certificate)
	if err != nil {
		return nil, netip.Addr{}, fault.Invalid.Errorf("the certificate for %s: %w", d.Name, err)
	}
	port := u.Port()
	if port == "" {
		port = "636"
	}
	ctx, cancel := context.WithTimeout(ctx, AnswersWithin)
	defer cancel()
	dial := d.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	plain, err := dial(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return nil, netip.Addr{}, fault.Conflict.Mark(fmt.Errorf("%w for %s: %w", join.ErrAway, d.Name, err))
	}
	secure := tls.Client(plain, &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12, RootCAs: roots, VerifyConnection: withdrawn.Check})
	if err := secure.HandshakeContext(ctx); err != nil {
		plain.Close()
		return nil, netip.Addr{}, fault.Conflict.Mark(d.handshakeFailed(err))
	}
	conn := ldap.NewConn(secure, true)
	conn.SetTimeout(AnswersWithin)
	conn.Start()
	from, _ := netip.ParseAddrPort(plain.RemoteAddr().String())
	return conn, from.Addr().Unmap(), nil
}

// handshakeFailed says why there is no TLS: one that broke off may succeed later, as it does while a
// controller starts, but one that is not trusted will not.
func (d Directory) handshakeFailed(err error) error {
	var unknown x509.UnknownAuthorityError
	var certificate *tls.CertificateVerificationError
	var alert tls.AlertError
	var header tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		return fmt.Errorf("%s is not trusted: %w; give the certificate of its authority with --certificate", d.Server, err)
	case errors.As(err, &certificate), errors.As(err, &alert), errors.Is(err, withdrawn.ErrWithdrawn):
		return fmt.Errorf("%s is not trusted: %w", d.Server, err)
	case errors.As(err, &header):
		return fmt.Errorf("%s does not speak TLS: %w", d.Server, err)
	}
	return fmt.Errorf("%w for %s: %s: %w", join.ErrAway, d.Name, d.Server, err)
}

// dataForm finds what a directory says in its own code about a refused password.
var dataForm = regexp.MustCompile(`data ([0-9a-f]+)`)

// refusals are such codes (Win32 errors, in hexadecimal).
var refusals = map[string]string{"525": "the account is not known", "52e": "the account or its password is wrong", "530": "the account may not sign in at this time", "532": "its password has expired",
	"533": "the account is disabled", "701": "the account has expired", "773": "its password has to be changed first", "775": "the account is locked"}

// ErrRefused says that a directory does not take an account, or its password.
var ErrRefused = errors.New("it is refused")

// SignIn shows an account and its password (RFC 4513, 5.1.3). The error says in words why the directory does not take
// them, and wraps ErrRefused then. A password that is empty is refused here: many directories take it for nobody's (RFC
// 4513, 5.1.2).
func (d Directory) SignIn(conn *ldap.Conn, account, password string) error {
	if password == "" {
		return fault.Conflict.Errorf("the directory of %s does not let %s sign in without a password (%w)", d.Name, account, ErrRefused)
	}
	err := conn.Bind(account, password)
	if err == nil {
		return nil
	}
	if !ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials) {
		return d.Failed(account, "sign in as "+account, err)
	}
	why := refusals["52e"]
	if m := dataForm.FindStringSubmatch(err.Error()); m != nil && refusals[m[1]] != "" {
		why = refusals[m[1]]
	}
	return fault.Conflict.Mark(&refused{fmt.Sprintf("the directory of %s does not let %s sign in: %s", d.Name, account, why)})
}

// refused is an error that is ErrRefused.
type refused struct{ text string }

func (r *refused) Error() string        { return r.text }
func (r *refused) Is(target error) bool { return target == ErrRefused }

// Failed says what could not be done in a directory. The error is a fault.Conflict; join.ErrAway if it may be done later.
func (d Directory) Failed(account, what string, err error) error {
	if ldap.IsErrorAnyOf(err, ldap.ErrorNetwork, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable) {
		err = fmt.Errorf("%w: %w", join.ErrAway, err)
	}
	if ldap.IsErrorWithCode(err, ldap.LDAPResultReferral) {
		return fault.Conflict.Errorf("the directory of %s: %s: it refers to another directory, which is not followed; name that one", d.Name, what)
	}
	if ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) {
		err = fmt.Errorf("the account %s lacks the right to", account)
		return fault.Conflict.Errorf("the directory of %s: %w %s", d.Name, err, what)
	}
	return fault.Conflict.Mark(fmt.Errorf("the directory of %s: %s: %w", d.Name, what, err))
}
