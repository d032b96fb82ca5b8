package cli

import (
	"bytes"
	"context"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/setup"
)

// testMachine is a machine that is made up.
type testMachine struct {
	others  []netip.Addr
	written map[string]string
	started int
}

func (m *testMachine) Interfaces() ([]setup.Interface, error) {
	return []setup.Interface{{Name: "eth0", Up: true}, {Name: "eth1", Up: true, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.1/24")}}}, nil
}
func (m *testMachine) OtherServers(context.Context, string) ([]netip.Addr, error) {
	return m.others, nil
}
func (m *testMachine) Free(string) (int64, bool, string) { return 500 << 30, true, "" }
func (m *testMachine) Listens(netip.AddrPort) error      { return nil }
func (m *testMachine) Own(string) error                  { return nil }
func (m *testMachine) ReadFile(path string) ([]byte, error) {
	if text, is := m.written[path]; is {
		return []byte(text), nil
	}
	return nil, fs.ErrNotExist
}
func (m *testMachine) WriteFile(path string, text []byte) error {
	m.written[path] = string(text)
	return nil
}
func (m *testMachine) Start(context.Context) error { m.started++; return nil }

// setUp answers the questions of jugate setup, a line for each.
func setUp(t *testing.T, m *testMachine, answers []string, args ...string) (said string, err error) {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	a := &app{output: "table"}
	cmd := a.setupCommand(m)
	var out bytes.Buffer
	cmd.SetOut(&out)
	cmd.SetErr(&out)
	cmd.SetIn(strings.NewReader(strings.Join(answers, "\n") + "\n"))
	cmd.SetArgs(append([]string{}, args...)) // nil would be those of the test
	err = cmd.ExecuteContext(t.Context())
	return out.String(), err
}

// Somebody who is asked gets along with Enter, and is told at once what will not do.
func TestSetupAsks(t *testing.T) {
	m := &testMachine{written: map[string]string{}}
	said, err := setUp(t, m, []string{
		"eth9", "eth0", "", // the first two will not do; then what is proposed
		"",                                         // whole, as nobody gives addresses
		"192.0.2.1-", "192.0.2.100-192.0.2.150/24", // its addresses
		"images", "/srv/jugate", // where images go
		"", // nobody yet
	})
	require.NoError(t, err, said)
	assert.Contains(t, said, `problem: "eth9" is not an interface of this machine; there are eth0, eth1`)
	assert.Contains(t, said, "problem: eth0 has no IPv4 address")
	assert.Contains(t, said, "reached by? [eth1]")
	assert.Contains(t, said, "  nobody does\n")
	assert.Contains(t, said, "or off? [whole]")
	assert.Contains(t, said, `problem: "images" does not begin with /`)
	assert.Contains(t, said, "console:  https://192.0.2.1:7460")
	text := m.written[setup.ConfigFile]
	for _, has := range []string{"netboot: [eth1=whole]", "pool: [192.0.2.100-192.0.2.150/24]", "data: /srv/jugate", "listen: 192.0.2.1:7460"} {
		assert.Contains(t, text, has)
	}
	assert.Equal(t, 1, m.started)

	t.Log("# beside another server, which is found; nothing is written when it is just tried")
	m = &testMachine{written: map[string]string{}, others: []netip.Addr{netip.MustParseAddr("192.0.2.53")}}
	said, err = setUp(t, m, []string{"", "whole", "", "", ""}, "--dry-run")
	require.NoError(t, err, said)
	assert.Contains(t, said, "  192.0.2.53 does\n")
	assert.Contains(t, said, "problem: 192.0.2.53 gives addresses on eth1 already")
	assert.Contains(t, said, "or off? [beside]")
	assert.Empty(t, m.written)
	assert.Zero(t, m.started)

	t.Log("# who answers nothing that will do does not go on for ever")
	said, err = setUp(t, m, []string{strings.Repeat("eth9\n", 30)})
	assert.ErrorContains(t, err, "20 answers in a row were refused", said)

	t.Log("# a file whose answers will not do is refused as a whole")
	file := filepath.Join(t.TempDir(), "setup.yaml")
	require.NoError(t, os.WriteFile(file, []byte("interface: eth9\nmode: both\n"), 0o600))
	said, err = setUp(t, m, nil, "--from", file)
	assert.ErrorContains(t, err, "2 answers will not do; nothing was written")
	assert.Contains(t, said, `mode: "both" is not one of beside, whole, off`)
	assert.Empty(t, m.written)
}

// Nobody sees what they type, so a password that is chosen is asked for twice.
func TestANewPasswordIsTypedTwice(t *testing.T) {
	desk, tty, err := pty.Open()
	require.NoError(t, err)
	defer desk.Close()
	defer tty.Close()
	var shown bytes.Buffer
	cmd := &cobra.Command{}
	cmd.SetIn(tty)
	cmd.SetErr(&shown)
	_, err = desk.WriteString("the garden gate is green\nthe garden gate is greem\nthe garden gate is green\nthe garden gate is green\n")
	require.NoError(t, err)
	chosen, err := askNewSecret(cmd, "Password of ines")
	require.NoError(t, err)
	assert.Equal(t, "the garden gate is green", chosen)
	assert.Equal(t, "Password of ines: \nOnce more: \n  they are not the same\nPassword of ines: \nOnce more: \n", shown.String())
}
