package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"jugate/service/notify"
)

// Hooks send webhooks as Standard Webhooks describes them.
type Hooks struct{}

const (
	// hookWithin is how long an address may take to answer.
	hookWithin = 15 * time.Second
	// hookReply bounds what is read of an answer, in bytes: it is thrown away.
	hookReply = 64 << 10
)

// Post is notify.Hooks'. What an address answers says whether it has taken the payload. Errors name its host alone: whoever knows
// the rest can write there.
func (Hooks) Post(ctx context.Context, to notify.Endpoint, id string, at time.Time, payload []byte) error {
	ctx, cancel := context.WithTimeout(ctx, hookWithin)
	defer cancel()
	signer, err := standardwebhooks.NewWebhook(to.Secret)
	if err != nil {
		return err
	}
	signature, err := signer.Sign(id, at, payload)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to.URL, bytes.NewReader(payload))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "Jugate")
	r.Header.Set(standardwebhooks.HeaderWebhookID, id)
	r.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	r.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	resp, err := send(r, to.Certificate)
	if err != nil {
		return fmt.Errorf("%s does not answer: %w", r.URL.Host, err)
	}
	defer resp.Body.Close()
	io.CopyN(io.Discard, resp.Body, hookReply)
	switch status := resp.StatusCode; {
	case status >= 200 && status < 300:
		return nil
	case status == http.StatusGone:
		return fmt.Errorf("%s has answered %s: %w", r.URL.Host, resp.Status, notify.ErrGone)
	case status >= 400 && status < 500 && status != http.StatusTooManyRequests:
		return fmt.Errorf("%s has answered %s: %w", r.URL.Host, resp.Status, notify.ErrRefused)
	}
	return fmt.Errorf("%s has answered %s", r.URL.Host, resp.Status)
}
