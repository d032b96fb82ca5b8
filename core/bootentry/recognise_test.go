package bootentry_test

import (
	"debug/pe"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/bootentry"
	"jugate/core/fault"
	"jugate/demo/madeup"
)

const (
	amd64  = pe.IMAGE_FILE_MACHINE_AMD64
	i386   = pe.IMAGE_FILE_MACHINE_I386
	elfX64 = 62
	elfARM = 183
)

func folder(files map[string][]byte) fs.FS {
	all := fstest.MapFS{}
	for name, b := range files {
		all[name] = &fstest.MapFile{Data: b}
	}
	return all
}

func TestWhatIsGivenIsRecognised(t *testing.T) {
	kernel, efi := madeup.LinuxKernel(madeup.UEFIProgram(amd64), true), madeup.UEFIProgram(amd64)
	for name, c := range map[string]struct {
		given       map[string][]byte
		disc        int64
		what, ways  string
		reads       bootentry.Format
		uefi, bios  bootentry.Way
		secure, low string // why not
	}{
		"a kernel with its initrd": {given: map[string][]byte{"vmlinuz": kernel, "initrd.img": madeup.Initrd(elfX64)}, what: "Linux system", ways: "kernel x64, not signed", uefi: bootentry.Kernel, bios: bootentry.Kernel, secure: "it is not signed", low: "it takes 64 MiB of memory at least"},
		"a tree of Debian's installer": {given: map[string][]byte{"debian-installer/amd64/linux": kernel, "debian-installer/amd64/initrd.gz": madeup.Initrd(elfX64), "version.info": []byte("Debian version:  12 (bookworm)\n"), "debian-installer/amd64/grubx64.efi": efi},
			what: "installer of Debian: 12 (bookworm)", ways: "kernel x64, not signed", reads: bootentry.Preseed, uefi: bootentry.Kernel, bios: bootentry.Kernel, secure: "it is not signed"},
		"a medium whose installer reads kickstart": {given: map[string][]byte{"images/pxeboot/vmlinuz": kernel, "images/pxeboot/initrd.img": madeup.Initrd(elfX64), ".treeinfo": []byte("[general]\n")}, disc: 1 << 20,
			what: "installer that reads kickstart files", ways: "kernel x64, not signed", reads: bootentry.Kickstart, uefi: bootentry.Kernel, bios: bootentry.Kernel, secure: "it is not signed"},
		"a memory test for both": {given: map[string][]byte{"test.efi": kernel, "test.bin": madeup.LinuxKernel(nil, true), "test32.bin": madeup.LinuxKernel(nil, false)}, what: "program", ways: "BIOS program x64; UEFI program x64, not signed; BIOS program ia32", uefi: bootentry.Program, bios: bootentry.Old, secure: "it is not signed"},
		"a program of UEFI":      {given: map[string][]byte{"tool.efi": efi}, what: "program", ways: "UEFI program x64, not signed", uefi: bootentry.Program, secure: "it is not signed"},
		"a disc":                 {given: map[string][]byte{"EFI/BOOT/BOOTX64.EFI": efi}, disc: 4 << 20, what: "disc", ways: "disc x64", uefi: bootentry.Disc, secure: "it is not signed"},
	} {
		t.Run(name, func(t *testing.T) {
			f, err := bootentry.Recognise(bootentry.Given{Files: folder(c.given), Disc: c.disc})
			require.NoError(t, err)
			assert.Equal(t, c.what, f.What)
			assert.Equal(t, c.ways, f.Ways())
			assert.Equal(t, c.reads, f.Reads)
			s, err := f.For(bootentry.Machine{Firmware: bootentry.UEFI, Memory: 8 << 30})
			require.NoError(t, err)
			assert.Equal(t, c.uefi, s.Way)
			if s, err = f.For(bootentry.Machine{Firmware: bootentry.BIOS}); c.bios != "" {
				require.NoError(t, err)
				assert.Equal(t, c.bios, s.Way)
			} else {
				assert.Equal(t, fault.Conflict, fault.KindOf(err))
				assert.Contains(t, strings.Join(f.Remarks, "\n"), "not by BIOS")
			}
			_, err = f.For(bootentry.Machine{Firmware: bootentry.UEFI, SecureBoot: true})
			assert.ErrorContains(t, err, c.secure)
			_, err = f.For(bootentry.Machine{Firmware: bootentry.UEFI, Memory: 32 << 20})
			assert.ErrorContains(t, err, cmpOr(c.low, "of memory at least"))
		})
	}
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func TestWhatCannotBeBooted(t *testing.T) {
	kernel := madeup.LinuxKernel(madeup.UEFIProgram(amd64), true)
	cut := madeup.UEFIProgram(amd64)[:0x420]
	whole := madeup.Initrd(elfX64)
	for name, c := range map[string]struct {
		given map[string][]byte
		disc  int64
		why   string
	}{
		"nothing":                               {map[string][]byte{"readme": []byte("hello")}, 0, "nothing here can be started"},
		"an initrd alone":                       {map[string][]byte{"initrd.img": whole}, 0, "nothing here can be started"},
		"an initrd of another architecture":     {map[string][]byte{"vmlinuz": kernel, "initrd": madeup.Initrd(elfARM)}, 0, "initrd has programs of AARCH64, and the kernel vmlinuz is one of x64"},
		"an initrd that is cut off":             {map[string][]byte{"vmlinuz": kernel, "initrd": whole[:len(whole)-20]}, 0, "initrd is damaged or cut off"},
		"a program that is cut off":             {map[string][]byte{"tool.efi": cut}, 0, "tool.efi is damaged or cut off"},
		"a disc without a program":              {map[string][]byte{"boot/disk.img": []byte("x")}, 1 << 20, "no program where UEFI looks for one"},
		"a program of another operating system": {map[string][]byte{"setup.exe": []byte("MZ and more")}, 0, "nothing here can be started"},
	} {
		_, err := bootentry.Recognise(bootentry.Given{Files: folder(c.given), Disc: c.disc})
		assert.ErrorContains(t, err, c.why, name)
		assert.Equal(t, fault.Invalid, fault.KindOf(err), name)
	}
	f, err := bootentry.Recognise(bootentry.Given{Files: folder(map[string][]byte{"tool.efi": madeup.UEFIProgram(pe.IMAGE_FILE_MACHINE_ARM64)})})
	require.NoError(t, err)
	_, err = f.For(bootentry.Machine{})
	assert.ErrorContains(t, err, "nothing of it starts on a machine of 64 bits (it has: UEFI program arm64, not signed)")
	f, err = bootentry.Recognise(bootentry.Given{Files: folder(map[string][]byte{"tool.efi": madeup.UEFIProgram(i386)})})
	require.NoError(t, err)
	_, err = f.For(bootentry.Machine{Firmware: bootentry.UEFI})
	assert.Error(t, err, "firmware of 64 bits does not start programs of 32")
}

// Who signed a program is what the tool of others wrote into it.
func TestWhoSignedAProgram(t *testing.T) {
	sign, err := exec.LookPath("sbsign")
	if err != nil {
		t.Skip("sbsign is not here (Debian's package sbsigntool)")
	}
	dir := t.TempDir()
	run := func(args ...string) {
		cmd := exec.CommandContext(t.Context(), args[0], args[1:]...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-days", "2", "-subj", "/CN=Fennholt boot programs")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tool.efi"), append(madeup.UEFIProgram(amd64), make([]byte, 512)...), 0o644))
	run(sign, "--key", "key.pem", "--cert", "cert.pem", "--output", "signed.efi", "tool.efi")
	b, err := os.ReadFile(filepath.Join(dir, "signed.efi"))
	require.NoError(t, err)
	f, err := bootentry.Recognise(bootentry.Given{Files: folder(map[string][]byte{"signed.efi": b})})
	require.NoError(t, err)
	assert.Equal(t, "UEFI program x64, signed by Fennholt boot programs", f.Ways())
	_, err = f.For(bootentry.Machine{Firmware: bootentry.UEFI, SecureBoot: true})
	assert.NoError(t, err)
}

func FuzzRecognise(f *testing.F) {
	f.Add(madeup.LinuxKernel(madeup.UEFIProgram(amd64), true), []byte("\x1f\x8b"), int64(0))
	f.Add(madeup.UEFIProgram(i386), []byte("070701"), int64(1<<20))
	f.Fuzz(func(t *testing.T, kernel, root []byte, disc int64) {
		found, err := bootentry.Recognise(bootentry.Given{Files: folder(map[string][]byte{"vmlinuz": kernel, "initrd": root, "EFI/BOOT/BOOTX64.EFI": kernel}), Disc: disc})
		if err != nil {
			return
		}
		for _, m := range []bootentry.Machine{{}, {Firmware: bootentry.UEFI, SecureBoot: true}, {Firmware: bootentry.BIOS}} {
			if s, err := found.For(m); err == nil {
				assert.NotEmpty(t, s.Files)
				assert.False(t, m.SecureBoot && s.Signer == "")
			}
		}
	})
}
