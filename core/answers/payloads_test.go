package answers_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/answers"
)

func TestPayloadsHaveTheirPlaces(t *testing.T) {
	s := &answers.Settings{Payloads: []answers.Payload{{Name: "scanner.deb", Install: true}, {Name: "scanner.rpm", Install: true}, {Name: "leaf.png", Path: "/usr/share/leaf.png"}, {Name: "viewer.msi", Install: true}}}
	for name, c := range map[string]struct {
		system  map[string]string
		command string
	}{
		"debian": {map[string]string{"usr/bin/apt-get": ""}, "apt-get install -y '/var/lib/jugate/payloads/scanner.deb'\n"}, "fedora": {map[string]string{"usr/bin/dnf": ""}, "dnf install -y '/var/lib/jugate/payloads/scanner.rpm'\n"},
		"opensuse": {map[string]string{"usr/bin/zypper": ""}, "zypper --non-interactive install --allow-unsigned-rpm '/var/lib/jugate/payloads/scanner.rpm'\n"},
	} {
		c.system["etc/os-release"] = "ID=" + name + "\n"
		p, err := answers.Linux(layout(c.system), s, fresh())
		require.NoError(t, err)
		assert.Equal(t, answers.Brought{Name: "leaf.png", Path: "usr/share/leaf.png"}, p.Payloads[2])
		assert.Len(t, p.Remarks, 2, "of %s: what it cannot install", name)
		found := ""
		for _, change := range p.Changes {
			if change.Path == "var/lib/jugate/first-start" {
				found = string(change.Content)
			}
		}
		assert.Contains(t, found, c.command)
	}
	p, err := answers.Windows(windows(nil), s, fresh(), "amd64")
	require.NoError(t, err)
	assert.Equal(t, answers.Brought{Name: "viewer.msi", Path: "Jugate/Payloads/viewer.msi"}, p.Payloads[3])
	assert.Equal(t, "msiexec /i \"%SystemDrive%\\Jugate\\Payloads\\viewer.msi\" /qn /norestart\r\n", string(p.Changes[len(p.Changes)-1].Content))

	for complaint, text := range map[string]string{"the name of a payload": "[{name: ../x}]", "not the path of a file": "[{name: x, path: etc/x}]", "the same place": "[{name: x}, {name: X}]"} {
		_, err := answers.Parse("payloads", text)
		assert.ErrorContains(t, err, complaint)
	}
}
