package answers_test

import (
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

func fresh() answers.Fresh {
	return answers.Fresh{
		HostKeys: func(kind string) ([]byte, []byte, error) {
			return []byte("new " + kind), []byte("new " + kind + ".pub"), nil
		},
		Seed:      []byte("seed"),
		FirstCard: "00:00:5e:00:53:11",
		Today:     20_000,
	}
}

// layout is a system of files: what is in all, and more.
func layout(more map[string]string) fstest.MapFS {
	all := map[string]string{
		"etc/hostname": "desk-gold\n", "etc/machine-id": "8d6f1a520c1b4a679a440000aa310001\n", "etc/hosts": "127.0.0.1 localhost\n127.0.1.1\tdesk-gold.fennholt.example desk-gold # set up\n192.0.2.9 printer\n",
		"etc/passwd": "root:x:0:0:root:/root:/bin/bash\nholm:x:1000:1000:Rosa Holm,,,:/home/holm:/bin/bash\n", "etc/shadow": "root:*:19000:0:99999:7:::\nholm:!:19000:0:99999:7:::\n",
		"etc/group": "root:x:0:\nshadow:x:42:\nsudo:x:27:holm\nholm:x:1000:\n", "etc/gshadow": "root:*::\nsudo:*::holm\nholm:!::\n", "etc/skel/.profile": "# profile\n",
		"etc/ssh/ssh_host_ed25519_key": "golden", "etc/ssh/ssh_host_ed25519_key.pub": "golden", "usr/sbin/sshd": "", "usr/share/zoneinfo/Europe/Vienna": "", "bin/bash": "",
		"var/lib/systemd/random-seed": "golden", "var/lib/dhcp/dhclient.eth0.leases": "lease", "etc/systemd/system/multi-user.target.wants/cron.service": "", "root/.profile": "",
	}
	maps.Copy(all, more)
	f := fstest.MapFS{}
	for name, text := range all {
		f[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return f
}

var debian = map[string]string{
	"etc/os-release": "ID=debian\n", "etc/debian_version": "13.1\n", "etc/default/locale": "LANG=en_US.UTF-8\n", "etc/default/keyboard": "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"us\"\n", "etc/timezone": "UTC\n",
	"etc/locale.gen": "# de_AT.UTF-8 UTF-8\nen_US.UTF-8 UTF-8\n", "usr/sbin/locale-gen": "", "etc/network/interfaces": "auto eth0\n", "etc/network/interfaces.d/eth1": "old", "etc/apt/apt.conf.d/70debconf": "",
	"usr/lib/systemd/system/ssh.service": "", "etc/mailname": "desk-gold.fennholt.example\n", "var/lib/dbus/machine-id": "8d6f1a520c1b4a679a440000aa310001\n",
}

var fedora = map[string]string{
	"etc/os-release": "ID=fedora\n", "etc/locale.conf": "LANG=en_US.UTF-8\n", "etc/vconsole.conf": "KEYMAP=us\n", "usr/sbin/NetworkManager": "", "etc/NetworkManager/system-connections/eth0.nmconnection": "old",
	"etc/group": "root:x:0:\nwheel:x:10:holm\nholm:x:1000:\n", "etc/dnf/dnf.conf": "[main]\ngpgcheck=1\n", "usr/lib/systemd/system/sshd.service": "", "var/lib/NetworkManager/secret_key": "golden", "etc/X11/xorg.conf.d/90-x.conf": "",
}

var opensuse = map[string]string{
	"etc/os-release": "ID=opensuse-leap\n", "etc/locale.conf": "LANG=en_US.UTF-8\n", "etc/sysconfig/proxy": "PROXY_ENABLED=\"no\"\nHTTP_PROXY=\"\"\n", "etc/sysconfig/clock": "TIMEZONE=\"UTC\"\n",
	"usr/lib/systemd/systemd-networkd": "", "etc/systemd/system/multi-user.target.wants/systemd-networkd.service": "", "etc/systemd/network/eth.network": "old",
}

var ubuntu = map[string]string{
	"etc/os-release": "ID=ubuntu\n", "etc/debian_version": "trixie/sid\n", "etc/default/locale": "LANG=C\n", "usr/sbin/netplan": "", "etc/netplan/50-cloud.yaml": "old", "lib/systemd/system/ssh.service": "",
	"etc/default/keyboard": "XKBLAYOUT=\"us\"\n",
}

// What a Linux desk has beyond its own names.
func TestALinuxDesk(t *testing.T) {
	s := &answers.Settings{ComputerName: "herb-01", NetProfile: "private", Packages: []string{"scanner-tools", "vim"}, Programs: []answers.Program{{Name: "Scanning desk", Command: `scan "all" $HOME 100% \o`}},
		Accounts: []answers.Account{{Name: "scan", PasswordHash: hash}}, Commands: []string{"true"}}
	for name, c := range map[string]struct {
		system  map[string]string
		install string
	}{
		"debian": {map[string]string{"usr/bin/apt-get": ""}, "apt-get update\n"}, "fedora": {map[string]string{"usr/bin/dnf": ""}, "dnf install -y scanner-tools vim\n"},
		"opensuse": {map[string]string{"usr/bin/zypper": ""}, "zypper --non-interactive install scanner-tools vim\n"}, "none": {nil, "true\n"},
	} {
		more := maps.Clone(fedora)
		maps.Copy(more, c.system)
		more["etc/firewalld/firewalld.conf"] = "# zones\nDefaultZone=public\n"
		more["etc/systemd/system/graphical.target.wants/initial-setup.service"] = ""
		p, err := answers.Linux(layout(more), s, fresh())
		require.NoError(t, err)
		after := map[string]answers.Change{}
		for _, change := range p.Changes {
			after[change.Path] = change
		}
		assert.Contains(t, string(after["var/lib/jugate/first-start"].Content), c.install, name)
		assert.Equal(t, "# zones\nDefaultZone=work\n", string(after["etc/firewalld/firewalld.conf"].Content))
		assert.Equal(t, answers.Remove, after["etc/systemd/system/graphical.target.wants/initial-setup.service"].Do)
		entry := after["etc/xdg/autostart/jugate-scanning-desk.desktop"]
		assert.Equal(t, "[Desktop Entry]\nType=Application\nName=Scanning desk\nExec=sh -c \"scan \\\\\"all\\\\\" \\\\$HOME 100%% \\\\\\\\o\"\n", string(entry.Content))
		file := filepath.Join(t.TempDir(), path.Base(entry.Path))
		require.NoError(t, os.WriteFile(file, entry.Content, 0o644))
		out, err := exec.CommandContext(t.Context(), "desktop-file-validate", file).CombinedOutput()
		assert.NoError(t, err, "%s", out)
		assert.Equal(t, name == "none", strings.Contains(strings.Join(p.Remarks, " "), "no package manager"), name)
	}
}

func settings(t *testing.T) *answers.Settings {
	t.Helper()
	var all []answers.Resolved
	for key, text := range map[string]string{
		"computer_name": "herb-01", "description": `2.14, "the window" & $HOME`, "time_zone": "Europe/Vienna", "locale": "de_AT", "keyboard": "de(nodeadkeys)", "remote_access": "true", "proxy": "http://192.0.2.8:3128",
		"accounts":      "[{name: scan, full_name: Scanning desk, administrator: true, password_hash: " + hash + ", ssh_keys: ['" + sshKey + "'], change_password: true}, {name: holm, password_hash: " + hash + "}]",
		"root_ssh_keys": "['" + sshKey + "']", "network": "[{addresses: [192.0.2.31/24, '2001:db8::31/64'], gateway: 192.0.2.1, name_servers: [192.0.2.53, '2001:db8::53'], search: [fennholt.example]}, {hardware_address: 00:00:5e:00:53:12}]",
		"files": "[{path: /srv/scans/README, content: scans, mode: '0640'}]", "commands": "[systemctl enable scanner, 'false']",
	} {
		all = append(all, answers.Resolved{Key: key, Value: parse(t, key, text)})
	}
	s, _, err := answers.SettingsOf(all)
	require.NoError(t, err)
	return s
}

// applied is what a plan makes of files: their contents, links as "-> target".
func applied(t *testing.T, root fstest.MapFS, s *answers.Settings) (map[string]string, *answers.Plan) {
	t.Helper()
	p, err := answers.Linux(root, s, fresh())
	require.NoError(t, err)
	out := map[string]string{}
	for name, f := range root {
		out[name] = string(f.Data)
	}
	for _, c := range p.Changes {
		require.True(t, fs.ValidPath(c.Path), c.Path)
		switch c.Do {
		case answers.Write:
			out[c.Path] = string(c.Content)
		case answers.Link:
			out[c.Path] = "-> " + c.Target
		case answers.Remove:
			delete(out, c.Path)
		}
	}
	return out, p
}

func TestACopyIsNotTheGoldenMachine(t *testing.T) {
	out, p := applied(t, layout(debian), &answers.Settings{})
	assert.Equal(t, "", out["etc/machine-id"])
	assert.Equal(t, "-> /etc/machine-id", out["var/lib/dbus/machine-id"])
	assert.Equal(t, "new ed25519", out["etc/ssh/ssh_host_ed25519_key"])
	assert.Equal(t, "seed", out["var/lib/systemd/random-seed"])
	assert.NotContains(t, out, "var/lib/dhcp/dhclient.eth0.leases")
	assert.Equal(t, "desk-gold\n", out["etc/hostname"], "what is not set stays")
	for _, c := range p.Changes {
		if strings.HasSuffix(c.Path, "_key") || strings.HasSuffix(c.Path, "random-seed") {
			assert.True(t, c.Secret, c.Path)
			assert.Equal(t, fs.FileMode(0o600), c.Mode, c.Path)
		}
	}
	t.Log("# again, on what came of it, only the new keys differ")
	again := fstest.MapFS{}
	for name, text := range out {
		again[name] = &fstest.MapFile{Data: []byte(text)}
	}
	twice, _ := applied(t, again, &answers.Settings{})
	assert.Equal(t, out["etc/hosts"], twice["etc/hosts"])

	_, err := answers.Linux(fstest.MapFS{"home/x": &fstest.MapFile{}}, &answers.Settings{}, fresh())
	assert.ErrorIs(t, err, answers.ErrNotLinux)
}

func TestAnswersOnDebian(t *testing.T) {
	out, p := applied(t, layout(debian), settings(t))
	assert.Equal(t, "herb-01\n", out["etc/hostname"])
	assert.Equal(t, "127.0.0.1 localhost\n127.0.1.1\therb-01.fennholt.example herb-01\t# set up\n192.0.2.9 printer\n", out["etc/hosts"])
	assert.Equal(t, "herb-01.fennholt.example\n", out["etc/mailname"])
	assert.Equal(t, `PRETTY_HOSTNAME="2.14, \"the window\" & \$HOME"`+"\n", out["etc/machine-info"])
	assert.Equal(t, "-> ../usr/share/zoneinfo/Europe/Vienna", out["etc/localtime"])
	assert.Equal(t, "Europe/Vienna\n", out["etc/timezone"])
	assert.Equal(t, "LANG=de_AT.UTF-8\n", out["etc/default/locale"])
	assert.Equal(t, "de_AT.UTF-8 UTF-8\nen_US.UTF-8 UTF-8\n", out["etc/locale.gen"])
	assert.Equal(t, [][]string{{"locale-gen"}}, p.Runs)
	assert.Equal(t, "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"de\"\nXKBVARIANT=\"nodeadkeys\"\n", out["etc/default/keyboard"])
	assert.Equal(t, "-> /usr/lib/systemd/system/ssh.service", out["etc/systemd/system/multi-user.target.wants/ssh.service"])
	assert.Equal(t, "Acquire::http::Proxy \"http://192.0.2.8:3128\";\nAcquire::https::Proxy \"http://192.0.2.8:3128\";\n", out["etc/apt/apt.conf.d/80jugate-proxy"])
	assert.Equal(t, "root:x:0:0:root:/root:/bin/bash\nholm:x:1000:1000:Rosa Holm,,,:/home/holm:/bin/bash\nscan:x:1001:1001:Scanning desk:/home/scan:/bin/bash\n", out["etc/passwd"])
	assert.Equal(t, "root:*:19000:0:99999:7:::\nholm:"+hash+":19000:0:99999:7:::\nscan:"+hash+":0:0:99999:7:::\n", out["etc/shadow"])
	assert.Equal(t, "root:x:0:\nshadow:x:42:\nsudo:x:27:scan\nholm:x:1000:\nscan:x:1001:\n", out["etc/group"], "holm is no administrator any more")
	assert.Equal(t, sshKey+"\n", out["home/scan/.ssh/authorized_keys"])
	assert.Equal(t, "# profile\n", out["home/scan/.profile"])
	assert.Equal(t, "scans", out["srv/scans/README"])
	assert.Contains(t, out["etc/network/interfaces"], "iface lo inet loopback")
	assert.NotContains(t, out, "etc/network/interfaces.d/eth1")
	assert.Equal(t, `# Written when the image was delivered.
auto /mac/00:00:5e:00:53:11=lan1
iface lan1 inet static
	address 192.0.2.31/24
	gateway 192.0.2.1
	dns-nameservers 192.0.2.53
	dns-search fennholt.example
iface lan1 inet6 static
	address 2001:db8::31/64
	dns-nameservers 2001:db8::53
	dns-search fennholt.example
`, out["etc/network/interfaces.d/jugate-1"])
	assert.Contains(t, out["etc/network/interfaces.d/jugate-2"], "iface lan2 inet dhcp")
	assert.Contains(t, out["var/lib/jugate/first-start"], "systemctl enable scanner\n")
	assert.Contains(t, out["var/lib/jugate/first-start"], "rm -f /var/lib/jugate/first-start /etc/systemd/system/jugate-first-start.service")
	assert.Empty(t, p.Remarks)
	for _, c := range p.Changes {
		want := map[string]string{"home/scan": "700 1001 1001", "home/scan/.ssh/authorized_keys": "600 1001 1001", "etc/shadow": "640 0 42", "etc/passwd": "644 0 0", "srv/scans/README": "640 0 0", "root/.ssh": "700 0 0"}[c.Path]
		if want != "" {
			assert.Equal(t, want, fmt.Sprintf("%o %d %d", c.Mode, c.UID, c.GID), c.Path)
		}
	}
}

func TestAnswersOnOtherLayouts(t *testing.T) {
	t.Run("fedora", func(t *testing.T) {
		out, _ := applied(t, layout(fedora), settings(t))
		assert.Equal(t, "LANG=de_AT.UTF-8\n", out["etc/locale.conf"])
		assert.NotContains(t, out, "etc/default/locale")
		assert.Equal(t, "KEYMAP=de-nodeadkeys\nXKBLAYOUT=de\nXKBVARIANT=nodeadkeys\n", out["etc/vconsole.conf"])
		assert.Contains(t, out["etc/X11/xorg.conf.d/00-keyboard.conf"], `"XkbVariant" "nodeadkeys"`)
		assert.Contains(t, out["etc/group"], "wheel:x:10:scan\n")
		assert.Contains(t, out["etc/dnf/dnf.conf"], "proxy=http://192.0.2.8:3128\n")
		assert.NotContains(t, out, "var/lib/NetworkManager/secret_key")
		assert.NotContains(t, out, "etc/NetworkManager/system-connections/eth0.nmconnection")
		assert.Contains(t, out["etc/NetworkManager/system-connections/jugate-1.nmconnection"], "mac-address=00:00:5E:00:53:11\n\n[ipv4]\nmethod=manual\naddress1=192.0.2.31/24,192.0.2.1\ndns=192.0.2.53;\ndns-search=fennholt.example;\n\n[ipv6]\nmethod=manual\naddress1=2001:db8::31/64\n")
		assert.Equal(t, "-> /usr/lib/systemd/system/sshd.service", out["etc/systemd/system/multi-user.target.wants/sshd.service"])
	})
	t.Run("opensuse", func(t *testing.T) {
		out, p := applied(t, layout(opensuse), settings(t))
		assert.Equal(t, "TIMEZONE=\"Europe/Vienna\"\n", out["etc/sysconfig/clock"])
		assert.Equal(t, "PROXY_ENABLED=\"yes\"\nHTTP_PROXY=\"http://192.0.2.8:3128\"\nHTTPS_PROXY=\"http://192.0.2.8:3128\"\n", out["etc/sysconfig/proxy"])
		assert.NotContains(t, out, "etc/systemd/network/eth.network")
		assert.Equal(t, "# Written when the image was delivered.\n[Match]\nPermanentMACAddress=00:00:5e:00:53:11\n\n[Network]\nAddress=192.0.2.31/24\nAddress=2001:db8::31/64\nGateway=192.0.2.1\nDNS=192.0.2.53\nDNS=2001:db8::53\nDomains=fennholt.example\n", out["etc/systemd/network/10-jugate-1.network"])
		assert.Contains(t, out["etc/systemd/network/10-jugate-2.network"], "DHCP=yes")
		assert.Contains(t, strings.Join(p.Remarks, "; "), "no SSH server")
	})
	t.Run("ubuntu", func(t *testing.T) {
		out, _ := applied(t, layout(ubuntu), settings(t))
		assert.NotContains(t, out, "etc/netplan/50-cloud.yaml")
		assert.Contains(t, out["etc/netplan/10-jugate-1.yaml"], "macaddress: \"00:00:5e:00:53:11\"\n      addresses:\n        - \"192.0.2.31/24\"")
		assert.Contains(t, out["etc/netplan/10-jugate-2.yaml"], "dhcp4: true")
	})
	t.Run("a system that lacks things", func(t *testing.T) {
		bare := fstest.MapFS{"etc/os-release": &fstest.MapFile{}, "usr/share/zoneinfo/UTC": &fstest.MapFile{}}
		s := settings(t)
		_, err := answers.Linux(bare, s, fresh())
		assert.ErrorContains(t, err, "no /etc/passwd")
		s.Accounts = nil
		_, p := applied(t, bare, s)
		text := strings.Join(p.Remarks, "; ")
		for _, says := range []string{"does not know the time zone", "not started by systemd", "no SSH server", "nothing that manages the network"} {
			assert.Contains(t, text, says)
		}
	})
}
