package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"jugate/api"
	"jugate/apiclient"
)

func (a *app) notificationCommand() *cobra.Command {
	return noun("notification", "Say who is told of what happens: people by mail, programs by webhooks", a.notificationList(), a.notificationSet(), a.notificationTry(), a.notificationEvents(), a.notificationMessages(), a.notificationMail(),
		a.silent(&cobra.Command{
			Use: "remove RULE", Short: "Forget a rule, with its messages", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(ruleNames),
			Example: "  jugate notification remove failures",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.RemoveNotificationRule(ctx, args[0])
		}),
		a.silent(&cobra.Command{
			Use: "send-again MESSAGE", Short: "Send a message once more, as one that was given up", Args: cobra.ExactArgs(1),
			Example: "  jugate notification send-again msg_2mXc0Zr1VdQe8yJkTg3L5aBn",
		}, func(ctx context.Context, c *apiclient.Client, args []string) error {
			return c.SendAgain(ctx, args[0])
		}))
}

// toWhom says where a rule sends.
func toWhom(r api.NotificationRule) string {
	if r.Webhook != "" {
		return r.Webhook
	}
	return strings.Join(r.MailTo, " ")
}

func (a *app) notificationList() *cobra.Command {
	return list(a, lister[api.NotificationRule]{
		short: "List who is told of what", example: "  jugate notification list", what: "rules", none: "nobody is told of anything; jugate notification set says who is",
		fetch: uncut((*apiclient.Client).NotificationRules),
		columns: []column[api.NotificationRule]{
			{title: "rule", value: func(r api.NotificationRule) string { return r.Rule }},
			{title: "tells", value: toWhom},
			{title: "of", value: func(r api.NotificationRule) string { return strings.Join(r.Events, " ") }},
			{title: "groups", value: func(r api.NotificationRule) string {
				return pick(len(r.Groups) == 0, "all", strings.Join(r.Groups, " "))
			}},
			{title: "waiting", right: true, value: func(r api.NotificationRule) string { return strconv.Itoa(r.Waiting) }},
			{title: "trouble", value: func(r api.NotificationRule) string { return pick(r.Paused && r.Trouble == "", "paused", r.Trouble) }},
		},
	})
}

func (a *app) notificationSet() *cobra.Command {
	var in api.NewNotificationRule
	var certificate string
	cmd := &cobra.Command{
		Use: "set RULE --event EVENT {--mail ADDRESS | --webhook URL}", Short: "Say who is told of what", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(ruleNames),
		Long:    "Enter a rule, or replace the one of its name. A rule tells either people by mail, or a program by\nwebhooks (Standard Webhooks); what goes into one mail is gathered for half a minute. The secret that\nwebhooks are signed with is printed when it is made, this once.",
		Example: "  jugate notification set failures --event receipt.failed --event check.failed --group herbarium --mail ines@fennholt.example\n  jugate notification set chat --event delivery.ended --event part.troubled --webhook https://chat.fennholt.example/hooks/desk",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if in.Certificate, err = readAuthority(cmd, certificate); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.SetNotificationRule(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			fields := []field{{"rule", r.Rule}, {"tells", toWhom(r)}, {"of", strings.Join(r.Events, " ")}}
			if len(r.Groups) > 0 {
				fields = append(fields, field{"of workstations of", strings.Join(r.Groups, " ")})
			}
			if r.Secret != "" {
				fields = append(fields, field{"secret", r.Secret})
			}
			return show(cmd, a, r, fields...)
		},
	}
	cmd.Flags().StringArrayVar(&in.Events, "event", nil, "what to tell of; can be given several times; jugate notification events lists them")
	cmd.Flags().StringArrayVar(&in.Groups, "group", nil, "just of workstations of this group; can be given several times")
	cmd.Flags().StringArrayVar(&in.MailTo, "mail", nil, "who gets a mail; can be given several times")
	cmd.Flags().StringVar(&in.Webhook, "webhook", "", "the https address that takes webhooks")
	cmd.Flags().StringVar(&certificate, "certificate", "", "a PEM file with the authority of the webhook's server, if the service's machine does not trust it")
	cmd.Flags().BoolVar(&in.Paused, "paused", false, "send nothing; messages wait")
	cmd.Flags().BoolVar(&in.NewSecret, "new-secret", false, "sign webhooks with another secret from now on")
	cmd.MarkFlagRequired("event")
	return cmd
}

func (a *app) notificationTry() *cobra.Command {
	return &cobra.Command{
		Use: "try RULE", Short: "Send a message by a rule now, and tell whether it was taken", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(ruleNames),
		Example: "  jugate notification try failures",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			m, err := c.TryNotificationRule(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, a, m, field{"rule", m.Rule}, field{"message", m.Message}, field{"state", "taken"})
		},
	}
}

func (a *app) notificationEvents() *cobra.Command {
	return &cobra.Command{
		Use: "events", Short: "List what people and programs can be told of; as JSON with the schema of each", Args: cobra.NoArgs,
		Example: "  jugate notification events\n  jugate notification events --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			page, err := c.NotificationEvents(cmd.Context())
			if err != nil {
				return err
			}
			return printList(cmd, a, page.Items, []column[api.NotificationEvent]{
				{title: "event", value: func(e api.NotificationEvent) string { return e.Event }},
				{title: "can be for groups", value: func(e api.NotificationEvent) string { return yes(e.Groups, "yes") }},
				{title: "means", value: func(e api.NotificationEvent) string { return e.Means }},
			})
		},
	}
}

func (a *app) notificationMessages() *cobra.Command {
	inner := list(a, lister[api.Message]{
		short: "List what was told, and is to be, the newest first", example: "  jugate notification messages\n  jugate notification messages --state 'given up'", what: "messages", none: "nothing was told yet",
		fetch:   (*apiclient.Client).Messages,
		filters: []filter{{name: "rule", help: "of one rule", complete: a.complete(ruleNames)}, {name: "state", help: "in one state", values: []string{"waiting", "sent", "given up"}}},
		columns: []column[api.Message]{
			{title: "message", value: func(m api.Message) string { return m.Message }},
			{title: "rule", value: func(m api.Message) string { return m.Rule }},
			{title: "event", value: func(m api.Message) string { return m.Event }},
			{title: "at", value: func(m api.Message) string { return when(m.Created) }},
			{title: "state", value: func(m api.Message) string { return m.State }},
			{title: "attempts", right: true, value: func(m api.Message) string { return strconv.Itoa(m.Attempts) }},
			{title: "what", value: func(m api.Message) string { return m.What }},
			{title: "trouble", value: func(m api.Message) string { return m.Trouble }},
		},
	})
	inner.Use = "messages"
	return inner
}

func (a *app) notificationMail() *cobra.Command {
	var in api.NewMailSettings
	var certificate, try string
	var none bool
	cmd := &cobra.Command{
		Use: "mail [SERVER]", Short: "Say which server takes mail, or tell which one does", Args: cobra.MaximumNArgs(1),
		Long:    "Say which server takes mail, as HOST or HOST:PORT. The service signs in there first, and changes nothing\nif that fails. The password of the account is asked for, or read from standard input; it is sealed, and\nnever leaves the service. Without a server, tell which one takes mail; --try sends one to somebody.",
		Example: "  jugate notification mail mail.fennholt.example --account jugate --sender jugate@fennholt.example\n  jugate notification mail --try ines@fennholt.example\n  jugate notification mail --none",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			c, err := a.client()
			if err != nil {
				return err
			}
			var set api.MailSettings
			switch {
			case len(args) == 1 && none || none && try != "":
				return usageError{fmt.Errorf("--none is for no server, so there is nothing to set or to try")}
			case len(args) == 1:
				in.Server = args[0]
				if in.Certificate, err = readAuthority(cmd, certificate); err != nil {
					return err
				}
				if in.Account != "" {
					if in.Password, err = askSecret(cmd, "the password of "+in.Account); err != nil {
						return err
					}
				}
				set, err = c.SetMailSettings(cmd.Context(), in)
			case none:
				set, err = c.SetMailSettings(cmd.Context(), api.NewMailSettings{})
			default:
				set, err = c.MailSettings(cmd.Context())
			}
			if err != nil {
				return err
			}
			fields := []field{{"server", pick(set.Server == "", "none: no mail is sent", set.Server)}}
			if set.Server != "" {
				fields = append(fields, field{"security", set.Security}, field{"account", set.Account}, field{"sender", set.Sender})
			}
			if try != "" {
				if err := c.TryMail(cmd.Context(), try); err != nil {
					return err
				}
				fields = append(fields, field{"tried", "the server has taken a mail to " + try})
			}
			return show(cmd, a, set, fields...)
		},
	}
	cmd.Flags().StringVar(&in.Security, "security", "starttls", "how the line is kept from being read: starttls, tls, or none to a server on the service's own machine")
	cmd.Flags().StringVar(&in.Account, "account", "", "to sign in with")
	cmd.Flags().StringVar(&in.Sender, "sender", "", "whom mail comes from")
	cmd.Flags().StringVar(&certificate, "certificate", "", "a PEM file with the authority of the server, if the service's machine does not trust it")
	cmd.Flags().StringVar(&try, "try", "", "send a mail to this address now")
	cmd.Flags().BoolVar(&none, "none", false, "send no mail any more")
	cmd.RegisterFlagCompletionFunc("security", cobra.FixedCompletions([]string{"starttls", "tls", "none"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}
