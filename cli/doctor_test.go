package cli_test

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/records/recordstest"
	"jugate/service"
)

// welcome is the secret in a link for people.
var welcome = regexp.MustCompile(`[0-9a-f]{64}`)

// joinCode is what an outpost joins by.
var joinCode = regexp.MustCompile(`[0-9A-Z]{4}(-[0-9A-Z]{4}){6}`)

// The doctor finds what is wrong on the way to the service, and at it, and says what to do.
func TestTheDoctorAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	out, _ := d.run("doctor", "--all")
	assert.Contains(t, out, "good     way to the service: ")
	assert.Contains(t, out, "good     clocks: they agree")
	assert.Contains(t, out, "answered on no interface")
	assert.Contains(t, out, "→ jugate config set netboot")

	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := "https://" + closed.Addr().String()
	require.NoError(t, closed.Close())
	oldest, authority := longAgo(t)
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"nothing listens":    {[]string{"doctor", "--server", nobody}, "nothing listens at " + nobody},
		"a name of nobody":   {[]string{"doctor", "--server", "https://images.fennholt.invalid:7460"}, "is not known here"},
		"nobody trusts it":   {[]string{"doctor", "--authority", strangersAuthority(t)}, "has a certificate that nobody here trusts"},
		"of long ago":        {[]string{"doctor", "--server", oldest, "--authority", authority}, "certificate is not good at this time"},
		"a bad token":        {[]string{"doctor", "--token", "nonsense"}, "credential"},
		"no such file":       {[]string{"doctor", "--authority", "/nowhere.pem"}, "the authority's certificate"},
		"an unknown machine": {[]string{"doctor", "00:00:5e:00:53:99"}, "00:00:5e:00:53:99: network boot"},
		"nobody's name":      {[]string{"doctor", "herb-99"}, `no workstation is called "herb-99"`},
	} {
		out, code := d.run(c.args...)
		assert.Equal(t, 1, code, name)
		assert.Contains(t, out, c.says, name)
	}

	t.Log("# all of a workstation that was named is told first, in the order of its way")
	d.must("workstation", "admit", "00:00:5e:00:53:98", "herb-98")
	out, _ = d.run("doctor", "herb-98")
	assert.Regexp(t, `^good +herb-98: roster: it is expected\nbad +herb-98: network boot: `, out)

	t.Log("# multicast is heard here, or the interface is named that it is not heard at")
	out, _ = d.run("doctor", "--all", "--interface", "lo")
	assert.Regexp(t, `good +multicast at lo: of 400 packets \d+ were heard`, out)
	out, _ = d.run("doctor", "--interface", "nowhere0")
	assert.Contains(t, out, "bad      multicast at nowhere0")
}

// What a helper needs goes into a file, and no secret does.
func TestTheDoctorsReportHasNoSecrets(t *testing.T) {
	d := openDesk(t)
	link := welcome.FindString(d.must("person", "add", "tomas", "--grant", "reader"))
	require.NotEmpty(t, link)
	code := joinCode.FindString(d.must("outpost", "add", "alpine"))
	require.NotEmpty(t, code)
	path := filepath.Join(t.TempDir(), "report.tar.gz")
	said, _ := d.run("doctor", "--report", path)
	assert.Contains(t, said, "look through it before you send it")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	files := map[string]string{}
	for r := tar.NewReader(z); ; {
		head, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		files[strings.TrimPrefix(head.Name, "jugate-report/")] = string(text)
	}
	for _, name := range []string{"found.json", "overview.json", "settings.json", "network-boot.json", "logbook.json", "this-machine/addresses.txt", "this-machine/jugate.yaml"} {
		assert.NotEmpty(t, files[name], name)
	}
	assert.Contains(t, files["logbook.json"], "tomas")
	last, err := os.ReadFile(filepath.Join(filepath.Dir(os.Getenv("JUGATE_AUTHORITY")), "admin.token"))
	require.NoError(t, err)
	for name, text := range files {
		assert.NotContains(t, text, link, name)
		assert.NotContains(t, text, code, name)
		assert.NotContains(t, text, strings.TrimSpace(string(last)), name)
	}
}

// strangersAuthority is the certificate of another service.
func strangersAuthority(t *testing.T) string {
	data := filepath.Join(t.TempDir(), "other")
	s, err := service.Open(t.Context(), service.Config{Data: data, Multicast: service.Multicast{Interface: "lo", TTL: service.NoTTL}})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	return filepath.Join(data, "authority.pem")
}

// longAgo is a service by whose clock it is three years ago, and its authority.
func longAgo(t *testing.T) (url, authority string) {
	data := t.TempDir()
	recordstest.Put(t, data)
	s, err := service.Open(t.Context(), service.Config{Data: data, Now: func() time.Time { return time.Now().AddDate(-3, 0, 0) }, Multicast: service.Multicast{Interface: "lo", TTL: service.NoTTL}})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, errors.Join(<-served, s.Close()))
	})
	return "https://" + l.Addr().String(), filepath.Join(data, "authority.pem")
}
