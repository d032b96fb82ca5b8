package notify

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/core/trust"
	"jugate/records"
)

// about is what the secret of a rule is sealed for.
func about(rule string) string { return "notification rule " + strings.ToLower(rule) }

// Rules lists the rules.
func (n *Notify) Rules(ctx context.Context) ([]api.NotificationRule, error) {
	rows, err := n.Records.NotificationRules(ctx)
	all := make([]api.NotificationRule, len(rows))
	for i, r := range rows {
		all[i] = ruleOf(r)
	}
	return all, err
}

// Rule tells of one rule.
func (n *Notify) Rule(ctx context.Context, name string) (api.NotificationRule, error) {
	r, err := n.Records.NotificationRule(ctx, name)
	if err != nil {
		return api.NotificationRule{}, err
	}
	return ruleOf(*r), nil
}

func ruleOf(r records.NotificationRule) api.NotificationRule {
	return api.NotificationRule{Rule: r.Name, Events: r.Events, Groups: r.Groups, MailTo: r.MailTo, Webhook: r.Webhook, Paused: r.Paused, Trouble: r.Trouble, Waiting: r.Waiting, Added: r.Added.UTC()}
}

// Put enters a rule, or replaces the one of its name. The answer has the secret of its webhooks if that was made now.
func (n *Notify) Put(ctx context.Context, name string, in api.NewNotificationRule) (api.NotificationRule, error) {
	if err := n.check(ctx, name, in); err != nil {
		return api.NotificationRule{}, err
	}
	row := records.NotificationRule{Name: name, Events: in.Events, Groups: in.Groups, MailTo: in.MailTo, Webhook: in.Webhook, Certificate: in.Certificate, Paused: in.Paused, Added: n.Now()}
	before, err := n.Records.NotificationRule(ctx, name)
	if err != nil && !errors.Is(err, fault.NotFound) {
		return api.NotificationRule{}, err
	}
	var secret string
	switch {
	case in.Webhook == "":
	case err == nil && before.Secret != "" && !in.NewSecret && before.Webhook == in.Webhook: // another address does not get the secret of this one
		row.Secret = before.Secret
		if in.Certificate == "" {
			row.Certificate = before.Certificate
		}
	default:
		secret = newSecret()
		if row.Secret, err = n.Secrets.Seal(about(name), secret); err != nil {
			return api.NotificationRule{}, err
		}
	}
	if err := n.Records.PutNotificationRule(ctx, row); err != nil {
		return api.NotificationRule{}, err
	}
	n.Log.Info("notification rule set", "rule", name, "events", in.Events, "by", actor.From(ctx))
	n.forgetTold()
	n.Publish(api.NotificationsChanged{})
	n.ring()
	out, err := n.Rule(ctx, name)
	out.Secret = secret
	return out, err
}

// check refuses a rule that nobody could be told by.
func (n *Notify) check(ctx context.Context, name string, in api.NewNotificationRule) error {
	if err := roster.CheckName("a notification rule", name); err != nil {
		return err
	}
	if err := checkEvents(in.Events, len(in.Groups) > 0); err != nil {
		return err
	}
	for _, g := range in.Groups {
		if _, err := n.Records.Group(ctx, g); err != nil {
			return err
		}
	}
	switch {
	case (len(in.MailTo) > 0) == (in.Webhook != ""):
		return fault.Invalid.Errorf("a rule tells either people by mail or one address by webhooks: say one of the two")
	case in.Webhook != "":
		if err := checkWebhook(in.Webhook); err != nil {
			return err
		}
		if _, err := trust.Pool(in.Certificate); err != nil {
			return fault.Invalid.Errorf("the certificate of the webhook's authority: %w", err)
		}
		return nil
	}
	for _, to := range in.MailTo {
		if err := checkAddress(to); err != nil {
			return err
		}
	}
	return nil
}

// checkAddress refuses what is not the address of one person (RFC 5322, addr-spec).
func checkAddress(text string) error {
	a, err := mail.ParseAddress(text)
	if err != nil || a.Address != text {
		return fault.Invalid.Errorf("%q is not a mail address such as ines@fennholt.example", text)
	}
	return nil
}

// checkWebhook refuses an address whose line anybody could read.
func checkWebhook(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && !(u.Scheme == "http" && here(u.Hostname())) {
		return fault.Invalid.Errorf("%q is not an https address that takes webhooks (http is taken for a program on this very machine)", text)
	}
	return nil
}

// here tells whether a host is this very machine.
func here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// newSecret is one that webhooks are signed with: 32 bytes, as Standard Webhooks writes them.
func newSecret() string {
	b := make([]byte, 32)
	rand.Read(b)
	return "whsec_" + base64.StdEncoding.EncodeToString(b)
}

// Remove forgets a rule, with its messages.
func (n *Notify) Remove(ctx context.Context, name string) error {
	if err := n.Records.RemoveNotificationRule(ctx, name); err != nil {
		return err
	}
	n.Publish(api.NotificationsChanged{})
	return nil
}

// Try sends a message by a rule at once, and tells what came of it. It is an error if it was not taken.
func (n *Notify) Try(ctx context.Context, name string) (api.Message, error) {
	r, err := n.Records.NotificationRule(ctx, name)
	if err != nil {
		return api.Message{}, err
	}
	now := n.Now()
	id := newID()
	h := happening{event: tried, subject: id, at: now, data: api.WebhookTry{Rule: r.Name, By: actor.From(ctx).String()}, what: fmt.Sprintf("%s tries the rule %s", actor.From(ctx), r.Name)}
	m, err := n.message(*r, h)
	if err != nil {
		return api.Message{}, err
	}
	m.ID = id
	if trouble := n.sendBy(ctx, r, []records.Message{m}).err; trouble != nil {
		return api.Message{}, fault.Conflict.Errorf("the rule %s does not work: %w", r.Name, trouble)
	}
	ended := n.Now().UTC()
	return api.Message{Message: id, Rule: r.Name, Event: tried, What: m.What, State: "sent", Attempts: 1, Created: now.UTC(), Ended: &ended}, nil
}

// Messages lists what was told, and is to be, the newest first.
func (n *Notify) Messages(ctx context.Context, f records.MessageFilter, p records.Page) ([]api.Message, int, error) {
	rows, total, err := n.Records.Messages(ctx, f, p)
	all := make([]api.Message, len(rows))
	for i, m := range rows {
		all[i] = api.Message{Message: m.ID, Rule: m.Rule, Event: m.Event, What: m.What, State: m.State, Attempts: m.Attempts, Created: m.Created.UTC(), Due: records.TimeOf(m.Due), Ended: records.TimeOf(m.Ended), Trouble: m.Trouble}
	}
	return all, total, err
}

// SendAgain has a message be sent once more.
func (n *Notify) SendAgain(ctx context.Context, id string) error {
	if err := n.Records.SendAgain(ctx, id, n.Now()); err != nil {
		return err
	}
	n.Publish(api.NotificationsChanged{})
	n.ring()
	return nil
}
