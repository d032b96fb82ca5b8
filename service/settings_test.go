package service_test

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
	"jugate/boot/boottest"
	"jugate/core/netboot"
	"jugate/service"
)

// serveConfig runs a service with a configuration.
func serveConfig(t *testing.T, c service.Config) *house {
	t.Helper()
	settle(t, c.Data)
	c.Log = slog.New(slog.NewTextHandler(t.Output(), nil))
	s, err := service.Open(t.Context(), c)
	require.NoError(t, err)
	return serve(t, s, c.Data, "127.0.0.1:0")
}

// Settings that need no restart take effect when they are set, stay set, are on record, and can be taken back.
func TestSettingsAreSetWhileTheServiceRuns(t *testing.T) {
	t.Parallel()
	boottest.Ports(t)
	data := filepath.Join(t.TempDir(), "data")
	config := service.Config{Data: data, Multicast: loopback, Settings: []api.Setting{
		{Name: "unknown", Values: []string{"hold"}, From: "/etc/jugate/jugate.yaml"}, {Name: "listen", Values: []string{"127.0.0.1:7460"}, From: "flag"},
	}}
	h := serveConfig(t, config)
	c := h.client
	one := func(name string) api.Setting {
		t.Helper()
		all, err := c.Settings(t.Context())
		require.NoError(t, err)
		for _, one := range all.Items {
			if one.Name == name {
				return one
			}
		}
		require.Fail(t, "no such setting", name)
		return api.Setting{}
	}
	assert.Equal(t, []any{"/etc/jugate/jugate.yaml", true, []string{"hold"}}, []any{one("unknown").From, one("unknown").Live, one("unknown").Values})
	assert.False(t, one("listen").Live)

	t.Log("# unknown machines are answered otherwise at once")
	status := func() string {
		t.Helper()
		now, err := c.Netboot(t.Context())
		require.NoError(t, err)
		return now.Unknown
	}
	assert.Equal(t, "hold", status())
	set, err := c.SetSetting(t.Context(), "unknown", []string{"welcome"})
	require.NoError(t, err)
	assert.Equal(t, []any{"service", []string{"welcome"}, []string{"hold"}}, []any{set.From, set.Values, set.Instead})
	assert.NotEmpty(t, set.By)
	assert.Equal(t, "welcome", status())

	t.Log("# network boot begins and ends on an interface; TFTP answers meanwhile")
	_, err = c.SetSetting(t.Context(), "netboot", []string{"lo=off"})
	require.NoError(t, err)
	now, err := c.Netboot(t.Context())
	require.NoError(t, err)
	require.Len(t, now.Links, 1)
	assert.Equal(t, []any{"lo", "off", "serving"}, []any{now.Links[0].Interface, now.Links[0].Mode, now.Links[0].State})
	_, err = c.SetSetting(t.Context(), "netboot", []string{"lo=off", "nowhere0=beside"})
	assert.ErrorContains(t, err, "netboot stays as it is")
	assert.ErrorContains(t, err, "nowhere0")
	now, err = c.Netboot(t.Context())
	require.NoError(t, err)
	require.Len(t, now.Links, 1)
	assert.Equal(t, "serving", now.Links[0].State)
	assert.Equal(t, []string{"lo=off"}, one("netboot").Values)

	t.Log("# what makes no sense, or needs a restart, is refused in words")
	for name, c2 := range map[string]struct {
		values []string
		says   string
	}{
		"unknown":        {[]string{"shoot"}, `"shoot" is not one of ignore, hold, welcome`},
		"rate":           {[]string{"fast"}, "is not a rate"},
		"ceiling":        {[]string{"1Gbit", "2Gbit"}, "it takes one value, not 2"},
		"arrival-within": {[]string{"-1h"}, "is not a length of time"},
		"pool":           {[]string{"x"}, "unable to parse IP"},
		"listen":         {[]string{"192.0.2.1:7460"}, "takes effect when the service is started"},
		"colour":         {[]string{"green"}, "is not a setting"},
	} {
		_, err := c.SetSetting(t.Context(), name, c2.values)
		assert.ErrorContains(t, err, c2.says, name)
	}
	_, err = c.UnsetSetting(t.Context(), "rate")
	assert.ErrorContains(t, err, "was not set while the service ran")

	lines, err := c.Lines(t.Context(), apiclient.List{Search: "set-setting"})
	require.NoError(t, err)
	assert.NotEmpty(t, lines.Items)

	t.Log("# it is so after the service was started again, and until it is taken back")
	h.stop()
	h = serveConfig(t, config)
	defer h.stop()
	c = h.client
	assert.Equal(t, "welcome", status())
	assert.Equal(t, []string{"lo=off"}, one("netboot").Values)
	back, err := c.UnsetSetting(t.Context(), "unknown")
	require.NoError(t, err)
	assert.Equal(t, []any{"/etc/jugate/jugate.yaml", []string{"hold"}}, []any{back.From, back.Values})
	assert.Equal(t, "hold", status())
}

// What the configuration file says otherwise than before takes effect when it is read again; what needs a restart is named, and what was
// set while the service ran still counts.
func TestSettingsAreReadAgain(t *testing.T) {
	t.Parallel()
	all := func(listen, rate string) []api.Setting {
		return []api.Setting{{Name: "listen", Values: []string{listen}, From: "file"}, {Name: "rate", Values: []string{rate}, From: "file"}}
	}
	config := service.Config{Data: filepath.Join(t.TempDir(), "data"), Multicast: loopback, Settings: all("127.0.0.1:7460", "100Mbit")}
	h := serveConfig(t, config)
	defer h.stop()
	s, c := h.service, h.client
	_, err := c.SetSetting(t.Context(), "unknown", []string{"ignore"})
	require.NoError(t, err)
	config.Settings, config.Multicast.Rate, config.Netboot.Unknown = all("192.0.2.1:7460", "300Mbit"), 300e6, netboot.Welcome
	restart, err := s.Reload(config)
	require.NoError(t, err)
	assert.Equal(t, []string{"listen"}, restart)
	is := map[string][]string{}
	now, err := c.Settings(t.Context())
	require.NoError(t, err)
	for _, one := range now.Items {
		is[one.Name] = one.Values
	}
	assert.Equal(t, []string{"127.0.0.1:7460"}, is["listen"], "it is what is in force")
	assert.Equal(t, []string{"300Mbit"}, is["rate"])
	assert.Equal(t, []string{"ignore"}, is["unknown"])

	config.Netboot.Interfaces = []service.NetbootInterface{{Name: "nowhere0", Mode: netboot.Beside}}
	_, err = s.Reload(config)
	assert.ErrorContains(t, err, "nowhere0")
	restart, err = s.Reload(service.Config{Data: config.Data, Multicast: config.Multicast, Settings: all("127.0.0.1:7460", "300Mbit")})
	require.NoError(t, err)
	assert.Empty(t, restart, "it is as it was")
}

// After an upgrade, the overview says that the boot environment's agent is of the version before, until another build is offered.
func TestTheBootEnvironmentIsToBeRenewedAfterAnUpgrade(t *testing.T) {
	t.Parallel()
	agent := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(agent, []byte("the agent"), 0o755))
	config := service.Config{Data: filepath.Join(t.TempDir(), "data"), Multicast: loopback, BuildFrom: []string{os.TempDir()}, Netboot: service.Netboot{Agent: agent}, Version: "8.0.0"}
	renew := func(h *house) (what string) {
		t.Helper()
		now, err := h.client.Overview(t.Context())
		require.NoError(t, err)
		for _, p := range now.Parts {
			if p.Part == "boot environment" {
				assert.Equal(t, "jugate environment build --offer", p.Cure)
				what = p.What
			}
		}
		return what
	}
	h := serveConfig(t, config)
	system := fakeSystem(t)
	_, err := h.client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Offer: true})
	require.NoError(t, err)
	assert.Empty(t, renew(h))
	h.stop()

	config.Version = "8.1.0"
	h = serveConfig(t, config)
	defer h.stop()
	assert.Contains(t, renew(h), "the agent of build 1, which is offered, is of version 8.0.0, and the service of 8.1.0")
	_, err = h.client.MakeBuild(t.Context(), api.NewBuild{Folders: []string{system}, Offer: true})
	require.NoError(t, err)
	assert.Empty(t, renew(h))
}
