package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

func rulePath(name string) string { return "notifications/rules/" + url.PathEscape(name) }

// NotificationEvents lists what people and programs can be told of.
func (c *Client) NotificationEvents(ctx context.Context) (api.Page[api.NotificationEvent], error) {
	return list[api.NotificationEvent](ctx, c, "notifications/events", List{})
}

// NotificationRules lists who is told of what.
func (c *Client) NotificationRules(ctx context.Context) (api.Page[api.NotificationRule], error) {
	return list[api.NotificationRule](ctx, c, "notifications/rules", List{})
}

// SetNotificationRule says who is told of what. The answer has the secret of webhooks if it was made now.
func (c *Client) SetNotificationRule(ctx context.Context, name string, in api.NewNotificationRule) (api.NotificationRule, error) {
	return one[api.NotificationRule](ctx, c, http.MethodPut, rulePath(name), in)
}

// RemoveNotificationRule forgets one, with its messages.
func (c *Client) RemoveNotificationRule(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/"+rulePath(name), nil, nil)
}

// TryNotificationRule sends a message by a rule now.
func (c *Client) TryNotificationRule(ctx context.Context, name string) (api.Message, error) {
	return one[api.Message](ctx, c, http.MethodPost, rulePath(name)+"/try", nil)
}

// Messages lists what was told, and is to be, the newest first.
func (c *Client) Messages(ctx context.Context, l List) (api.Page[api.Message], error) {
	return list[api.Message](ctx, c, "notifications/messages", l)
}

// SendAgain has a message be sent once more.
func (c *Client) SendAgain(ctx context.Context, message string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/notifications/messages/"+url.PathEscape(message)+"/send", nil, nil)
}

// MailSettings tell which server takes mail.
func (c *Client) MailSettings(ctx context.Context) (api.MailSettings, error) {
	return one[api.MailSettings](ctx, c, http.MethodGet, "notifications/mail", nil)
}

// SetMailSettings says which server takes mail.
func (c *Client) SetMailSettings(ctx context.Context, in api.NewMailSettings) (api.MailSettings, error) {
	return one[api.MailSettings](ctx, c, http.MethodPut, "notifications/mail", in)
}

// TryMail sends a mail to somebody now.
func (c *Client) TryMail(ctx context.Context, to string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/notifications/mail/try", api.MailTry{To: to}, nil)
}
