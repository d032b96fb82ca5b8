package apiclient

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"

	"jugate/api"
)

// Answers lists what is set, everywhere or in one place.
func (c *Client) Answers(ctx context.Context, of string) (api.Page[api.Answer], error) {
	return list[api.Answer](ctx, c, "answers", List{Filter: map[string]string{"of": of}})
}

// SetAnswers sets answers in one place.
func (c *Client) SetAnswers(ctx context.Context, in api.NewAnswers) (api.Page[api.Answer], error) {
	return one[api.Page[api.Answer]](ctx, c, http.MethodPut, "answers", in)
}

// Domains lists the domains that delivered systems can join.
func (c *Client) Domains(ctx context.Context) (api.Page[api.Domain], error) {
	return list[api.Domain](ctx, c, "domains", List{})
}

// AddDomain enters a domain, if its directory takes the account.
func (c *Client) AddDomain(ctx context.Context, in api.NewDomain) (api.DomainCheck, error) {
	return one[api.DomainCheck](ctx, c, http.MethodPost, "domains", in)
}

// CheckDomain asks a domain's directory whether computers can join.
func (c *Client) CheckDomain(ctx context.Context, name string) (api.DomainCheck, error) {
	return one[api.DomainCheck](ctx, c, http.MethodPost, "domains/"+url.PathEscape(name)+"/check", nil)
}

// RemoveDomain forgets a domain.
func (c *Client) RemoveDomain(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/domains/"+url.PathEscape(name), nil, nil)
}

// AddPayload takes a file that goes onto delivered systems.
func (c *Client) AddPayload(ctx context.Context, name, note string, content io.Reader) (api.Payload, error) {
	var out api.Payload
	resp, err := c.send(ctx, http.MethodPost, "/api/v1/payloads"+List{Filter: map[string]string{"payload": name, "note": note}}.query(), content, nil)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

// Payloads lists payloads, by name.
func (c *Client) Payloads(ctx context.Context) (api.Page[api.Payload], error) {
	return list[api.Payload](ctx, c, "payloads", List{})
}

// Payload shows one.
func (c *Client) Payload(ctx context.Context, name string) (api.Payload, error) {
	return one[api.Payload](ctx, c, http.MethodGet, "payloads/"+url.PathEscape(name), nil)
}

// InstallPayloads has workstations bring payloads onto the system that they have.
func (c *Client) InstallPayloads(ctx context.Context, in api.InstallPayloads) ([]api.Errand, error) {
	return one[[]api.Errand](ctx, c, http.MethodPost, "payload-errands", in)
}

// RemovePayload removes one.
func (c *Client) RemovePayload(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/payloads/"+url.PathEscape(name), nil, nil)
}

// ResolvedAnswers shows the answers that count for a workstation; image may be empty.
func (c *Client) ResolvedAnswers(ctx context.Context, workstation, image string) (api.ResolvedAnswers, error) {
	return one[api.ResolvedAnswers](ctx, c, http.MethodGet, "workstations/"+url.PathEscape(workstation)+"/answers"+List{Filter: map[string]string{"image": image}}.query(), nil)
}

// CheckAnswers tells for which of these workstations answers contradict each other or are missing;
// without any and without a condition, of the whole roster. image may be empty.
func (c *Client) CheckAnswers(ctx context.Context, to []string, where, image string) (api.AnswersCheck, error) {
	q := url.Values{"to": to}
	setIf(q, "where", where)
	setIf(q, "image", image)
	return one[api.AnswersCheck](ctx, c, http.MethodGet, "answers-check?"+q.Encode(), nil)
}

// PreviewAnswers shows what they do to the system of an image.
func (c *Client) PreviewAnswers(ctx context.Context, workstation, image string) (api.AnswersPreview, error) {
	return one[api.AnswersPreview](ctx, c, http.MethodGet, "workstations/"+url.PathEscape(workstation)+"/answers/preview"+List{Filter: map[string]string{"image": image}}.query(), nil)
}
