package netboot_test

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/hwaddr"
	"jugate/core/netboot"
)

func TestScripts(t *testing.T) {
	efi := netboot.Loader{EFI: true, HTTP: true, Server: "192.0.2.1:7460"}
	secure := netboot.Loader{EFI: true, Server: "192.0.2.1:7460"}
	env := netboot.Choice{Do: netboot.Environment, Name: "herb-01", Address: herb, Why: "an errand waits", Build: 7, Words: "quiet", Service: "https://192.0.2.1:7460", Ticket: "7f3a"}
	disk := netboot.Choice{Do: netboot.Disk, Name: "it's 'odd'\n", Address: herb, Why: "no errand"}
	menu := disk
	menu.Menu, menu.SignIn, menu.Build = 5*time.Second, true, 7
	menu.Items = []netboot.MenuItem{{Title: "Receive garden-desk", Wish: "receive:garden-desk"}}

	installer := netboot.Choice{Do: netboot.BootEntry, Name: "herb-01", Address: herb, Why: "installer@2", Entry: &netboot.Entry{Name: "installer@2", Kernel: "entry/abc/kernel", Initrds: []string{"entry/abc/initrd-1", "entry/authority"}, Words: "auto=true url=https://192.0.2.1/x;y$(z)", Bits64: true}}
	program := installer
	program.Menu, program.Entry = time.Second, &netboot.Entry{Name: "memory-test@1", Program: "entry/abc/program.efi", Words: "console=ttyS0"}
	program.Items = []netboot.MenuItem{{Title: "it's } a { \"title\"", Entry: installer.Entry}, {Title: "Test the memory", Entry: &netboot.Entry{Name: "test", Kernel: "entry/abc/kernel"}}}
	text := netboot.Script(efi, installer)
	assert.Contains(t, text, "if linux (http,192.0.2.1:7460)/boot/files/entry/abc/kernel 'auto=true' 'url=https://192.0.2.1/x;y$(z)'; then\n\tif initrd (http,192.0.2.1:7460)/boot/files/entry/abc/initrd-1 (http,192.0.2.1:7460)/boot/files/entry/authority; then\n\t\tboot")
	assert.NotContains(t, text, "jugate_bits", "UEFI of 64 bits starts on nothing else")
	assert.Contains(t, netboot.Script(secure, installer), "if linux (tftp)/entry/abc/kernel ")
	assert.Contains(t, netboot.Script(netboot.Loader{HTTP: true}, installer), `if [ "$jugate_bits" = "32" ]; then`)
	assert.Contains(t, netboot.Script(netboot.Loader{HTTP: true}, env), `if [ "$jugate_bits" = "32" ]; then`)
	assert.Contains(t, netboot.Script(efi, program), "if chainloader (http,192.0.2.1:7460)/boot/files/entry/abc/program.efi 'console=ttyS0'; then")

	text = netboot.Script(efi, env)
	assert.Contains(t, text, "linux (http,192.0.2.1:7460)/boot/files/7/vmlinuz quiet jugate.service=https://192.0.2.1:7460 jugate.card=00:00:5e:00:53:11 jugate.ticket=7f3a")
	assert.NotContains(t, text, "menuentry")
	assert.Contains(t, netboot.Script(secure, env), "initrd (tftp)/7/initrd")
	assert.NotContains(t, netboot.Script(efi, disk), "linux")
	assert.Contains(t, netboot.Script(netboot.Loader{}, disk), "set root=(hd0)")
	text = netboot.Script(efi, menu)
	assert.Contains(t, text, "set timeout=5")
	assert.Contains(t, text, "set jugate_menu=y", "or the first script takes its end for a failure")
	assert.Contains(t, text, "jugate.wish=receive:garden-desk")
	assert.Contains(t, text, "jugate.wish=sign-in")
	assert.Less(t, strings.Index(text, "'This disk'"), strings.Index(text, "Receive garden-desk"), "the disk is what starts by itself")

	t.Log("# the loader's own checker reads all of them")
	check, err := exec.LookPath("grub-script-check")
	if err != nil {
		t.Skip("grub-script-check is not here (Debian's package grub-common)")
	}
	for _, l := range []netboot.Loader{efi, secure, {HTTP: true, Server: "192.0.2.1:7460"}} {
		for _, c := range []netboot.Choice{env, disk, menu, installer, program} {
			cmd := exec.CommandContext(t.Context(), check)
			cmd.Stdin = strings.NewReader(netboot.Script(l, c))
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	cmd := exec.CommandContext(t.Context(), check)
	cmd.Stdin = strings.NewReader(netboot.Bootstrap("192.0.2.1:7460"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestScriptRequests(t *testing.T) {
	l, a, ok := netboot.ScriptRequest("script/efi/y/00:00:5e:00:53:11")
	assert.True(t, ok)
	assert.Equal(t, netboot.Loader{EFI: true, HTTP: true}, l)
	assert.Equal(t, herb, a)
	l, _, ok = netboot.ScriptRequest("script/pc/n/00:00:5e:00:53:11/Mini_2")
	assert.True(t, ok)
	assert.Equal(t, netboot.Loader{Model: "Mini_2"}, l)
	l, _, ok = netboot.ScriptRequest("script/pc/n/00:00:5e:00:53:11/" + strings.Repeat("x", 65))
	assert.True(t, ok)
	assert.Empty(t, l.Model, "no model has such a name")
	for _, bad := range []string{"script/efi/y", "script/efi/y/zz", "x/efi/y/00:00:5e:00:53:11", "script/efi/y/00:00:5e:00:53:11/x/y"} {
		_, _, ok := netboot.ScriptRequest(bad)
		assert.False(t, ok, bad)
	}
}

func TestTrailTellsWhoIsStuck(t *testing.T) {
	var trail netboot.Trail
	trail.Note(noon, herb, netboot.StepAddress, "eth0: UEFI x64")
	trail.Note(noon.Add(time.Second), herb, netboot.StepLoader, "shim")
	trail.Note(noon.Add(2*time.Second), herb, netboot.StepScript, "environment")
	trail.Note(noon.Add(3*time.Second), herb, netboot.StepKernel, "build 7")
	trail.Note(noon.Add(9*time.Second), herb, netboot.StepInitrd, "all")
	assert.Empty(t, trail.Stuck(noon.Add(30*time.Second), herb), "give it time")
	assert.Contains(t, trail.Stuck(noon.Add(2*time.Minute), herb), "has not checked in. Most likely this build has no driver for its network card")
	trail.Note(noon.Add(3*time.Minute), herb, netboot.StepAgent, "called")
	assert.Empty(t, trail.Stuck(noon.Add(time.Hour), herb))
	assert.Len(t, trail.Steps(herb), 6)

	trail.Note(noon, other, netboot.StepRefused, "unknown")
	trail.Note(noon.Add(time.Minute), other, netboot.StepRefused, "unknown")
	assert.Len(t, trail.Steps(other), 1, "what repeats is one step")
	assert.Equal(t, []hwaddr.Address{herb, other}, trail.Machines(), "the latest first")

	for i := range 5000 {
		trail.Note(noon.Add(time.Duration(i)*time.Second), hwaddr.Address{2, 0, 0, 0, byte(i >> 8), byte(i)}, netboot.StepAddress, "")
	}
	assert.Len(t, trail.Machines(), 4096, "a flood of addresses takes no more memory than that")
}

func TestALoaderThatLedNowhereIsFollowedByTheOther(t *testing.T) {
	var trail netboot.Trail
	assert.False(t, trail.Signed(herb), "nothing is known: Jugate's own")
	trail.Note(noon, herb, netboot.StepLoader, "plainx64.efi, 1 bytes")
	assert.True(t, trail.Signed(herb), "Secure Boot may have refused it")
	trail.Note(noon, herb, netboot.StepLoader, "shimx64.efi, 1 bytes")
	assert.False(t, trail.Signed(herb))
	trail.Note(noon, herb, netboot.StepScript, "disk")
	assert.True(t, trail.Signed(herb), "that one worked")
}

func TestWhetherTheEnvironmentCameUp(t *testing.T) {
	var trail netboot.Trail
	assert.True(t, trail.CameUp(herb), "nothing is known")
	trail.Note(noon, herb, netboot.StepInitrd, "16 bytes")
	trail.Note(noon.Add(time.Minute), herb, netboot.StepAddress, "eth0: UEFI x64")
	assert.False(t, trail.CameUp(herb), "it starts anew, and its agent never called")
	trail.Note(noon.Add(time.Minute), herb, netboot.StepInitrd, "28 bytes")
	trail.Note(noon.Add(time.Minute), herb, netboot.StepAgent, "called")
	trail.Note(noon.Add(time.Hour), herb, netboot.StepLoader, "shim")
	assert.True(t, trail.CameUp(herb))
}
