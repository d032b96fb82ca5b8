package notify

import (
	"context"
	"database/sql"
	"errors"
	"sync"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

// retries are the times between attempts, as Standard Webhooks recommends them: a message is given up after three days and some hours.
var retries = []time.Duration{5 * time.Second, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 5 * time.Hour, 10 * time.Hour, 14 * time.Hour, 20 * time.Hour, 24 * time.Hour}

const (
	// sendAtMost is how many messages are sent in one go.
	sendAtMost = 500
	// rulesAtOnce is how many rules send at the same time.
	rulesAtOnce = 8
	// keepFor is how long messages stay in the list that are over.
	keepFor = 30 * 24 * time.Hour
)

// Send sends what is due, and tells when the next message is. A rule whose messages are not taken does not keep others waiting.
func (n *Notify) Send(ctx context.Context) (next time.Time, err error) {
	if err := n.Records.ForgetMessages(ctx, n.Now().Add(-keepFor)); err != nil {
		return next, err
	}
	due, err := n.Records.DueMessages(ctx, n.Now(), sendAtMost)
	if err != nil {
		return next, err
	}
	byRule := map[string][]records.Message{}
	for _, m := range due {
		byRule[m.Rule] = append(byRule[m.Rule], m)
	}
	var work sync.WaitGroup
	var mu sync.Mutex
	room := make(chan struct{}, rulesAtOnce)
	for name, messages := range byRule {
		room <- struct{}{}
		work.Go(func() {
			defer func() { <-room }()
			if one := fault.Guard(func() error { return n.sendDue(ctx, name, messages) }); one != nil {
				mu.Lock()
				err = errors.Join(err, one)
				mu.Unlock()
			}
		})
	}
	work.Wait()
	if len(due) > 0 {
		n.Publish(api.NotificationsChanged{})
	}
	if err != nil {
		return next, err
	}
	return n.Records.NextMessage(ctx)
}

// sendDue sends the messages of a rule that are due.
func (n *Notify) sendDue(ctx context.Context, name string, messages []records.Message) error {
	r, err := n.Records.NotificationRule(ctx, name)
	if errors.Is(err, fault.NotFound) {
		return nil // it was removed meanwhile
	} else if err != nil {
		return err
	}
	for len(messages) > 0 {
		came := n.sendBy(ctx, r, messages)
		if ctx.Err() != nil {
			return ctx.Err() // the service is ending; this does not count as an attempt
		}
		if came.gone {
			return n.Records.PauseRule(ctx, r.ID, came.err.Error())
		}
		if err := n.note(ctx, r, messages[:came.of], came.err); err != nil {
			return err
		}
		messages = messages[came.of:]
	}
	return nil
}

// note records what came of messages that were tried. Each is tried again in its time.
func (n *Notify) note(ctx context.Context, r *records.NotificationRule, messages []records.Message, trouble error) error {
	byAttempt := map[int][]string{}
	for _, m := range messages {
		byAttempt[m.Attempts] = append(byAttempt[m.Attempts], m.ID)
	}
	for attempts, ids := range byAttempt {
		var due sql.NullTime
		words := ""
		if trouble != nil {
			words = trouble.Error()
			if attempts < len(retries) {
				due = sql.NullTime{Time: n.Now().Add(retries[attempts]).UTC(), Valid: true}
			}
			n.Log.Warn("messages were not taken", "rule", r.Name, "messages", len(ids), "again", due.Valid, "error", trouble)
		}
		if err := n.Records.TriedMessages(ctx, r.ID, ids, n.Now(), due, words); err != nil {
			return err
		}
	}
	return nil
}

// outcome is what came of an attempt.
type outcome struct {
	of   int   // how many messages, from the first, it is the outcome of
	err  error // why they were not taken
	gone bool  // the address says that it wants no more, ever
}

// sendBy sends the first of some messages by a rule: as many as go into one mail, or one webhook.
func (n *Notify) sendBy(ctx context.Context, r *records.NotificationRule, messages []records.Message) outcome {
	if r.Webhook == "" {
		messages = messages[:min(len(messages), linesAtMost)]
		return outcome{of: len(messages), err: n.mail(ctx, r.MailTo, messages)}
	}
	secret, err := n.Secrets.Unseal(about(r.Name), r.Secret)
	if err != nil {
		return outcome{of: len(messages), err: err}
	}
	m := messages[0]
	err = n.Hooks.Post(ctx, Endpoint{URL: r.Webhook, Certificate: r.Certificate, Secret: secret}, m.ID, n.Now(), m.Body)
	switch {
	case err == nil:
		return outcome{of: 1}
	case errors.Is(err, ErrRefused):
		return outcome{of: 1, err: err}
	}
	return outcome{of: len(messages), err: err, gone: errors.Is(err, ErrGone)} // it is the same for all
}
