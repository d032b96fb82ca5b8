package api

import "time"

// NotificationEvent is something that people and programs can be told of.
type NotificationEvent struct {
	Event  string         `json:"event" example:"delivery.ended"`
	Means  string         `json:"means"`
	Groups bool           `json:"of_groups" doc:"It is of workstations: a rule can be for those of some groups"`
	Schema map[string]any `json:"data_schema" doc:"JSON Schema (2020-12) of what a webhook has as data"`
}

// NotificationRule says who is told of which events.
type NotificationRule struct {
	Rule    string    `json:"rule"`
	Events  []string  `json:"events" nullable:"false"`
	Groups  []string  `json:"groups" nullable:"false" doc:"Of whose workstations; empty for all, and for what is of no workstation"`
	MailTo  []string  `json:"mail_to" nullable:"false"`
	Webhook string    `json:"webhook"`
	Paused  bool      `json:"paused"`
	Trouble string    `json:"trouble" doc:"Why the last message was not taken; empty if it was"`
	Waiting int       `json:"waiting_count" doc:"Messages that wait"`
	Added   time.Time `json:"added"`
	Secret  string    `json:"webhook_secret,omitempty" doc:"What its webhooks are signed with; told once, when it is made"`
}

// NewNotificationRule enters a rule, or replaces the one of its name.
type NewNotificationRule struct {
	Events      []string `json:"events" nullable:"false" minItems:"1" maxItems:"50" doc:"What to tell of" example:"[\"receipt.failed\",\"part.troubled\"]"`
	Groups      []string `json:"groups,omitempty" nullable:"false" maxItems:"100" doc:"Of workstations of these groups alone" example:"[\"herbarium\"]"`
	MailTo      []string `json:"mail_to,omitempty" nullable:"false" maxItems:"20" doc:"Who gets a mail" example:"[\"ines@fennholt.example\"]"`
	Webhook     string   `json:"webhook,omitempty" maxLength:"1000" doc:"The https address that takes webhooks" example:"https://chat.fennholt.example/hooks/desk"`
	Certificate string   `json:"certificate,omitempty" maxLength:"65536" doc:"PEM of the authority of the webhook's server; by default those that this machine trusts" example:"-----BEGIN CERTIFICATE-----"`
	Paused      bool     `json:"paused,omitempty" doc:"Nothing is sent; messages wait"`
	NewSecret   bool     `json:"new_webhook_secret,omitempty" doc:"Sign with another secret from now on"`
}

// Message is what a rule has told of an event, or is going to.
type Message struct {
	Message  string     `json:"message"`
	Rule     string     `json:"rule"`
	Event    string     `json:"event"`
	What     string     `json:"what" doc:"In words"`
	State    string     `json:"state" enum:"waiting,sent,given up"`
	Attempts int        `json:"attempts"`
	Created  time.Time  `json:"created"`
	Due      *time.Time `json:"due,omitempty" doc:"When it is sent, or tried again"`
	Ended    *time.Time `json:"ended,omitempty"`
	Trouble  string     `json:"trouble" doc:"Why it was not taken the last time"`
}

// WebhookPayload is the body of a webhook.
type WebhookPayload struct {
	Type      string    `json:"type" doc:"The event" example:"delivery.ended"`
	Timestamp time.Time `json:"timestamp" doc:"When it happened"`
	What      string    `json:"what" doc:"In words"`
	Data      any       `json:"data" doc:"As the event's schema says"`
}

// MailSettings say which server takes mail.
type MailSettings struct {
	Server   string `json:"server" doc:"HOST:PORT; empty while there is none"`
	Security string `json:"mail_security" enum:"starttls,tls,none"`
	Account  string `json:"account"`
	Sender   string `json:"sender" doc:"Whom mail comes from"`
}

// NewMailSettings say which server takes mail from now on.
type NewMailSettings struct {
	Server      string `json:"server" maxLength:"300" doc:"HOST or HOST:PORT; empty for none" example:"mail.fennholt.example:587"`
	Security    string `json:"mail_security,omitempty" enum:"starttls,tls,none" default:"starttls" doc:"How the line is kept from being read: TLS begun after the greeting, from the start, or not at all, on this very machine only"`
	Account     string `json:"account,omitempty" maxLength:"300" doc:"To sign in with; none if the server asks for none" example:"jugate"`
	Password    string `json:"password,omitempty" maxLength:"500" doc:"Of the account; left out, it stays, at the same server" example:"sundial"`
	Sender      string `json:"sender" maxLength:"300" doc:"Whom mail comes from" example:"jugate@fennholt.example"`
	Certificate string `json:"certificate,omitempty" maxLength:"65536" doc:"PEM of the authority of the server; by default those that this machine trusts" example:"-----BEGIN CERTIFICATE-----"`
}

// MailTry asks for a mail.
type MailTry struct {
	To string `json:"to_address" minLength:"3" maxLength:"300" doc:"Who gets it" example:"ines@fennholt.example"`
}

// NotificationsChanged says that a rule, or what came of messages, has changed.
type NotificationsChanged struct{}

// WebhookTry is the data of a message that somebody tries a rule with.
type WebhookTry struct {
	Rule string `json:"rule"`
	By   string `json:"by"`
}
