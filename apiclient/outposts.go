package apiclient

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
	"jugate/core/netboot"
	"jugate/core/slabstore"
	"jugate/core/trust"
)

// Outposts lists outposts.
func (c *Client) Outposts(ctx context.Context) (api.Page[api.Outpost], error) {
	return list[api.Outpost](ctx, c, "outposts", List{})
}

// Outpost shows one.
func (c *Client) Outpost(ctx context.Context, name string) (api.Outpost, error) {
	return one[api.Outpost](ctx, c, http.MethodGet, "outposts/"+url.PathEscape(name), nil)
}

// AddOutpost enters one, and returns the code that it joins by.
func (c *Client) AddOutpost(ctx context.Context, in api.NewOutpost) (api.OutpostCode, error) {
	return one[api.OutpostCode](ctx, c, http.MethodPost, "outposts", in)
}

// CodeOutpost makes another code for one.
func (c *Client) CodeOutpost(ctx context.Context, name string) (api.OutpostCode, error) {
	return one[api.OutpostCode](ctx, c, http.MethodPost, "outposts/"+url.PathEscape(name)+"/code", nil)
}

// ChangeOutpost changes how the line of one may be used, and its note.
func (c *Client) ChangeOutpost(ctx context.Context, name string, in api.OutpostChange) (api.Outpost, error) {
	return one[api.Outpost](ctx, c, http.MethodPatch, "outposts/"+url.PathEscape(name), in)
}

// PlaceImage has one hold versions ahead of time.
func (c *Client) PlaceImage(ctx context.Context, name string, in api.NewPlacement) (api.Outpost, error) {
	return one[api.Outpost](ctx, c, http.MethodPost, "outposts/"+url.PathEscape(name)+"/placements", in)
}

// UnplaceImage ends a placement.
func (c *Client) UnplaceImage(ctx context.Context, name string, placement int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/api/v1/outposts/%s/placements/%d", url.PathEscape(name), placement), nil, nil)
}

// WithdrawOutpost ends the trust in one.
func (c *Client) WithdrawOutpost(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/outposts/"+url.PathEscape(name)+"/withdraw", nil, nil)
}

// RemoveOutpost forgets one.
func (c *Client) RemoveOutpost(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/outposts/"+url.PathEscape(name), nil, nil)
}

// ErrOtherService says that whoever answered is not the service that a code is of.
var ErrOtherService = errors.New("whoever answered is not the service that the code is of; the code is told to nobody")

// Join has an outpost join the service that a code is of, with a request for a certificate (DER). What the code is of is
// held against whoever answers before its secret is sent. It returns the authority's certificate, too, in PEM.
func Join(ctx context.Context, server string, code trust.JoinCode, request []byte, version string) (joined api.OutpostJoined, authority []byte, err error) {
	c, err := New(server, "")
	if err != nil {
		return joined, nil, err
	}
	t := newTransport()
	t.TLSClientConfig = &tls.Config{
		MinVersion:         tls.VersionTLS13,
		InsecureSkipVerify: true, // VerifyConnection does all of it
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) < 2 {
				return ErrOtherService
			}
			of := s.PeerCertificates[len(s.PeerCertificates)-1]
			if !of.IsCA || !code.For(of) || !believed(s.PeerCertificates[0], of) {
				return ErrOtherService
			}
			authority = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: of.Raw})
			return nil
		},
	}
	defer t.CloseIdleConnections()
	err = c.Over(&http.Client{Transport: t}).do(ctx, http.MethodPost, "/outpost/v1/join", api.OutpostJoin{Secret: code.Secret, Request: request, Version: version}, &joined)
	if errors.Is(err, ErrOtherService) {
		err = ErrOtherService
	}
	return joined, authority, err
}

// BulkAtOnce is how many connections of an outpost carry files and slabs at once.
const BulkAtOnce = 8

// ForOutpost makes a client for an outpost; own tells the certificate that it has now. It believes whom agents believe. What is
// large comes by Bulk.
func ForOutpost(server string, authority []byte, own func() (*tls.Certificate, error)) (*Client, error) {
	c, err := New(server, "")
	if err != nil {
		return nil, err
	}
	trust, err := Pinned(authority)
	if err != nil {
		return nil, err
	}
	trust.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return own() }
	t := newTransport()
	t.ResponseHeaderTimeout = answerWithin
	t.TLSClientConfig = trust
	c.authority = authority
	return c.Over(&http.Client{Transport: t}), nil
}

// Bulk is the client for what is large: over connections of HTTP/1.1, each for one file or slab, as a line that is long and loses
// packets carries little by one.
func (c *Client) Bulk() *Client {
	t := c.http.Transport.(*http.Transport).Clone()
	t.ForceAttemptHTTP2, t.TLSNextProto = false, map[string]func(string, *tls.Conn) http.RoundTripper{}
	t.TLSClientConfig.NextProtos = nil
	t.MaxConnsPerHost, t.MaxIdleConnsPerHost = BulkAtOnce, BulkAtOnce
	return c.Over(&http.Client{Transport: t})
}

func outpost[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	var reply T
	err := c.do(ctx, http.MethodPost, "/outpost/v1/"+path, body, &reply)
	return reply, err
}

// RenewOutpost asks for the next certificate.
func (c *Client) RenewOutpost(ctx context.Context, in api.OutpostRenewal) (api.OutpostJoined, error) {
	return outpost[api.OutpostJoined](ctx, c, "certificate", in)
}

// TellOutpost tells how an outpost is, and asks what it is to hold; the answer comes when that changes.
func (c *Client) TellOutpost(ctx context.Context, in api.OutpostCalls) (api.OutpostWork, error) {
	return outpost[api.OutpostWork](ctx, c, "tell", in)
}

// OutpostFacts asks what DHCP has to know of a machine.
func (c *Client) OutpostFacts(ctx context.Context, in api.OutpostAsks) (netboot.Facts, error) {
	return outpost[netboot.Facts](ctx, c, "facts", in)
}

// OutpostChoice asks what a machine boots.
func (c *Client) OutpostChoice(ctx context.Context, in api.OutpostAsks) (api.OutpostChoice, error) {
	return outpost[api.OutpostChoice](ctx, c, "choice", in)
}

// OutpostBuildFor asks for the build whose loaders a machine gets.
func (c *Client) OutpostBuildFor(ctx context.Context, in api.OutpostAsks) (api.OutpostBuildFor, error) {
	return outpost[api.OutpostBuildFor](ctx, c, "build-for", in)
}

// TellSteps tells how far machines are that boot at an outpost.
func (c *Client) TellSteps(ctx context.Context, in api.OutpostSteps) error {
	return c.do(ctx, http.MethodPost, "/outpost/v1/steps", in, nil)
}

// TellParts tells how far an outpost is with its parts of deliveries.
func (c *Client) TellParts(ctx context.Context, in api.OutpostParts) error {
	return c.do(ctx, http.MethodPost, "/outpost/v1/parts", in, nil)
}

// HandIn hands in what an outpost has kept.
func (c *Client) HandIn(ctx context.Context, in api.OutpostHandsIn) error {
	return c.do(ctx, http.MethodPost, "/outpost/v1/receipts", in, nil)
}

// OutpostSlab fetches the frame of a slab from an offset on, in bytes; or, if another one is named that is at hand, what differs
// from that (slabstore.BaseOf tells), if that is less.
func (c *Client) OutpostSlab(ctx context.Context, d slabstore.Digest, on *slabstore.Digest, from int64) (io.ReadCloser, error) {
	path := "/outpost/v1/slabs/" + d.String()
	if on != nil {
		path += "?on=" + on.String()
	}
	return c.from(ctx, path, from)
}

// OutpostPart fetches a file of a build, a boot entry or a delivery from an offset on, in bytes.
func (c *Client) OutpostPart(ctx context.Context, d slabstore.Digest, from int64) (io.ReadCloser, error) {
	return c.from(ctx, "/outpost/v1/parts/"+d.String(), from)
}

// from fetches what is there from an offset on.
func (c *Client) from(ctx context.Context, path string, from int64) (io.ReadCloser, error) {
	header := http.Header{}
	if from > 0 {
		header.Set("Range", "bytes="+strconv.FormatInt(from, 10)+"-")
	}
	resp, err := c.send(ctx, http.MethodGet, path, nil, header)
	if err != nil {
		return nil, err
	}
	if from > 0 && resp.StatusCode != http.StatusPartialContent {
		resp.Body.Close()
		return nil, fmt.Errorf("%s: the service sends no part of a file (%s)", c.Server(), resp.Status)
	}
	return resp.Body, nil
}

// NewRequest is a request for a certificate by a key (RFC 2986), which names nobody: the service knows who asks.
func NewRequest(key any) ([]byte, error) {
	return x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
}
