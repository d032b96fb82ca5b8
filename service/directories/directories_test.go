package directories_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/join"
	"jugate/core/rights"
	"jugate/lab"
	"jugate/records"
	"jugate/records/recordstest"
	"jugate/service/access"
	"jugate/service/directories"
)

const (
	base     = "dc=fennholt,dc=example"
	password = "the garden gate is green"
)

// desk is a service's people, with records of their own.
type desk struct {
	*directories.Directories
	t      *testing.T
	access *access.Access
	db     *records.DB
}

func newDesk(t *testing.T, dial func(ctx context.Context, network, address string) (net.Conn, error)) *desk {
	t.Helper()
	dir := t.TempDir()
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	db := recordstest.Open(t, time.Now())
	a, err := access.Open(dir, access.Names{}, log, time.Now)
	require.NoError(t, err)
	d := &desk{t: t, access: a, db: db, Directories: &directories.Directories{Records: db, Secrets: a, Log: log, Now: time.Now, Dial: dial}}
	a.Records, a.Directories = db, d.Directories
	require.NoError(t, db.AddGroup(t.Context(), "herbarium"))
	return d
}

var here = netip.MustParseAddr("192.0.2.7")

func (d *desk) signIn(name, password string) (access.Caller, error) {
	_, c, err := d.access.SignInPerson(d.t.Context(), here, api.SignIn{Name: name, Password: password}, "")
	return c, err
}

// server is a real slapd on the loopback interface.
type server struct {
	url, authority string
	cmd            *exec.Cmd
}

// ldif describes people and their groups.
func ldif(more string) string {
	text := "dn: " + base + "\nobjectClass: dcObject\nobjectClass: organization\no: Fennholt\ndc: fennholt\n\ndn: ou=people," + base + "\nobjectClass: organizationalUnit\nou: people\n\ndn: ou=groups," + base + "\nobjectClass: organizationalUnit\nou: groups\n\n"
	for uid, called := range map[string]string{"jugate": "Jugate", "ines": "Ines Fairholm", "tomas": "Tomas Arden", "wren": "Wren Okafor"} {
		text += fmt.Sprintf("dn: uid=%s,ou=people,%s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: x\nuserPassword: %s\n\n", uid, base, uid, called, password)
	}
	group := func(cn string, members ...string) {
		text += fmt.Sprintf("dn: cn=%s,ou=groups,%s\nobjectClass: groupOfNames\ncn: %s\n", cn, base, cn)
		for _, m := range members {
			text += "member: " + m + "," + base + "\n"
		}
		text += "\n"
	}
	group("Desk", "uid=ines,ou=people")
	group("Scanners", "uid=tomas,ou=people")
	group("Herbarium Team", "cn=Scanners,ou=groups")
	group("Staff", "cn=Herbarium Team,ou=groups", "cn=Staff,ou=groups", "uid=ines,ou=people") // within itself, too
	var many []string
	for n := range 10_000 {
		many = append(many, fmt.Sprintf("uid=guest-%d,ou=people", n))
	}
	group("Everybody", append(many, "cn=Staff,ou=groups")...)
	return text + more
}

func startServer(t *testing.T, more string) *server {
	t.Helper()
	for _, program := range []string{"/usr/sbin/slapd", "/usr/sbin/slapadd"} {
		require.FileExists(t, program, "`make setup` installs it")
	}
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Fennholt directory"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	s := &server{authority: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}
	certificate := write("certificate.pem", s.authority)
	keyFile := write("key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8})))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o700))
	config := write("slapd.conf", fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
pidfile %[1]s/pid
modulepath /usr/lib/ldap
moduleload back_mdb
TLSCertificateFile %[2]s
TLSCertificateKeyFile %[3]s
database mdb
maxsize 1073741824
suffix "%[4]s"
rootdn "cn=root,%[4]s"
rootpw root
directory %[1]s/db
index objectClass,uid,member,cn eq
access to attrs=userPassword by anonymous auth by * none
access to * by users read by * none
`, dir, certificate, keyFile, base))
	out, err := exec.CommandContext(t.Context(), "/usr/sbin/slapadd", "-q", "-f", config, "-l", write("data.ldif", ldif(more))).CombinedOutput()
	require.NoError(t, err, "%s", out)
	l, err := net.Listen("tcp", "127.0.0.1:0") // for a port that is free
	require.NoError(t, err)
	s.url = "ldaps://" + l.Addr().String()
	require.NoError(t, l.Close())
	s.cmd = exec.CommandContext(context.WithoutCancel(t.Context()), "/usr/sbin/slapd", "-d", "0", "-f", config, "-h", s.url)
	require.NoError(t, s.cmd.Start())
	t.Cleanup(s.stop)
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", strings.TrimPrefix(s.url, "ldaps://"))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 5*time.Minute, 20*time.Millisecond)
	return s
}

func (s *server) stop() {
	s.cmd.Process.Signal(os.Interrupt)
	s.cmd.Wait()
}

func (s *server) entry(name string, roles ...api.GroupRole) api.NewDirectory {
	return api.NewDirectory{Name: name, Server: s.url, Account: "uid=jugate,ou=people," + base, Password: password, Base: base, Certificate: s.authority, Roles: roles}
}

var roles = []api.GroupRole{{Group: "Desk", Role: "administrator", On: "everything"}, {Group: "cn=herbarium team, ou=groups, DC=fennholt, DC=example", Role: "engineer", On: "group:herbarium"}, {Group: "Everybody", Role: "reader", On: "everything"}}

func TestPeopleOfADirectorySignInWithWhatTheirGroupsMay(t *testing.T) {
	s := startServer(t, "")
	d := newDesk(t, nil)
	ctx := t.Context()

	t.Log("# what does not work is said when it is entered")
	for name, c := range map[string]struct {
		spoil func(*api.NewDirectory)
		says  string
	}{
		"plain LDAP":       {func(n *api.NewDirectory) { n.Server = "ldap://127.0.0.1" }, "without TLS would show passwords"},
		"no base":          {func(n *api.NewDirectory) { n.Base = "" }, "not a distinguished name"},
		"another base":     {func(n *api.NewDirectory) { n.Base = "dc=alpine,dc=example" }, "has no dc=alpine,dc=example"},
		"wrong password":   {func(n *api.NewDirectory) { n.Password = "wrong" }, "the account or its password is wrong"},
		"no password":      {func(n *api.NewDirectory) { n.Password = "" }, "without a password"},
		"not trusted":      {func(n *api.NewDirectory) { n.Certificate = "" }, "--certificate"},
		"another's":        {func(n *api.NewDirectory) { n.Server = strings.Replace(n.Server, "127.0.0.1", "localhost", 1) }, "is not trusted"},
		"nobody there":     {func(n *api.NewDirectory) { n.Server = "ldaps://127.0.0.1:1" }, "refused"},
		"no grants":        {func(n *api.NewDirectory) { n.Roles = nil }, "nobody could sign in"},
		"a group of none":  {func(n *api.NewDirectory) { n.Roles = []api.GroupRole{{Group: "Gardeners", Role: "reader"}} }, "has no group Gardeners"},
		"a role of none":   {func(n *api.NewDirectory) { n.Roles = []api.GroupRole{{Group: "Desk", Role: "king"}} }, "no such role: king"},
		"a scope of none":  {func(n *api.NewDirectory) { n.Roles = []api.GroupRole{{Group: "Desk", Role: "reader", On: "x:y"}} }, "nothing that a role can be for"},
		"a filter as name": {func(n *api.NewDirectory) { n.Roles = []api.GroupRole{{Group: "*)(cn=*", Role: "reader"}} }, "has no group *)(cn=*"},
	} {
		in := s.entry("garden", roles...)
		c.spoil(&in)
		_, err := d.Add(ctx, in)
		assert.ErrorContains(t, err, c.says, name)
	}
	check, err := d.Add(ctx, s.entry("garden", roles...))
	require.NoError(t, err)
	assert.Len(t, check.Groups, 3)
	row, err := d.db.Directory(ctx, "garden")
	require.NoError(t, err)
	assert.NotContains(t, row.Secret, password)

	t.Log("# groups within groups count, also one within itself, and with ten thousand members")
	ines, err := d.signIn("Ines", password)
	require.NoError(t, err)
	assert.True(t, ines.Holder.May(rights.Administer))
	tomas, err := d.signIn("tomas", password)
	require.NoError(t, err)
	assert.True(t, tomas.Holder.May(rights.See))
	assert.False(t, tomas.Holder.May(rights.Deliver))
	assert.True(t, tomas.Holder.Somewhere(rights.Deliver))
	p, err := d.access.Person(ctx, "tomas")
	require.NoError(t, err)
	assert.Equal(t, []api.Grant{{Role: "reader", On: "everything"}, {Role: "engineer", On: "group:herbarium"}}, p.Grants)
	assert.Equal(t, "garden", p.Directory)
	assert.Equal(t, "Tomas Arden", p.FullName)
	_, err = d.signIn("wren", password)
	assert.ErrorContains(t, err, "none of their groups there may do anything here")
	check, err = d.Check(ctx, "garden", "tomas")
	require.NoError(t, err)
	assert.Equal(t, 4, check.As.Groups)
	assert.Len(t, check.As.Grants, 2)

	t.Log("# what is typed is a name and a password, and nothing else")
	for _, bad := range [][2]string{{"ines", "wrong"}, {"ines", ""}, {"nobody", password}, {"*", password}, {"ines)(uid=*", password}, {"in*", password}, {"\x00", password}, {"uid=ines,ou=people," + base, password}} {
		_, err := d.signIn(bad[0], bad[1])
		assert.ErrorIs(t, err, fault.Stranger, bad[0])
		assert.ErrorContains(t, err, "the name or the password is wrong", bad[0])
	}
	_, err = d.access.Invite(ctx, "tomas")
	assert.ErrorContains(t, err, "the password of the directory garden")

	t.Log("# a group that is lost is a right that is lost, with a page open")
	change := exec.CommandContext(ctx, "ldapmodify", "-H", s.url, "-x", "-D", "cn=root,"+base, "-w", "root")
	authority := filepath.Join(t.TempDir(), "authority.pem")
	require.NoError(t, os.WriteFile(authority, []byte(s.authority), 0o600))
	change.Env = append(os.Environ(), "LDAPTLS_CACERT="+authority)
	change.Stdin = strings.NewReader("dn: cn=Scanners,ou=groups," + base + "\nchangetype: modify\nreplace: member\nmember: uid=wren,ou=people," + base + "\n")
	out, err := change.CombinedOutput()
	require.NoError(t, err, "%s", out)
	secret, c, err := d.access.SignInPerson(ctx, here, api.SignIn{Name: "wren", Password: password}, "")
	require.NoError(t, err)
	assert.True(t, c.Holder.Somewhere(rights.Deliver))
	d.access.RefreshPeople(ctx)
	p, err = d.access.Person(ctx, "tomas")
	require.NoError(t, err)
	assert.Empty(t, p.Grants)
	_, err = d.access.BySession(ctx, here, secret)
	require.NoError(t, err)

	t.Log("# who is moved is the same person, and who comes after somebody of that name is not")
	token, err := d.access.AddToken(ctx, ines, api.NewToken{Name: "nightly"})
	require.NoError(t, err)
	modify := func(ldif string) {
		cmd := exec.CommandContext(ctx, "ldapmodify", "-H", s.url, "-x", "-D", "cn=root,"+base, "-w", "root")
		cmd.Env, cmd.Stdin = append(os.Environ(), "LDAPTLS_CACERT="+authority), strings.NewReader(ldif)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	modify("dn: uid=ines,ou=people," + base + "\nchangetype: modrdn\nnewrdn: uid=ines\ndeleteoldrdn: 0\nnewsuperior: ou=groups," + base + "\n\ndn: cn=Desk,ou=groups," + base + "\nchangetype: modify\nreplace: member\nmember: uid=ines,ou=groups," + base + "\n")
	_, err = d.signIn("ines", password)
	require.NoError(t, err)
	_, err = d.access.ByToken(ctx, here, token.Secret, "")
	require.NoError(t, err)
	modify("dn: uid=ines,ou=groups," + base + "\nchangetype: delete\n\ndn: uid=ines,ou=people," + base + "\nchangetype: add\nobjectClass: inetOrgPerson\nuid: ines\ncn: Ines Holm\nsn: x\nuserPassword: " + password + "\n\ndn: cn=Desk,ou=groups," + base + "\nchangetype: modify\nreplace: member\nmember: uid=ines,ou=people," + base + "\n")
	_, err = d.signIn("ines", password)
	require.NoError(t, err)
	_, err = d.access.ByToken(ctx, here, token.Secret, "")
	assert.ErrorIs(t, err, fault.Stranger, "the token was another's")

	t.Log("# while the directory is away nobody new comes in, and who is in stays")
	s.stop()
	_, err = d.signIn("ines", password)
	assert.ErrorIs(t, err, fault.Unready)
	assert.ErrorIs(t, err, join.ErrAway)
	d.access.RefreshPeople(ctx)
	_, err = d.access.BySession(ctx, here, secret)
	assert.NoError(t, err)
	_, err = d.Check(ctx, "garden", "")
	assert.ErrorIs(t, err, join.ErrAway)
	assert.ErrorContains(t, d.Remove(ctx, "nowhere"), "no directory nowhere")
	require.NoError(t, d.Remove(ctx, "garden"))
	d.access.LookAgain()
	_, err = d.access.BySession(ctx, here, secret)
	assert.Error(t, err, "with the directory go its people")
}

func TestANameInTwoDirectories(t *testing.T) {
	twice := "dn: uid=rowan,ou=people," + base + "\nobjectClass: inetOrgPerson\nuid: rowan\ncn: a\nsn: x\nuserPassword: " + password + "\n\ndn: uid=rowan,ou=groups," + base + "\nobjectClass: inetOrgPerson\nuid: rowan\ncn: b\nsn: x\nuserPassword: " + password + "\n\n"
	one, two := startServer(t, twice), startServer(t, "")
	d := newDesk(t, nil)
	ctx := t.Context()
	for name, s := range map[string]*server{"alpine": one, "garden": two} {
		_, err := d.Add(ctx, s.entry(name, api.GroupRole{Group: "Staff", Role: "administrator"}))
		require.NoError(t, err)
	}
	_, err := d.signIn("ines", password)
	assert.ErrorContains(t, err, "sign in as ines@alpine or ines@garden")
	c, err := d.signIn("ines@garden", password)
	require.NoError(t, err)
	assert.Equal(t, "ines", c.Name)
	_, err = d.signIn("ines", password)
	assert.NoError(t, err, "from then on it is known which")
	_, err = d.signIn("ines@alpine", password)
	assert.ErrorContains(t, err, "somebody else is called ines here")
	_, err = d.signIn("rowan@alpine", password)
	assert.ErrorContains(t, err, "has two entries for rowan")

	t.Log("# a name of the service's own goes before")
	_, err = d.access.AddPerson(ctx, api.NewPerson{Name: "tomas", Grants: []api.Grant{{Role: "reader", On: "everything"}}})
	require.NoError(t, err)
	_, err = d.signIn("tomas", password)
	assert.ErrorIs(t, err, fault.Stranger)
}

// A real domain controller: groups within groups, an account that is disabled, and a clock of its own.
func TestPeopleOfADomainSignIn(t *testing.T) {
	for _, program := range []string{"samba", "samba-tool"} {
		_, err := exec.LookPath(program)
		require.NoError(t, err, "`make setup` installs it")
	}
	n, err := lab.NewNetwork(t.Context(), "dc1", "desk")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, n.Close()) })
	ctx := t.Context()
	domain, err := n.Host("dc1").StartDomain(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { domain.Close() })
	for _, args := range [][]string{{"user", "create", "jugate", lab.DomainPassword}, {"user", "create", "ines", lab.DomainPassword, "--given-name=Ines", "--surname=Fairholm"}, {"user", "create", "tomas", lab.DomainPassword},
		{"group", "add", "Scanners"}, {"group", "add", "Herbarium Team"}, {"group", "addmembers", "Scanners", "ines,tomas"}, {"group", "addmembers", "Herbarium Team", "Scanners"}} {
		_, err := domain.Tool(ctx, args...)
		require.NoError(t, err)
	}
	d := newDesk(t, n.Host("desk").Dial)
	_, err = d.Add(ctx, api.NewDirectory{Name: "garden", Server: "ldaps://" + n.Host("dc1").Address.String(), Account: "jugate@" + lab.DomainName, Password: lab.DomainPassword, Base: "DC=fennholt,DC=example", Certificate: string(domain.Authority),
		Roles: []api.GroupRole{{Group: "Herbarium Team", Role: "engineer", On: "group:herbarium"}}})
	require.NoError(t, err)
	c, err := d.signIn("INES", lab.DomainPassword)
	require.NoError(t, err)
	assert.Equal(t, "ines", c.Name)
	assert.True(t, c.Holder.Somewhere(rights.Deliver))
	_, err = d.signIn("tomas@"+lab.DomainName, lab.DomainPassword)
	assert.NoError(t, err, "by the name that the domain has for it, too")
	_, err = d.signIn("ines", "wrong")
	assert.ErrorContains(t, err, "the name or the password is wrong")
	_, err = d.signIn("dc1$", "x")
	assert.ErrorIs(t, err, fault.Stranger, "computers are not people")
	_, err = domain.Tool(ctx, "user", "disable", "tomas")
	require.NoError(t, err)
	_, err = d.signIn("tomas", lab.DomainPassword)
	assert.ErrorIs(t, err, fault.Stranger)
	check, err := d.Check(ctx, "garden", "tomas")
	require.NoError(t, err)
	assert.True(t, check.As.Disabled)
	d.access.RefreshPeople(ctx)
	p, err := d.access.Person(ctx, "tomas")
	require.NoError(t, err)
	assert.Empty(t, p.Grants)
	p, err = d.access.Person(ctx, "ines")
	require.NoError(t, err)
	assert.Len(t, p.Grants, 1)
}
