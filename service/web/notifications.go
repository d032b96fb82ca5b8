package web

import (
	"context"
	"encoding/json"
	neturl "net/url"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/rights"
	"jugate/records"
	"jugate/service/notify"
)

// NotificationRuleRef names a notification rule in a path.
type NotificationRuleRef struct {
	Name string `path:"notification_rule" doc:"Its name" maxLength:"63" example:"failures"`
}

func (s *Server) notificationRoutes(h huma.API) {
	const tag = "notifications"
	lists(s, h, op("GET", "/notifications/events", "list-notification-events", tag, "List what people and programs can be told of"),
		func(context.Context, *Nothing) ([]api.NotificationEvent, int, error) {
			return uncut(NotificationEvents())
		})
	lists(s, h, op("GET", "/notifications/rules", "list-notification-rules", tag, "List who is told of what"),
		func(ctx context.Context, _ *Nothing) ([]api.NotificationRule, int, error) {
			all, err := s.Notify.Rules(ctx)
			for i := range all {
				all[i] = shownTo(ctx, all[i])
			}
			return uncut(all, err)
		})
	answers(s, h, op("GET", "/notifications/rules/{notification_rule}", "get-notification-rule", tag, "Show a rule"),
		func(ctx context.Context, in *NotificationRuleRef) (api.NotificationRule, error) {
			r, err := s.Notify.Rule(ctx, in.Name)
			return shownTo(ctx, r), err
		})
	answers(s, h, op("PUT", "/notifications/rules/{notification_rule}", "set-notification-rule", tag, "Say who is told of what"),
		func(ctx context.Context, in *struct {
			NotificationRuleRef
			Body api.NewNotificationRule
		}) (api.NotificationRule, error) {
			return s.Notify.Put(ctx, in.Name, in.Body)
		})
	does(s, h, op("DELETE", "/notifications/rules/{notification_rule}", "remove-notification-rule", tag, "Forget a rule"),
		func(ctx context.Context, in *NotificationRuleRef) error { return s.Notify.Remove(ctx, in.Name) })
	answers(s, h, op("POST", "/notifications/rules/{notification_rule}/try", "try-notification-rule", tag, "Send a message by a rule now"),
		func(ctx context.Context, in *NotificationRuleRef) (api.Message, error) {
			return s.Notify.Try(ctx, in.Name)
		})
	lists(s, h, op("GET", "/notifications/messages", "list-messages", tag, "List what was told, and is to be, the newest first"),
		func(ctx context.Context, in *struct {
			Paging
			Rule  string `query:"rule" doc:"Of one rule" maxLength:"63" example:"failures"`
			State string `query:"state" doc:"In one state" enum:"waiting,sent,given up" example:"waiting"`
		}) ([]api.Message, int, error) {
			return s.Notify.Messages(ctx, records.MessageFilter{Rule: in.Rule, State: in.State}, in.page())
		})
	does(s, h, op("POST", "/notifications/messages/{message}/send", "send-again", tag, "Send a message once more"),
		func(ctx context.Context, in *struct {
			ID string `path:"message" doc:"Its id" maxLength:"50" example:"msg_2mXc0Zr1VdQe8yJkTg3L5aBn"`
		}) error {
			return s.Notify.SendAgain(ctx, in.ID)
		})
	answers(s, h, op("GET", "/notifications/mail", "get-mail-settings", tag, "Tell which server takes mail"),
		func(ctx context.Context, _ *Nothing) (api.MailSettings, error) { return s.Notify.Mail(ctx) })
	answers(s, h, op("PUT", "/notifications/mail", "set-mail-settings", tag, "Say which server takes mail"),
		func(ctx context.Context, in *struct{ Body api.NewMailSettings }) (api.MailSettings, error) {
			return s.Notify.SetMail(ctx, in.Body)
		})
	does(s, h, op("POST", "/notifications/mail/try", "try-mail", tag, "Send a mail to somebody now"),
		func(ctx context.Context, in *struct{ Body api.MailTry }) error { return s.Notify.TryMail(ctx, in.Body) })
}

// shownTo is a rule as the caller may see it. With many programs whoever knows the address of their webhooks can write to them: just
// who may change the rule sees more than the host.
func shownTo(ctx context.Context, r api.NotificationRule) api.NotificationRule {
	if u, err := neturl.Parse(r.Webhook); err == nil && r.Webhook != "" && !callerIn(ctx).Holder.May(rights.Administer) {
		r.Webhook = u.Scheme + "://" + u.Host + "/…"
	}
	return r
}

// NotificationEvents are the events that there are, each with the JSON Schema of its data.
func NotificationEvents() ([]api.NotificationEvent, error) {
	var all []api.NotificationEvent
	for _, e := range notify.Catalogue {
		r := registry()
		schema, err := plainJSON(map[string]any{"$schema": jsonSchema, "$ref": r.Schema(reflect.TypeOf(e.Data), true, "").Ref, "$defs": r.Map()})
		if err != nil {
			return nil, err
		}
		all = append(all, api.NotificationEvent{Event: e.Name, Means: e.Means, Groups: e.Groups, Schema: schema})
	}
	return all, nil
}

// NotificationSchema is the JSON Schema of what webhooks are sent, whatever has happened.
func NotificationSchema() (map[string]any, error) {
	r := registry()
	var kinds []any
	for _, e := range notify.Catalogue {
		kinds = append(kinds, map[string]any{"title": e.Name, "description": e.Means, "properties": map[string]any{"type": map[string]any{"const": e.Name}, "data": r.Schema(reflect.TypeOf(e.Data), true, "")}})
	}
	return plainJSON(map[string]any{
		"$schema": jsonSchema, "title": "A webhook of Jugate", "type": "object", "required": []string{"type", "timestamp", "what", "data"}, "additionalProperties": false,
		"properties": map[string]any{"type": map[string]any{"type": "string"}, "timestamp": map[string]any{"type": "string", "format": "date-time"}, "what": map[string]any{"type": "string"}, "data": map[string]any{"type": "object"}},
		"oneOf":      kinds, "$defs": r.Map(),
	})
}

const jsonSchema = "https://json-schema.org/draft/2020-12/schema"

// registry is one of schemas that lie in one document.
func registry() huma.Registry { return huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer) }

// plainJSON is a value as JSON has it.
func plainJSON(v any) (out map[string]any, err error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(text, &out)
}
