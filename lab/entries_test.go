package lab_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/lab"
)

// entryFile is a Debian package that lab/prepare has downloaded.
func entryFile(t *testing.T, name string) string {
	found, err := filepath.Glob(filepath.Join(labRoot(t), "entries", name+"_*.deb"))
	require.NoError(t, err)
	if len(found) == 0 {
		t.Skipf("Debian's package %s is not there; the output of lab/prepare says why", name)
	}
	return found[0]
}

// served is what the service's log says.
func (r *room) served() string {
	b, err := os.ReadFile(filepath.Join(r.keep, "service.log"))
	require.NoError(r.t, err)
	return string(b)
}

// Installers and memory tests that nobody here wrote, on each kind of firmware.
func TestBootEntries(t *testing.T) {
	t.Parallel()
	installer, test := entryFile(t, "debian-installer-12-netboot-amd64"), entryFile(t, "memtest86+")
	r := newRoom(t, []string{"neighbour"}, "--netboot", "eth0=whole", "--pool", "192.0.2.100-192.0.2.150/24 router 192.0.2.1 dns 192.0.2.1 lease 10m")
	r.jugate(nil, "entry", "add", "debian-installer", "--from", installer)
	r.jugate(nil, "entry", "edit", "debian-installer", "--words", "console=ttyS0 DEBIAN_FRONTEND=text ipv6.disable=1 auto=true priority=critical locale=en_US.UTF-8 keymap=us hostname={{.computer_name}} interface=auto url={{.answer_file}}")
	r.jugate(nil, "entry", "add", "memory-test", "--from", test)
	r.jugate(nil, "entry", "edit", "memory-test", "--words", "console=ttyS0,115200", "--release", "everybody")
	r.jugate(nil, "answers", "set", "--service", "time_zone=Pacific/Auckland")
	r.done("boot entries added")

	add := func(name, address string, firmware lab.Firmware) lab.MachineOptions {
		r.jugate(nil, "workstation", "admit", address, name)
		return lab.MachineOptions{Name: name, Address: address, Firmware: firmware, Memory: 1024, Disk: r.disk(name, gib)}
	}
	uefi, secure, bios := add("gold-uefi", "00:00:5e:00:53:61", lab.UEFI), add("gold-secure", "00:00:5e:00:53:62", lab.SecureUEFI), add("gold-bios", "00:00:5e:00:53:63", lab.BIOS)
	testUEFI, testBIOS := add("test-uefi", "00:00:5e:00:53:64", lab.UEFI), add("test-bios", "00:00:5e:00:53:65", lab.BIOS)

	t.Log("# the memory test starts by UEFI and by a BIOS, once")
	r.jugate(nil, "entry", "next", "test-uefi", "test-bios", "memory-test")
	var tests []*lab.Machine
	for _, o := range []lab.MachineOptions{testUEFI, testBIOS} {
		tests = append(tests, r.on(o))
	}
	for _, m := range tests {
		r.expect(m, slow, "Memtest86+")
		r.shot(m, "memory-test")
	}
	r.done("memory test on UEFI and BIOS")
	for _, m := range tests {
		require.NoError(t, m.Off())
	}

	t.Log("# the installer fetches what is this machine's own")
	r.jugate(nil, "entry", "next", "--yes", "gold-uefi", "gold-secure", "gold-bios", "debian-installer", "--set", "mirror=192.0.2.1")
	t.Log("# a neighbour asks for its script, and has the ticket; the answer file goes to the machine alone")
	attack := `curl -s http://192.0.2.1:7460/boot/script/efi/y/` + uefi.Address + ` | sed -n "s/.*'url=\([^']*\)'.*/\1/p" | xargs curl -sk`
	said, err := r.net.Host("neighbour").Command(r.ctx, "sh", "-c", attack).CombinedOutput()
	require.NoError(t, err)
	assert.Contains(t, string(said), "this is for gold-uefi, and ")
	for _, o := range []lab.MachineOptions{uefi, secure, bios} {
		r.on(o)
	}
	r.eventually(2*slow, func() bool {
		var starts []api.BootStart
		r.jugate(&starts, "entry", "history", "--entry", "debian-installer")
		fetched := 0
		for _, s := range starts {
			if s.Fetched != nil {
				fetched++
			}
		}
		return fetched == 3
	})
	r.done("the installer has its answer file, on UEFI, with Secure Boot and on a BIOS")
	for _, o := range []lab.MachineOptions{uefi, secure, bios} {
		r.tellLoading(o)
		assert.Equal(t, 1, strings.Count(r.served(), `msg="answer file fetched" entry=debian-installer workstation=`+o.Name), o.Name)
	}
}

// tellLoading says how long a machine took from its script to the last byte of a boot entry.
func (r *room) tellLoading(o lab.MachineOptions) {
	var status api.NetbootStatus
	r.jugate(&status, "netboot", "status", o.Name)
	require.Len(r.t, status.Machines, 1)
	var script time.Time
	for _, s := range status.Machines[0].Steps {
		switch {
		case s.Step == "script":
			script = s.At
		case s.Step == "entry" && strings.HasPrefix(s.Detail, "initrd"):
			r.t.Logf("# %s: from the script to the last byte of kernel and initrd (%s) %.1f s", o.Firmware, s.Detail, s.At.Sub(script).Seconds())
		}
	}
}
