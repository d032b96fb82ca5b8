package notify

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/trust"
	"jugate/records"
	"jugate/withdrawn"
)

// How the line to a mail server is kept from being read.
const (
	startTLS = "starttls" // TLS begun after the greeting (RFC 3207); without it nothing is sent
	withTLS  = "tls"      // TLS from the start (RFC 8314)
	openLine = "none"     // to a server on this very machine
)

// ports of mail servers by how the line is kept.
var ports = map[string]string{startTLS: "587", withTLS: "465", openLine: "25"}

const (
	// aboutMail is what the password of the mail account is sealed for.
	aboutMail = "mail server"
	// mailWithin is how long a server may take for a mail.
	mailWithin = 30 * time.Second
	// linesAtMost is how many messages go into one mail.
	linesAtMost = 200
)

// errNoMail says that nobody has said which server takes mail.
var errNoMail = fault.Conflict.Errorf("no server takes mail: say which one with jugate notification mail SERVER")

// Mail tells which server takes mail.
func (n *Notify) Mail(ctx context.Context) (api.MailSettings, error) {
	m, err := n.Records.Mailing(ctx)
	return api.MailSettings{Server: m.Server, Security: m.Security, Account: m.Account, Sender: m.Sender}, err
}

// SetMail says which server takes mail, if it answers and takes the account.
func (n *Notify) SetMail(ctx context.Context, in api.NewMailSettings) (api.MailSettings, error) {
	if in.Server == "" {
		if err := n.Records.SetMailing(ctx, records.Mailing{Security: startTLS}); err != nil {
			return api.MailSettings{}, err
		}
		n.Publish(api.NotificationsChanged{})
		return n.Mail(ctx)
	}
	m, err := mailingOf(in)
	if err != nil {
		return api.MailSettings{}, err
	}
	if in.Password == "" && m.Account != "" {
		if in.Password, err = n.passwordOf(ctx, m); err != nil {
			return api.MailSettings{}, err
		}
	}
	c, err := client(m, in.Password)
	if err != nil {
		return api.MailSettings{}, err
	}
	within, cancel := context.WithTimeout(ctx, mailWithin)
	defer cancel()
	if err := c.DialWithContext(within); err != nil {
		return api.MailSettings{}, fault.Conflict.Errorf("%s does not take mail: %w", m.Server, err)
	}
	c.Close() // what it says to QUIT changes nothing
	if in.Password != "" {
		if m.Secret, err = n.Secrets.Seal(aboutMail, in.Password); err != nil {
			return api.MailSettings{}, err
		}
	}
	if err := n.Records.SetMailing(ctx, m); err != nil {
		return api.MailSettings{}, err
	}
	n.Log.Info("mail server set", "server", m.Server, "security", m.Security, "by", actor.From(ctx))
	n.Publish(api.NotificationsChanged{})
	return n.Mail(ctx)
}

// mailingOf reads which server is to take mail. The port is the usual one if none was said.
func mailingOf(in api.NewMailSettings) (records.Mailing, error) {
	m := records.Mailing{Server: in.Server, Security: cmp.Or(in.Security, startTLS), Account: in.Account, Sender: in.Sender, Certificate: in.Certificate}
	host, port, err := net.SplitHostPort(in.Server)
	if err != nil {
		host, port = strings.Trim(in.Server, "[]"), ports[m.Security]
	}
	if number, err := strconv.ParseUint(port, 10, 16); err != nil || number == 0 || host == "" || strings.ContainsAny(host, "/@ ") {
		return m, fault.Invalid.Errorf("%q is not a server such as mail.fennholt.example or mail.fennholt.example:587", in.Server)
	}
	m.Server = net.JoinHostPort(host, port)
	switch {
	case m.Security == openLine && !here(host):
		return m, fault.Invalid.Errorf("the line to %s could be read by anybody: without TLS mail goes to a server on this very machine alone", host)
	case m.Account == "" && in.Password != "":
		return m, fault.Invalid.Errorf("say whose password that is")
	}
	return m, checkAddress(m.Sender)
}

// passwordOf is the one that is kept for an account at a server, so that who changes something else need not know it. Another server, or
// another account, does not get it.
func (n *Notify) passwordOf(ctx context.Context, m records.Mailing) (string, error) {
	kept, err := n.Records.Mailing(ctx)
	if err != nil || kept.Secret == "" || kept.Server != m.Server || kept.Account != m.Account {
		return "", err
	}
	return n.Secrets.Unseal(aboutMail, kept.Secret)
}

// TryMail sends a mail to somebody at once. It is an error if it was not taken.
func (n *Notify) TryMail(ctx context.Context, in api.MailTry) error {
	if err := checkAddress(in.To); err != nil {
		return err
	}
	err := n.mail(ctx, []string{in.To}, []records.Message{{ID: newID(), Event: tried, What: actor.From(ctx).String() + " tries whether mail comes", Created: n.Now()}})
	if err != nil && !errors.Is(err, errNoMail) {
		err = fault.Conflict.Errorf("the mail was not taken: %w", err)
	}
	return err
}

// client is one of a mail server.
func client(m records.Mailing, password string) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	roots, err := trust.Pool(m.Certificate)
	if err != nil {
		return nil, fault.Invalid.Errorf("the certificate of the mail server's authority: %w", err)
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(mailWithin), mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: roots, VerifyConnection: withdrawn.Check})}
	switch m.Security {
	case withTLS:
		options = append(options, mail.WithSSL())
	case openLine:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.Account != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.Account), mail.WithPassword(password))
	}
	return mail.NewClient(host, options...)
}

// mail sends messages to people, in one mail.
func (n *Notify) mail(ctx context.Context, to []string, messages []records.Message) error {
	m, err := n.Records.Mailing(ctx)
	if err != nil {
		return err
	}
	if m.Server == "" {
		return errNoMail
	}
	password := m.Secret
	if password != "" {
		if password, err = n.Secrets.Unseal(aboutMail, password); err != nil {
			return err
		}
	}
	c, err := client(m, password)
	if err != nil {
		return err
	}
	letter, err := n.letter(m.Sender, to, messages)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, mailWithin)
	defer cancel()
	if err := c.DialAndSendWithContext(ctx, letter); err != nil {
		return fmt.Errorf("%s: %w", m.Server, err)
	}
	return nil
}

// letter is a mail with a line for each message (RFC 5322). It says that a program wrote it, so that no absence note answers
// (RFC 3834).
func (n *Notify) letter(sender string, to []string, messages []records.Message) (*mail.Msg, error) {
	letter := mail.NewMsg()
	if err := errors.Join(letter.FromFormat("Jugate", sender), letter.To(to...)); err != nil {
		return nil, err
	}
	first := messages[0]
	subject := first.What
	if len(messages) > 1 {
		subject = fmt.Sprintf("%s, and %d more", first.What, len(messages)-1)
	}
	letter.Subject("Jugate: " + subject)
	letter.SetDateWithValue(n.Now())
	letter.SetMessageIDWithValue(first.ID + "@" + sender[strings.LastIndexByte(sender, '@')+1:])
	letter.SetGenHeader("Auto-Submitted", "auto-generated")
	var text strings.Builder
	for _, m := range messages {
		fmt.Fprintf(&text, "%s  %s\n", m.Created.Local().Format("2006-01-02 15:04:05"), m.What)
		if page := pageOf(m.Event, m.Subject); page != "" && n.Console != "" {
			fmt.Fprintf(&text, "    %s%s\n", n.Console, page)
		}
	}
	letter.SetBodyString(mail.TypeTextPlain, text.String())
	return letter, nil
}
