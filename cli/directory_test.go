package cli_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/oauth2-proxy/mockoidc"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
)

// typing runs a command with lines on its standard input, as somebody types them.
func (d desk) typing(lines []string, args ...string) (string, int) {
	d.t.Helper()
	in, out, err := os.Pipe()
	require.NoError(d.t, err)
	defer in.Close()
	_, err = out.WriteString(strings.Join(lines, "\n") + "\n")
	require.NoError(d.t, err)
	require.NoError(d.t, out.Close())
	before := os.Stdin
	os.Stdin = in
	defer func() { os.Stdin = before }()
	return d.run(args...)
}

func TestDirectoriesAtTheCommandLine(t *testing.T) {
	d := openDesk(t)
	provider, err := mockoidc.Run()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, provider.Shutdown()) })
	add := []string{"directory", "add", "gate", provider.Issuer(), "--account", provider.ClientID, "--grant", "engineer=desk", "--grant", "reader=staff"}
	assert.Contains(t, d.must("directory", "list"), "people come from no directory")
	text, code := d.typing([]string{provider.ClientSecret}, add...)
	require.Zero(t, code, text)
	assert.Regexp(t, `groups\s+desk, staff`, text)
	text = d.must("directory", "list")
	assert.Contains(t, text, "engineer to desk; reader to staff")
	assert.NotContains(t, text, provider.ClientSecret)
	assert.Contains(t, d.must("directory", "check", "gate"), "is trusted")

	t.Log("# what does not work is said, and not entered")
	for want, args := range map[string][]string{
		"not ROLE=GROUP":                 {"directory", "add", "x", provider.Issuer(), "--account", "x", "--grant", "engineer"},
		"connection refused":             {"directory", "add", "x", "ldaps://127.0.0.1:1", "--account", "x", "--base", "DC=x", "--grant", "engineer=desk"},
		"would show passwords to others": {"directory", "add", "x", "ldap://127.0.0.1", "--account", "x", "--base", "DC=x", "--grant", "engineer=desk"},
		"no such file":                   {"directory", "add", "x", "ldaps://127.0.0.1:1", "--account", "x", "--base", "DC=x", "--grant", "engineer=desk", "--certificate", "/nonexistent"},
		"tells the groups of somebody":   {"directory", "check", "gate", "--as", "ines"},
		"there is no directory x":        {"directory", "check", "x"},
	} {
		text, code := d.typing([]string{"secret"}, args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, text, want)
	}
	d.must("directory", "remove", "gate")
	_, code = d.run("directory", "remove", "gate")
	assert.Equal(t, 1, code)
}

// Who has a second factor is asked for its code, and whoever has lost it asks somebody else.
func TestSigningInWithASecondFactorAtTheCommandLine(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	d := openDesk(t)
	const gate = "the garden gate is green"
	d.must("person", "add", "ines", "--grant", "administrator")
	stranger := d.stranger()
	link := read[api.Invitation](d, "person", "invite", "ines")
	_, err := stranger.Accept(t.Context(), link.Secret, api.Acceptance{Password: gate})
	require.NoError(t, err)
	session, _, err := stranger.OpenSession(t.Context(), api.SignIn{Name: "ines", Password: gate})
	require.NoError(t, err)
	offered, err := session.OfferFactor(t.Context())
	require.NoError(t, err)
	code := func(ahead time.Duration) string {
		text, err := totp.GenerateCode(offered.Secret, time.Now().Add(ahead))
		require.NoError(t, err)
		return text
	}
	require.NoError(t, session.ConfirmFactor(t.Context(), code(-30*time.Second)))
	assert.Contains(t, d.must("person", "list"), "by password and code")

	text, exit := d.typing([]string{gate}, "sign-in", d.url, "--as", "ines")
	assert.Equal(t, 1, exit, text)
	text, exit = d.typing([]string{gate, code(30 * time.Second)}, "sign-in", d.url, "--as", "ines")
	require.Zero(t, exit, text)
	assert.Contains(t, text, "signed in at "+d.url+" as ines")
	d.must("person", "change", "ines", "--reset-second-factor")
	text, exit = d.typing([]string{gate}, "sign-in", d.url, "--as", "ines")
	assert.Zero(t, exit, text)

	t.Log("# the key of last resort")
	_, exit = d.run("token", "last-resort")
	assert.Equal(t, 2, exit)
	assert.Contains(t, d.must("token", "last-resort", "--renew"), "is another one")
	_, exit = d.run("group", "list")
	assert.Equal(t, 1, exit, "the old one is over")
}
