package domains_test

import (
	"context"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/join"
	"jugate/lab"
	"jugate/records/recordstest"
	"jugate/service/access"
	"jugate/service/domains"
)

const (
	unit = "OU=Workstations,DC=fennholt,DC=example"
)

// office is a service with a real domain controller in a network of their own.
type office struct {
	*domains.Domains
	t      *testing.T
	net    *lab.Network
	domain *lab.Domain
	dir    string
}

func newOffice(t *testing.T) *office {
	for _, program := range []string{"samba", "samba-tool", "net", "adcli", "kinit"} {
		_, err := exec.LookPath(program)
		require.NoError(t, err, "`make setup` installs it")
	}
	n, err := lab.NewNetwork(t.Context(), "dc1", "desk")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	o := &office{t: t, net: n, dir: t.TempDir()}
	o.domain, err = n.Host("dc1").StartDomain(t.Context(), o.folder("dc1"))
	require.NoError(t, err)
	t.Cleanup(func() { o.domain.Close() })
	require.NoError(t, o.domain.Resolve(n.Host("desk")))
	require.NoError(t, o.domain.Joiner(t.Context(), unit, "jugate"))
	db := recordstest.Open(t, time.Now())
	keys, err := access.Open(o.dir, access.Names{}, slog.New(slog.DiscardHandler), time.Now)
	require.NoError(t, err)
	o.Domains = &domains.Domains{Records: db, Secrets: keys, Log: slog.New(slog.DiscardHandler), Now: time.Now,
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			return n.Host("desk").Dial(ctx, network, address)
		}}
	return o
}

func (o *office) folder(name string) string {
	dir := filepath.Join(o.dir, name)
	require.NoError(o.t, os.MkdirAll(dir, 0o755))
	return dir
}

func (o *office) entry() api.NewDomain {
	return api.NewDomain{Name: "Fennholt.example", Server: "ldaps://" + o.net.Host("dc1").Address.String(), Account: "jugate@" + lab.DomainName, Password: lab.DomainPassword, Unit: unit, Certificate: string(o.domain.Authority)}
}

// run has a program of the desk do something, and returns what it prints.
func (o *office) run(env []string, name string, args ...string) (string, error) {
	cmd := o.net.Host("desk").Command(o.t.Context(), name, args...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// samba is the configuration of a computer that is not in the domain yet.
func (o *office) samba(name string) string {
	dir := o.folder(name)
	file := filepath.Join(dir, "smb.conf")
	text := "[global]\nrealm = " + lab.DomainRealm + "\nworkgroup = " + lab.DomainShort + "\nsecurity = ads\nnetbios name = " + name + "\n"
	for _, key := range []string{"private dir", "state directory", "cache directory", "lock directory", "pid directory"} {
		text += key + " = " + dir + "\n"
	}
	require.NoError(o.t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// kerberos is the configuration of Kerberos programs, in an environment variable.
func (o *office) kerberos() []string {
	file := filepath.Join(o.dir, "krb5.conf")
	require.NoError(o.t, os.WriteFile(file, []byte("[libdefaults]\ndefault_realm = "+lab.DomainRealm+"\ndns_lookup_kdc = true\nrdns = false\n"), 0o644))
	return []string{"KRB5_CONFIG=" + file, "KRB5CCNAME=FILE:" + filepath.Join(o.dir, "tickets")}
}

func TestComputersJoinARealDomain(t *testing.T) {
	o := newOffice(t)
	ctx := t.Context()
	check, err := o.Add(ctx, o.entry())
	require.NoError(t, err)
	assert.Equal(t, api.DomainCheck{Name: "fennholt.example", Controller: "dc1.fennholt.example", ShortName: "FENNHOLT", Site: "Default-First-Site-Name", Unit: unit, ClockAhead: check.ClockAhead}, check)
	all, err := o.List(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	problems, err := o.Problems(ctx, "fennholt.example", []string{"herb-01", "herbarium-scanning-01"})
	require.NoError(t, err)
	assert.Len(t, problems, 1)
	assert.Contains(t, problems["herbarium-scanning-01"], "longer than the 15 characters")

	t.Log("# the blob is taken by another program, which is in the domain then")
	m, err := o.Join(ctx, "fennholt.example", "herb-01")
	require.NoError(t, err)
	blob := filepath.Join(o.dir, "blob")
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(m.Blob() + "\x00") // as it reads files
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(blob, []byte(wide), 0o600))
	config := o.samba("HERB-01")
	out, err := o.run(nil, "net", "offlinejoin", "requestodj", "--configfile="+config, "loadfile="+blob)
	t.Logf("net offlinejoin requestodj: %s", out)
	require.NoError(t, err, out)
	out, err = o.run(nil, "net", "ads", "testjoin", "--configfile="+config)
	t.Logf("net ads testjoin: %s", out)
	require.NoError(t, err, out)
	assert.Contains(t, out, "Join is OK")

	t.Log("# so is the keytab")
	keytab := filepath.Join(o.dir, "krb5.keytab")
	write := func(m *join.Member) {
		keys, err := m.Keytab(time.Now())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(keytab, keys, 0o600))
	}
	write(m)
	out, err = o.run(o.kerberos(), "klist", "-k", "-e", keytab)
	require.NoError(t, err, out)
	assert.Contains(t, out, "host/herb-01.fennholt.example@FENNHOLT.EXAMPLE (aes256-cts-hmac-sha1-96)")
	testJoin := func() (string, error) {
		return o.run(o.kerberos(), "adcli", "testjoin", "--domain="+lab.DomainName, "--host-keytab="+keytab, "--verbose")
	}
	out, err = testJoin()
	t.Logf("adcli testjoin: %s", out)
	require.NoError(t, err, out)
	for _, kind := range []string{"aes256-cts-hmac-sha1-96", "aes128-cts-hmac-sha1-96"} { // each key opens an answer
		require.NoError(t, os.WriteFile(filepath.Join(o.dir, "one.conf"), []byte("[libdefaults]\ndefault_realm = "+lab.DomainRealm+"\ndefault_tkt_enctypes = "+kind+"\npermitted_enctypes = "+kind+"\ndns_lookup_kdc = true\n"), 0o644))
		out, err = o.run([]string{"KRB5_CONFIG=" + filepath.Join(o.dir, "one.conf"), "KRB5CCNAME=FILE:" + filepath.Join(o.dir, "one")}, "kinit", "-k", "-t", keytab, "HERB-01$")
		require.NoError(t, err, out)
	}

	t.Log("# the same computer again has another password, and the old one is worth nothing")
	again, err := o.Join(ctx, "fennholt.example", "HERB-01")
	require.NoError(t, err)
	assert.NotEqual(t, m.Password, again.Password)
	assert.Greater(t, again.KeyVersion, m.KeyVersion)
	_, err = o.run(o.kerberos(), "kinit", "-k", "-t", keytab, "HERB-01$")
	assert.Error(t, err)
	write(again)
	out, err = testJoin()
	require.NoError(t, err, out)

	t.Log("# what is in the way")
	_, err = o.domain.Tool(ctx, "computer", "create", "HERB-05")
	require.NoError(t, err)
	_, err = o.Join(ctx, "fennholt.example", "herb-05")
	assert.ErrorContains(t, err, "fennholt.example has a computer of this name already, outside the unit: CN=HERB-05,CN=Computers,DC=fennholt,DC=example")
	require.ErrorIs(t, err, fault.Conflict)
	_, err = o.Join(ctx, "fennholt.example", "herb*")
	assert.ErrorContains(t, err, "invalid '*' character", "a name is no pattern, which would find herb-05")

	t.Log("# nobody answers")
	require.NoError(t, o.domain.Close())
	_, err = o.Join(ctx, "fennholt.example", "herb-02")
	assert.ErrorIs(t, err, join.ErrAway)
	assert.ErrorIs(t, err, fault.Conflict)
	require.NoError(t, o.Remove(ctx, "FENNHOLT.example"))
	_, err = o.Join(ctx, "fennholt.example", "herb-02")
	assert.ErrorContains(t, err, "fennholt.example")
}

func TestADomainIsTriedBeforeItIsEntered(t *testing.T) {
	o := newOffice(t)
	ctx := t.Context()
	_, err := o.domain.Account(ctx, "reader")
	require.NoError(t, err)
	for complaint, wrong := range map[string]func(*api.NewDomain){
		"the account or its password is wrong":                                    func(d *api.NewDomain) { d.Password = "guessed" },
		"no unit OU=Kiosks,DC=fennholt,DC=example":                                func(d *api.NewDomain) { d.Unit = "OU=Kiosks,DC=fennholt,DC=example" },
		"reader@fennholt.example lacks the right to create computers":             func(d *api.NewDomain) { d.Account = "reader@" + lab.DomainName },
		"is not a distinguished name":                                             func(d *api.NewDomain) { d.Unit = "Workstations" },
		"LDAP without TLS":                                                        func(d *api.NewDomain) { d.Server = "ldap://dc1.fennholt.example" },
		"give the certificate of its authority":                                   func(d *api.NewDomain) { d.Certificate = "" },
		"the certificate for fennholt.example: it is not a certificate in PEM":    func(d *api.NewDomain) { d.Certificate = "MIIB" },
		`is not a domain controller of kiosks.example, but of "fennholt.example"`: func(d *api.NewDomain) { d.Name = "kiosks.example" },
		"is not the DNS name of a domain":                                         func(d *api.NewDomain) { d.Name = "FENNHOLT" },
	} {
		in := o.entry()
		wrong(&in)
		_, err := o.Add(ctx, in)
		assert.ErrorContains(t, err, complaint)
		assert.NotContains(t, strings.ToLower(err.Error()), strings.ToLower(in.Password))
	}
	now := o.Now
	o.Now = func() time.Time { return now().Add(-time.Hour) }
	_, err = o.Add(ctx, o.entry())
	assert.ErrorContains(t, err, "apart, and Kerberos takes 5m0s at most")
	all, err := o.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, all, "none was entered")
}
