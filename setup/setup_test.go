package setup_test

import (
	"context"
	"errors"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/netboot"
	"jugate/setup"
)

// desk is a machine that is made up.
type desk struct {
	others  []netip.Addr
	free    int64
	memory  bool   // the folder lies in memory
	odd     string // what speaks against the folder
	taken   error  // of the port
	deaf    error  // whether others can be listened for
	files   map[string]string
	folders []string
}

func (d *desk) Interfaces() ([]setup.Interface, error) {
	of := func(name, address string, up bool) setup.Interface {
		i := setup.Interface{Name: name, Up: up}
		if address != "" {
			i.Addresses = []netip.Prefix{netip.MustParsePrefix(address)}
		}
		return i
	}
	return []setup.Interface{of("eth0", "", true), of("eth1", "192.0.2.1/24", true), of("eth2", "169.254.7.9/16", true), of("eth3", "198.51.100.1/24", false)}, nil
}
func (d *desk) OtherServers(context.Context, string) ([]netip.Addr, error) { return d.others, d.deaf }
func (d *desk) Free(string) (int64, bool, string)                          { return d.free, !d.memory, d.odd }
func (d *desk) Listens(netip.AddrPort) error                               { return d.taken }
func (d *desk) Own(dir string) error                                       { d.folders = append(d.folders, dir); return nil }
func (d *desk) ReadFile(path string) ([]byte, error) {
	if text, is := d.files[path]; is {
		return []byte(text), nil
	}
	return nil, fs.ErrNotExist
}
func (d *desk) WriteFile(path string, text []byte) error { d.files[path] = string(text); return nil }
func (d *desk) Start(context.Context) error              { return nil }

func good() (*setup.Answers, *desk) {
	return &setup.Answers{Interface: "eth1", Mode: netboot.Beside, Data: "/srv/jugate", Person: "ines", Password: "the garden gate is green"},
		&desk{free: 400 << 30, others: []netip.Addr{netip.MustParseAddr("192.0.2.53")}, files: map[string]string{}}
}

// Each answer is tried, and what speaks against it says what to do.
func TestAnswersAreTried(t *testing.T) {
	a, m := good()
	problems, err := a.Problems(t.Context(), m)
	require.NoError(t, err)
	assert.Empty(t, problems)
	for name, c := range map[string]struct {
		spoil  func(a *setup.Answers, m *desk)
		answer string
		says   string
		mild   bool
	}{
		"no such interface":      {func(a *setup.Answers, _ *desk) { a.Interface = "eth9" }, "interface", "there are eth0, eth1", false},
		"no address":             {func(a *setup.Answers, _ *desk) { a.Interface = "eth0" }, "interface", "has no IPv4 address", false},
		"an address nobody gave": {func(a *setup.Answers, _ *desk) { a.Interface = "eth2" }, "interface", "169.254.7.9, which machines give themselves", false},
		"down":                   {func(a *setup.Answers, _ *desk) { a.Interface = "eth3" }, "interface", "is down", false},
		"the port is taken":      {func(_ *setup.Answers, m *desk) { m.taken = errors.New("nothing can listen on 192.0.2.1:7460") }, "interface", "another program has that port", false},
		"no such mode":           {func(a *setup.Answers, _ *desk) { a.Mode = "both" }, "mode", "not one of beside, whole, off", false},
		"two servers": {func(a *setup.Answers, _ *desk) {
			a.Mode, a.Pool = netboot.Whole, "192.0.2.100-192.0.2.150/24 router 192.0.2.254"
		}, "mode", "192.0.2.53 gives addresses on eth1 already", false},
		"no server":       {func(_ *setup.Answers, m *desk) { m.others = nil }, "mode", "nobody gives addresses on eth1", true},
		"nobody can tell": {func(_ *setup.Answers, m *desk) { m.deaf = errors.New("permission denied") }, "mode", "cannot be told", true},
		"a pool beside":   {func(a *setup.Answers, _ *desk) { a.Pool = "192.0.2.100-192.0.2.150/24" }, "pool", "only mode whole gives addresses", false},
		"no pool":         {func(a *setup.Answers, m *desk) { a.Mode, m.others = netboot.Whole, nil }, "pool", "write it as", false},
		"the pool of another network": {func(a *setup.Answers, m *desk) {
			a.Mode, a.Pool, m.others = netboot.Whole, "198.51.100.100-198.51.100.150/24 router 198.51.100.1", nil
		}, "pool", "needs a pool of 192.0.2.0/24", false},
		"no router": {func(a *setup.Answers, m *desk) {
			a.Mode, a.Pool, m.others = netboot.Whole, "192.0.2.100-192.0.2.150/24", nil
		}, "pool", "no router", true},
		"a folder from nowhere":       {func(a *setup.Answers, _ *desk) { a.Data = "images" }, "data", "does not begin with /", false},
		"in memory":                   {func(_ *setup.Answers, m *desk) { m.memory = true }, "data", "lies in memory", false},
		"full":                        {func(_ *setup.Answers, m *desk) { m.free = 1 << 30 }, "data", "not enough for one golden disk", false},
		"small":                       {func(_ *setup.Answers, m *desk) { m.free = 40 << 30 }, "data", "some 10 to 40 GiB", true},
		"somebody else's":             {func(_ *setup.Answers, m *desk) { m.odd = "/srv/jugate is not empty" }, "data", "is not empty", false},
		"a short password":            {func(a *setup.Answers, _ *desk) { a.Password = "gate" }, "person", "shorter than 12", false},
		"a name with blanks":          {func(a *setup.Answers, _ *desk) { a.Person = "ines of the garden" }, "person", "cannot be the name of a person", false},
		"a password of nobody":        {func(a *setup.Answers, _ *desk) { a.Person = "" }, "person", "nobody who has it", false},
		"a person without a password": {func(a *setup.Answers, _ *desk) { a.Password = "" }, "person", "has no password yet", true},
		"nobody":                      {func(a *setup.Answers, _ *desk) { a.Person, a.Password = "", "" }, "person", "nobody becomes the first administrator", true},
	} {
		t.Run(name, func(t *testing.T) {
			a, m := good()
			c.spoil(a, m)
			problems, err := a.Problems(t.Context(), m)
			require.NoError(t, err)
			require.NotEmpty(t, problems)
			last := problems[len(problems)-1]
			assert.Equal(t, []any{c.answer, c.mild}, []any{last.Answer, last.Mild})
			assert.Contains(t, last.String(), c.says)
		})
	}
}

func TestWhatHasOneAnswerIsNotAsked(t *testing.T) {
	_, m := good()
	interfaces, _ := m.Interfaces()
	var a setup.Answers
	a.Fill(interfaces)
	assert.Equal(t, []any{"eth1", netboot.Beside, setup.DataFolder, ""}, []any{a.Interface, a.Mode, a.Data, a.Pool})
	a.Mode = netboot.Whole
	a.Fill(interfaces)
	assert.Equal(t, "192.0.2.128-192.0.2.227/24", a.Pool)
}

// The settings come into the file; what else is in it stays, comments too, and the service can read it.
func TestSettingsAreWritten(t *testing.T) {
	a, m := good()
	packaged, err := os.ReadFile("../packaging/jugate.yaml")
	require.NoError(t, err)
	m.files[setup.ConfigFile] = string(packaged) + "\n# ours, for the long line\nrate: 40Mbit # the old switch\n"
	a.Names = []string{"images.fennholt.example"}
	url, err := a.Write(m, setup.ConfigFile)
	require.NoError(t, err)
	assert.Equal(t, "https://192.0.2.1:7460", url)
	assert.Equal(t, []string{"/srv/jugate"}, m.folders)
	text := m.files[setup.ConfigFile]
	for _, has := range []string{"data: /srv/jugate\n", "listen: 192.0.2.1:7460\n", "netboot: [eth1=beside]\n", "name: [images.fennholt.example]\n", "# ours, for the long line\nrate: 40Mbit # the old switch\n", "# Where the service answers", "#unknown: hold"} {
		assert.Contains(t, text, has)
	}
	assert.NotContains(t, text, "pool: [\"192.0.2.128")

	t.Log("# another time, with other answers")
	a.Mode, a.Pool, a.Names, a.Data = netboot.Whole, "192.0.2.100-192.0.2.150/24 router 192.0.2.254", nil, setup.DataFolder
	_, err = a.Write(m, setup.ConfigFile)
	require.NoError(t, err)
	text = m.files[setup.ConfigFile]
	assert.Contains(t, text, "pool: [192.0.2.100-192.0.2.150/24 router 192.0.2.254]\n")
	assert.Contains(t, text, "netboot: [eth1=whole]\n")
	assert.NotContains(t, text, "\nname:")
	assert.Contains(t, text, "rate: 40Mbit # the old switch")

	for name, text := range map[string]string{"not YAML": "data: [", "a list": "- data\n"} {
		m.files[setup.ConfigFile] = text
		_, err := a.Write(m, setup.ConfigFile)
		assert.ErrorContains(t, err, setup.ConfigFile, name)
		assert.Equal(t, text, m.files[setup.ConfigFile], "it is left alone")
	}
	delete(m.files, setup.ConfigFile)
	_, err = a.Write(m, setup.ConfigFile)
	require.NoError(t, err)
	assert.Contains(t, m.files[setup.ConfigFile], "data: /var/lib/jugate\n")
}

func TestAnswersAreRead(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	secret := write("password", "the garden gate is green\n")
	a, err := setup.Read(write("setup.yaml", "interface: eth1\nmode: whole\nperson: ines\npassword_file: "+secret+"\n"))
	require.NoError(t, err)
	assert.Equal(t, []any{"eth1", netboot.Whole, "ines", "the garden gate is green"}, []any{a.Interface, a.Mode, a.Person, a.Password})
	for text, says := range map[string]string{"iface: eth1\n": "field iface not found", "password_file: /nowhere\n": "the password of", "mode: [": "read the answers"} {
		_, err := setup.Read(write("odd.yaml", text))
		assert.ErrorContains(t, err, says)
	}
}
