// Package domains has delivered systems join their domain: it knows the directory accounts that
// create computers, and creates one, or gives it another password, when a workstation takes its
// delivery. The administrators' passwords are nowhere; the account has the right to create
// computers in one unit, and no other.
package domains

import (
	"context"
	"log/slog"
	"net"
	"regexp"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/join"
	"jugate/ldaps"
	"jugate/records"
)

// Secrets seals what must not be read in the records.
type Secrets interface {
	Seal(about, text string) (string, error)
	Unseal(about, text string) (string, error)
}

// Domains knows the domains of a service.
type Domains struct {
	Records *records.DB
	Secrets Secrets
	Log     *slog.Logger
	Now     func() time.Time
	// Dial reaches a directory; nil does it as usual.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

var nameForm = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// about is what a password is sealed for.
func about(domain string) string { return "domain " + domain }

// Add enters a domain, or enters it anew, if its directory takes the account and lets it create
// computers in the unit.
func (d *Domains) Add(ctx context.Context, in api.NewDomain) (api.DomainCheck, error) {
	in.Name = strings.ToLower(strings.TrimSuffix(in.Name, "."))
	if !nameForm.MatchString(in.Name) {
		return api.DomainCheck{}, fault.Invalid.Errorf("%q is not the DNS name of a domain, such as fennholt.example", in.Name)
	}
	if in.Server == "" {
		in.Server = "ldaps://" + in.Name
	}
	if err := ldaps.CheckServer(in.Server, "dc1."+in.Name); err != nil {
		return api.DomainCheck{}, err
	}
	if _, err := ldap.ParseDN(in.Unit); err != nil {
		return api.DomainCheck{}, fault.Invalid.Errorf("%q is not a distinguished name, such as OU=Workstations,%s", in.Unit, baseOf(in.Name))
	}
	row := records.Domain{Name: in.Name, Server: in.Server, Account: in.Account, Unit: in.Unit, Certificate: in.Certificate, Added: d.Now()}
	check, err := d.look(ctx, &row, in.Password)
	if err != nil {
		return check, err
	}
	if row.Secret, err = d.Secrets.Seal(about(in.Name), in.Password); err != nil {
		return check, err
	}
	d.Log.Info("domain added", "domain", in.Name, "server", in.Server, "account", in.Account, "unit", in.Unit, "by", actor.From(ctx))
	return check, d.Records.PutDomain(ctx, row)
}

// List lists the domains.
func (d *Domains) List(ctx context.Context) ([]api.Domain, error) {
	rows, err := d.Records.Domains(ctx)
	all := make([]api.Domain, len(rows))
	for i, r := range rows {
		all[i] = api.Domain{Name: r.Name, Server: r.Server, Account: r.Account, Unit: r.Unit, Added: r.Added}
	}
	return all, err
}

// Remove forgets a domain, with its password. Computers stay in it.
func (d *Domains) Remove(ctx context.Context, name string) error {
	d.Log.Info("domain removed", "domain", name, "by", actor.From(ctx))
	return d.Records.RemoveDomain(ctx, name)
}

// Check asks a domain's directory whether everything is as a join needs it.
func (d *Domains) Check(ctx context.Context, name string) (api.DomainCheck, error) {
	row, password, err := d.find(ctx, name)
	if err != nil {
		return api.DomainCheck{}, err
	}
	return d.look(ctx, row, password)
}

func (d *Domains) find(ctx context.Context, name string) (*records.Domain, string, error) {
	row, err := d.Records.Domain(ctx, name)
	if err != nil {
		return nil, "", err
	}
	password, err := d.Secrets.Unseal(about(row.Name), row.Secret)
	return row, password, err
}

func (d *Domains) look(ctx context.Context, row *records.Domain, password string) (api.DomainCheck, error) {
	dir, err := d.open(ctx, row, password)
	if err != nil {
		return api.DomainCheck{}, err
	}
	defer dir.conn.Close()
	return api.DomainCheck{Name: row.Name, Controller: dir.Controller, ShortName: dir.Short, Site: dir.Site, Unit: row.Unit, ClockAhead: int(dir.ahead.Round(time.Second).Seconds())}, nil
}

// Problems tells by name why computers could not join a domain. The error says why none could:
// a fault.Conflict, or join.ErrAway if nobody could be asked.
func (d *Domains) Problems(ctx context.Context, domain string, names []string) (map[string]string, error) {
	row, password, err := d.find(ctx, domain)
	if err != nil {
		return nil, fault.Conflict.Mark(err)
	}
	dir, err := d.open(ctx, row, password)
	if err != nil {
		return nil, err
	}
	defer dir.conn.Close()
	problems := map[string]string{}
	for _, name := range names {
		if _, err := dir.computer(name); err != nil {
			problems[name] = err.Error()
		}
	}
	return problems, nil
}

// Join creates a computer in a domain, or gives the one that is there another password.
func (d *Domains) Join(ctx context.Context, domain, name string) (*join.Member, error) {
	row, password, err := d.find(ctx, domain)
	if err != nil {
		return nil, fault.Conflict.Mark(err)
	}
	dir, err := d.open(ctx, row, password)
	if err != nil {
		return nil, err
	}
	defer dir.conn.Close()
	m, created, err := dir.join(name)
	if err != nil {
		return nil, err
	}
	d.Log.Info("computer in the domain", "workstation", name, "domain", row.Name, "created", created)
	return m, nil
}
