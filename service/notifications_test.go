package service_test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/santhosh-tekuri/jsonschema/v6"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// hooked is what somebody's program has taken.
type hooked struct {
	header http.Header
	body   []byte
	api.WebhookPayload
}

// hook serves an address that takes webhooks, by TLS.
func hook(t *testing.T) (address, authority string, taken chan hooked) {
	taken = make(chan hooked, 100)
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := hooked{header: r.Header}
		h.body, _ = io.ReadAll(r.Body)
		if json.Unmarshal(h.body, &h.WebhookPayload) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		taken <- h
	}))
	t.Cleanup(s.Close)
	return s.URL + "/hooks/desk", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})), taken
}

// The signature is held against the library of Standard Webhooks.
func TestAProgramIsToldOfADelivery(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	address, authority, taken := hook(t)
	h.groups("herbarium")
	rule, err := h.client.SetNotificationRule(ctx, "chat", api.NewNotificationRule{Events: []string{"delivery.ended", "receipt.written"}, Groups: []string{"herbarium"}, Webhook: address, Certificate: authority})
	require.NoError(t, err)
	judge, err := standardwebhooks.NewWebhook(rule.Secret)
	require.NoError(t, err)
	m, err := h.client.TryNotificationRule(ctx, "chat")
	require.NoError(t, err)
	first := <-taken
	assert.Equal(t, m.Message, first.header.Get("Webhook-Id"))
	assert.Equal(t, "rule.tried", first.Type)
	require.NoError(t, judge.Verify(first.body, first.header))
	assert.Error(t, judge.Verify(append(first.body, ' '), first.header))

	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, 66<<20), 0, "herb-01", "herbarium")
	h.start(3, blank(t, 66<<20), 0, "kiosk-01")
	h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "kiosk-01"}, Start: "all"})
	t.Log("# what is sent is as the published schema says, which somebody else's validator reads")
	schema, err := jsonschema.NewCompiler().Compile("../docs/reference/webhook.schema.json")
	require.NoError(t, err)
	valid := func(body []byte) error {
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	assert.NoError(t, valid(first.body))
	assert.Error(t, valid(bytes.Replace(first.body, []byte("rule.tried"), []byte("run.ended"), 1)))
	told := map[string]hooked{}
	for len(told) < 2 {
		one := <-taken
		assert.NoError(t, valid(one.body))
		require.NoError(t, judge.Verify(one.body, one.header))
		told[one.Type] = one
		if one.Type == "receipt.written" {
			assert.Equal(t, "herb-01", one.Data.(map[string]any)["workstation"], "kiosk-01 is not of the group")
		}
	}
	assert.Equal(t, "delivery 1 of garden-desk@1 is over: 2 of 2 workstations got it", told["delivery.ended"].What)

	t.Log("# whoever may not administer changes no rule")
	reader := h.person("wren", everything("reader"))
	_, err = reader.SetNotificationRule(ctx, "chat", api.NewNotificationRule{Events: []string{"delivery.ended"}, Webhook: address})
	assert.Error(t, err)
	rules, err := reader.NotificationRules(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"delivery.ended", "receipt.written"}, rules.Items[0].Events)
	assert.NotContains(t, rules.Items[0].Webhook, "hooks/desk", "whoever knows it can write there")
	_, err = h.client.SetNotificationRule(ctx, "lost", api.NewNotificationRule{Events: []string{"delivery.ended"}, Webhook: "http://127.0.0.1:9/hooks/desk"})
	require.NoError(t, err)
	_, err = h.client.TryNotificationRule(ctx, "lost")
	assert.ErrorContains(t, err, "127.0.0.1:9 does not answer")
	assert.NotContains(t, err.Error(), "hooks/desk", "as troubles are told to whoever looks on")
	lines, err := h.client.Lines(ctx, apiclient.List{Limit: 100})
	require.NoError(t, err)
	for _, one := range lines.Items {
		assert.NotContains(t, fmt.Sprint(one.Details), "hooks/desk")
	}
}

// box is a mail server that takes an account, by TLS after the greeting.
type box struct{ letters chan string }

type post struct {
	box      *box
	signedIn bool
}

func (b *box) NewSession(*smtp.Conn) (smtp.Session, error) { return &post{box: b}, nil }
func (p *post) AuthMechanisms() []string                   { return []string{sasl.Plain} }
func (p *post) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, account, password string) error {
		if account != "jugate" || password != "sundial" {
			return smtp.ErrAuthFailed
		}
		p.signedIn = true
		return nil
	}), nil
}
func (p *post) Mail(string, *smtp.MailOptions) error {
	if !p.signedIn {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (p *post) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (p *post) Reset()                               {}
func (p *post) Logout() error                        { return nil }
func (p *post) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	p.box.letters <- string(b)
	return err
}

func TestMailGoesThroughAServerThatIsTrusted(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	certified := httptest.NewUnstartedServer(nil) // for its certificate
	certified.StartTLS()
	t.Cleanup(certified.Close)
	authority := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certified.Certificate().Raw}))
	b := &box{letters: make(chan string, 10)}
	s := smtp.NewServer(b)
	s.TLSConfig = &tls.Config{Certificates: certified.TLS.Certificates}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })

	in := api.NewMailSettings{Server: l.Addr().String(), Account: "jugate", Password: "sundial", Sender: "jugate@fennholt.example"}
	_, err = h.client.SetMailSettings(ctx, in)
	assert.ErrorContains(t, err, "certificate", "nobody has said that this authority is trusted")
	in.Certificate, in.Password = authority, "gnomon"
	_, err = h.client.SetMailSettings(ctx, in)
	assert.ErrorContains(t, err, "does not take mail")
	set, err := h.client.MailSettings(ctx)
	require.NoError(t, err)
	assert.Empty(t, set.Server, "what does not work is not kept")
	assert.ErrorContains(t, h.client.TryMail(ctx, "ines@fennholt.example"), "no server takes mail")
	in.Password = "sundial"
	_, err = h.client.SetMailSettings(ctx, in)
	require.NoError(t, err)
	require.NoError(t, h.client.TryMail(ctx, "ines@fennholt.example"))
	assert.Contains(t, <-b.letters, "tries whether mail comes")
	in.Password, in.Sender = "", "desk@fennholt.example"
	_, err = h.client.SetMailSettings(ctx, in)
	require.NoError(t, err, "the password stays")
	other := in
	other.Account = "ines"
	_, err = h.client.SetMailSettings(ctx, other)
	assert.Error(t, err, "and is that account's alone")
	in.Password = "sundial"

	lines, err := h.client.Lines(ctx, apiclient.List{Limit: 100})
	require.NoError(t, err)
	for _, one := range lines.Items {
		assert.NotContains(t, fmt.Sprint(one.Details), "sundial")
	}
	t.Log("# a server that offers no TLS gets neither a password nor a mail")
	open := smtp.NewServer(b)
	open.AllowInsecureAuth = true
	l2, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go open.Serve(l2)
	t.Cleanup(func() { open.Close() })
	in.Server = l2.Addr().String()
	_, err = h.client.SetMailSettings(ctx, in)
	assert.Error(t, err)
}
