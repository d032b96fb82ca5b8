// Package apiclient is the typed client of both HTTP interfaces, shared by the
// command line, the agent and the tests.
//
//	c, err := apiclient.New("https://192.0.2.1:7460", token)
//	c, err = c.Trusting(authority)
//	page, err := c.Workstations(ctx, apiclient.List{Search: "herb"})
//
// Errors are *Error when the service answered with a problem, and wrap ErrAway
// when nobody answered at all.
package apiclient

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/trust"
)

// ErrAway says that the service did not answer.
var ErrAway = errors.New("the service does not answer")

// Error is a problem that the service told.
type Error struct {
	Status int
	Detail string
	Misfit bool   // a field of the request had a value that it cannot have
	Type   string // of the problem (RFC 9457, 3.1.1); empty for most
}

func (e *Error) Error() string { return e.Detail }

// IsUntrusted reports whether whoever answered has no certificate that the client trusts, or one for another
// name. Nothing was sent to them.
func IsUntrusted(err error) bool {
	var e *tls.CertificateVerificationError
	return errors.As(err, &e) || errors.Is(err, ErrCertificate)
}

func hasStatus(err error, status int) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == status
}

// IsNotFound reports whether the service knows no such thing.
func IsNotFound(err error) bool { return hasStatus(err, http.StatusNotFound) }

// IsInvalid reports whether what was sent makes no sense to the service.
func IsInvalid(err error) bool {
	return hasStatus(err, http.StatusUnprocessableEntity) || hasStatus(err, http.StatusBadRequest)
}

// IsConflict reports whether the service says that something stands in the way now.
func IsConflict(err error) bool { return hasStatus(err, http.StatusConflict) }

// IsMisfit reports whether a field of the request had a value that it cannot have.
func IsMisfit(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Misfit
}

// IsFull reports whether the service's disk has no room.
func IsFull(err error) bool { return hasStatus(err, http.StatusInsufficientStorage) }

// IsPassing reports whether the same may succeed later without anybody doing anything
// else: nobody answered, the service is in trouble, or it asks to wait.
func IsPassing(err error) bool {
	var e *Error
	if errors.Is(err, ErrAway) {
		return true
	}
	return errors.As(err, &e) && (e.Status >= 500 && e.Status != http.StatusNotImplemented || e.Status == http.StatusTooManyRequests || e.Status == http.StatusRequestTimeout)
}

// IsUnauthorized reports whether the token or pass is wrong or no longer good.
func IsUnauthorized(err error) bool { return hasStatus(err, http.StatusUnauthorized) }

// NeedsCode reports whether the password was right, and the code of the second factor is needed, too.
func NeedsCode(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Type == api.CodeNeeded
}

// Client speaks to one service. It may be used from several goroutines.
type Client struct {
	places  *places
	token   string
	program string // what it calls itself
	// authority is who certifies what this service signs (PEM); nothing that is signed is taken without.
	authority []byte
	http      *http.Client
}

// New makes a client for the service at server, an https URL; plain HTTP has nothing but boot files. The
// token is a person's, or an agent's pass. It trusts the authorities that this machine does.
func New(server, token string) (*Client, error) {
	u, err := url.Parse(server)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("%q is not the address of a service (write https://HOST:PORT)", server)
	}
	return &Client{places: &places{all: []string{strings.TrimSuffix(server, "/")}}, token: token, http: &http.Client{Transport: newTransport()}}, nil
}

const (
	// answerWithin is how long the service may take to begin its answer to an agent: more
	// than the question for an errand stays open. People ask for things that take longer,
	// such as the check of a whole version; a service that is gone shows by the
	// connection's own signs of life.
	answerWithin = time.Minute
	// stalledAfter is how long the body of an answer may stand still.
	stalledAfter = time.Minute
)

// Trusting is the same client, which trusts one authority alone, or the certificate of one service (PEM).
func (c *Client) Trusting(authority []byte) (*Client, error) {
	pool, err := trust.Pool(string(authority))
	if err != nil {
		return nil, err
	}
	t := newTransport()
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13}
	trusting := c.Over(&http.Client{Transport: t})
	trusting.authority = authority
	return trusting, nil
}

// ForAgent makes a client for an agent, which waits for no answer without end and has a key of its own, so
// that nobody else can use its pass. It believes whom Pinned believes.
func ForAgent(server string, certificate []byte) (*Client, error) {
	own, err := ownCertificate()
	if err != nil {
		return nil, err
	}
	return ForHolder(server, certificate, own)
}

// ForHolder is ForAgent with a certificate of one's own.
func ForHolder(server string, certificate []byte, own *tls.Certificate) (*Client, error) {
	c, err := New(server, "")
	if err != nil {
		return nil, err
	}
	t := newTransport()
	t.ResponseHeaderTimeout = answerWithin
	if strings.HasPrefix(server, "https:") {
		if t.TLSClientConfig, err = Pinned(certificate); err != nil {
			return nil, err
		}
		c.authority = certificate
		t.TLSClientConfig.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return own, nil }
	}
	return c.Over(&http.Client{Transport: t}), nil
}

func newTransport() *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy = nil // workstations and their service are in one network
	t.DialContext = (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 15 * time.Second}).DialContext
	t.TLSHandshakeTimeout = 30 * time.Second // an old machine that is busy takes its time
	return t
}

// errStalled says that an answer stood still.
var errStalled = errors.New("the answer has stood still for a minute")

// lively is a body that ends with an error when nothing comes for too long.
type lively struct {
	io.ReadCloser
	timer  *time.Timer
	cancel context.CancelCauseFunc
	ctx    context.Context
}

func newLively(ctx context.Context, body io.ReadCloser, cancel context.CancelCauseFunc) *lively {
	return &lively{body, time.AfterFunc(stalledAfter, func() { cancel(errStalled) }), cancel, ctx}
}

func (l *lively) Read(b []byte) (int, error) {
	n, err := l.ReadCloser.Read(b)
	if n > 0 {
		l.timer.Reset(stalledAfter)
	}
	if err != nil && errors.Is(context.Cause(l.ctx), errStalled) {
		err = fmt.Errorf("%w: %w", ErrAway, errStalled)
	}
	return n, err
}

func (l *lively) Close() error {
	l.timer.Stop()
	err := l.ReadCloser.Close()
	l.cancel(nil)
	return err
}

// Over makes the same client on top of another HTTP client.
func (c *Client) Over(h *http.Client) *Client {
	other := *c
	other.http = h
	return &other
}

// WithToken is the same client with another token or pass.
func (c *Client) WithToken(token string) *Client {
	other := *c
	other.token = token
	return &other
}

// As is the same client for a program that calls itself so (RFC 9110, 10.1.5).
func (c *Client) As(program string) *Client {
	other := *c
	other.program = program
	return &other
}

// HTTP is the client beneath, for what has no method here.
func (c *Client) HTTP() *http.Client { return c.http }

// Server is the address the client speaks to.
func (c *Client) Server() string { return c.places.now() }

// maxReply bounds a reply that is read as a whole; a slab map can have as much.
const maxReply = 256 << 20

// do sends a request; body may be nil, []byte, an io.Reader or something that becomes JSON.
// reply may be nil, *[]byte or something that JSON goes into.
func (c *Client) do(ctx context.Context, method, path string, body, reply any) error {
	resp, err := c.send(ctx, method, path, body, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	content, err := io.ReadAll(io.LimitReader(resp.Body, maxReply))
	if err != nil {
		return fmt.Errorf("%w at %s: %w", ErrAway, c.Server(), err)
	}
	switch into := reply.(type) {
	case nil:
		return nil
	case *[]byte:
		*into = content
		return nil
	default:
		if err := json.Unmarshal(content, into); err != nil {
			return fmt.Errorf("%s %s: %w", method, path, err)
		}
		return nil
	}
}

// send returns a reply whose status is a success; the caller closes its body.
func (c *Client) send(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	var content io.Reader
	kind := "application/json"
	switch b := body.(type) {
	case nil:
	case []byte:
		content, kind = bytes.NewReader(b), "application/octet-stream"
	case io.Reader:
		content, kind = b, "application/octet-stream"
	default:
		text, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		content = bytes.NewReader(text)
	}
	outer, base := ctx, c.places.now()
	ctx, cancel := context.WithCancelCause(outer)
	req, err := http.NewRequestWithContext(ctx, method, base+path, content)
	if err != nil {
		cancel(nil)
		return nil, err
	}
	if c.program != "" {
		req.Header.Set("User-Agent", c.program)
	}
	if header != nil {
		req.Header = header
	}
	if content != nil {
		req.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		cancel(nil)
		if outer.Err() != nil {
			return nil, outer.Err()
		}
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		c.places.failed(base)
		return nil, fmt.Errorf("%w at %s: %w", ErrAway, base, err)
	}
	if resp.StatusCode == http.StatusServiceUnavailable { // another machine may be the service
		c.places.failed(base)
	}
	resp.Body = newLively(ctx, resp.Body, cancel)
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	return nil, problem(resp)
}

func problem(resp *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	var p api.Problem
	if json.Unmarshal(text, &p) != nil || p.Title == "" {
		return &Error{Status: resp.StatusCode, Detail: fmt.Sprintf("%s answered %s", resp.Request.URL.Path, resp.Status)}
	}
	detail := p.Detail
	if detail == "" {
		detail = p.Title
	}
	misfit := false
	for _, d := range p.Errors {
		misfit = misfit || d.Location != ""
		if !strings.Contains(detail, d.Message) {
			_, field, _ := strings.Cut(d.Location, ".")
			detail += "; " + strings.TrimSpace(field+" "+d.Message)
		}
	}
	return &Error{Status: resp.StatusCode, Detail: detail, Misfit: misfit, Type: p.Type}
}
