package web

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	neturl "net/url"
	"time"

	"jugate/core/trust"
	"jugate/withdrawn"
)

// Courier asks witnesses by HTTP.
type Courier struct{}

const (
	// courierWithin is how long a witness may take.
	courierWithin = 15 * time.Second
	// courierReply bounds what it answers, in bytes.
	courierReply = 64 << 10
)

// transportTo reaches a server outside, whose certificate comes from an authority in PEM; from one that this machine
// trusts if that is empty.
func transportTo(authority string) (*http.Transport, error) {
	roots, err := trust.Pool(authority)
	if err != nil {
		return nil, fmt.Errorf("what was entered as its authority: %w", err)
	}
	return &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: roots, VerifyConnection: withdrawn.Check}, DisableKeepAlives: true}, nil
}

// send sends a request to a server outside, whose certificate comes from an authority in PEM (transportTo). It follows no redirects, and
// errors do not repeat the address, which whoever asked knows.
func send(r *http.Request, authority string) (*http.Response, error) {
	t, err := transportTo(authority)
	if err != nil {
		return nil, err
	}
	client := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(r)
	if of := (*neturl.Error)(nil); errors.As(err, &of) {
		err = of.Err
	}
	return resp, err
}

// Post is proofs.Courier's.
func (Courier) Post(ctx context.Context, url, certificate string, body []byte) (status int, reply []byte, err error) {
	ctx, cancel := context.WithTimeout(ctx, courierWithin)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	resp, err := send(r, certificate)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	reply, err = io.ReadAll(io.LimitReader(resp.Body, courierReply))
	return resp.StatusCode, reply, err
}
