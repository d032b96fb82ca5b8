// Package withdrawn asks whether whoever issued a certificate has withdrawn it: by the answer that comes along with it, by
// asking (OCSP, RFC 6960), or by the issuer's list (RFC 5280, 5 and 6.3).
//
//	config := &tls.Config{RootCAs: roots, VerifyConnection: withdrawn.Check}
//
// Whatever can neither be asked nor read counts as good: a directory is to work while its authority's web server does not.
package withdrawn

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ocsp"
)

// ErrWithdrawn says that a certificate is not good any more, although it has not expired.
var ErrWithdrawn = errors.New("its certificate was withdrawn")

const (
	answersWithin = 3 * time.Second // of one who is asked
	answerAtMost  = 64 << 10        // of OCSP, in bytes
	listAtMost    = 16 << 20        // of a list, in bytes
	listsAtMost   = 16              // that are kept
	keptAtMost    = time.Hour       // a list, and no longer than it says itself
)

// client asks. What it gets is signed, and may come by plain HTTP (RFC 5280, 8).
var client = &http.Client{Timeout: answersWithin}

// Check is for tls.Config.VerifyConnection. The error is an ErrWithdrawn.
func Check(s tls.ConnectionState) error {
	if len(s.VerifiedChains) == 0 {
		return nil
	}
	chain := s.VerifiedChains[0]
	ctx, cancel := context.WithTimeout(context.Background(), 2*answersWithin)
	defer cancel()
	for i, c := range chain[:len(chain)-1] {
		var stapled []byte
		if i == 0 {
			stapled = s.OCSPResponse
		}
		if err := ask(ctx, c, chain[i+1], stapled); errors.Is(err, ErrWithdrawn) {
			return err
		} else if err != nil {
			slog.Warn("whether a certificate was withdrawn cannot be found out", "certificate", c.Subject, "error", err)
		}
	}
	return nil
}

// ask asks about one certificate whatever it names, until one knows. The error is an ErrWithdrawn, or says why nobody knows.
func ask(ctx context.Context, c, issuer *x509.Certificate, stapled []byte) error {
	var ways []func() error
	if len(stapled) > 0 {
		ways = append(ways, func() error { return readAnswer(stapled, c, issuer) })
	}
	for _, server := range overHTTP(c.OCSPServer) {
		ways = append(ways, func() error { return askServer(ctx, server, c, issuer) })
	}
	for _, at := range overHTTP(c.CRLDistributionPoints) {
		ways = append(ways, func() error { return lists.look(ctx, at, c, issuer) })
	}
	var failed []error
	for _, know := range ways {
		err := know()
		if err == nil || errors.Is(err, ErrWithdrawn) {
			return err
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

func overHTTP(addresses []string) []string {
	return slices.DeleteFunc(slices.Clone(addresses), func(a string) bool { return !strings.HasPrefix(a, "http://") && !strings.HasPrefix(a, "https://") })
}

func askServer(ctx context.Context, server string, c, issuer *x509.Certificate) error {
	question, err := ocsp.CreateRequest(c, issuer, nil)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, server, bytes.NewReader(question))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/ocsp-request")
	answer, err := fetch(r, answerAtMost)
	if err != nil {
		return err
	}
	return readAnswer(answer, c, issuer)
}

// readAnswer reads an answer of OCSP, which the issuer has signed or somebody it has certified for that (RFC 6960, 4.2.2.2).
func readAnswer(answer []byte, c, issuer *x509.Certificate) error {
	a, err := ocsp.ParseResponseForCert(answer, c, issuer)
	switch now := time.Now(); {
	case err != nil:
		return err
	case a.Status == ocsp.Revoked:
		return fmt.Errorf("%w by %s on %s", ErrWithdrawn, issuer.Subject, a.RevokedAt.Format(time.DateOnly))
	case a.Status != ocsp.Good:
		return errors.New("the answer is that it is not known")
	case now.Before(a.ThisUpdate), !a.NextUpdate.IsZero() && now.After(a.NextUpdate):
		return errors.New("the answer is of another time")
	}
	return nil
}

func fetch(r *http.Request, atMost int64) ([]byte, error) {
	resp, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s: %s", r.URL, resp.Status)
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, atMost+1))
	if err == nil && int64(len(b)) > atMost {
		err = fmt.Errorf("%s: it is longer than %d bytes", r.URL, atMost)
	}
	return b, err
}

// kept are lists that were read, by their address.
type kept struct {
	mu  sync.Mutex
	all map[string]list
}

type list struct {
	*x509.RevocationList
	until time.Time
}

var lists kept

// look looks for a certificate in the list at an address.
func (k *kept) look(ctx context.Context, at string, c, issuer *x509.Certificate) error {
	now := time.Now()
	k.mu.Lock()
	l, known := k.all[at]
	k.mu.Unlock()
	if !known || now.After(l.until) {
		var err error
		if l, err = read(ctx, at, now); err != nil {
			return err
		}
		k.mu.Lock()
		if k.all == nil || len(k.all) >= listsAtMost {
			k.all = map[string]list{}
		}
		k.all[at] = l
		k.mu.Unlock()
	}
	if err := l.CheckSignatureFrom(issuer); err != nil {
		return fmt.Errorf("%s is not of %s: %w", at, issuer.Subject, err)
	}
	for _, entry := range l.RevokedCertificateEntries {
		if entry.SerialNumber.Cmp(c.SerialNumber) == 0 {
			return fmt.Errorf("%w by %s on %s", ErrWithdrawn, issuer.Subject, entry.RevocationTime.Format(time.DateOnly))
		}
	}
	return nil
}

// read fetches a list.
func read(ctx context.Context, at string, now time.Time) (l list, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return l, err
	}
	b, err := fetch(r, listAtMost)
	if err != nil {
		return l, err
	}
	if l.RevocationList, err = x509.ParseRevocationList(b); err != nil {
		return l, fmt.Errorf("%s: %w", at, err)
	}
	if l.until = now.Add(keptAtMost); !l.NextUpdate.IsZero() && l.NextUpdate.Before(l.until) {
		l.until = l.NextUpdate
	}
	if now.After(l.until) {
		return l, fmt.Errorf("%s is of before %s", at, l.until.Format(time.DateOnly))
	}
	return l, nil
}
