package main

import (
	"flag"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSettingsOfAnOutpost(t *testing.T) {
	dir := t.TempDir()
	read := func(text string, args ...string) (listen string, netboot []string, err error) {
		path := filepath.Join(dir, "outpost.yaml")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		flags := flag.NewFlagSet("test", flag.ContinueOnError)
		flags.SetOutput(t.Output())
		flags.StringVar(&listen, "listen", "", "")
		flags.Bool("version", false, "")
		flags.Func("netboot", "", func(text string) error { netboot = append(netboot, text); return nil })
		require.NoError(t, flags.Parse(args))
		return listen, netboot, readSettings(flags, path)
	}
	listen, netboot, err := read("listen: 198.51.100.2:7460\nnetboot: [eth0=beside, eth1=off]\n")
	require.NoError(t, err)
	assert.Equal(t, "198.51.100.2:7460", listen)
	assert.Equal(t, []string{"eth0=beside", "eth1=off"}, netboot)

	listen, netboot, err = read("listen: 198.51.100.2:7460\nnetboot: eth0=beside\n", "--listen", "127.0.0.1:1")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:1", listen, "a flag counts before the file")
	assert.Equal(t, []string{"eth0=beside"}, netboot)

	for text, says := range map[string]string{"colour: green": `"colour" is not a setting`, "version: true": `"version" is not a setting`, "listen: [": "read the settings"} {
		_, _, err := read(text)
		assert.ErrorContains(t, err, says)
	}
	assert.Error(t, readSettings(flag.NewFlagSet("test", flag.ContinueOnError), filepath.Join(dir, "gone.yaml")), "one that was named has to be there")
	example, err := os.ReadFile("../../packaging/outpost.yaml")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "example.yaml"), example, 0o600))
	flags, _ := declare()
	require.NoError(t, readSettings(flags, filepath.Join(dir, "example.yaml")), "the one that the package has")
}
