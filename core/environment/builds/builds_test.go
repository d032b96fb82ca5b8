package builds_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/environment"
	"jugate/core/environment/builds"
)

// run runs a tool that judges.
func Run(t *testing.T, name string, args ...string) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), name, args...)
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1", "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

// put writes files below a folder; their content is their name, unless it is a
// module: then these are its entries.
func Put(t *testing.T, root, name string, modinfo ...string) {
	t.Helper()
	path := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	if modinfo == nil {
		require.NoError(t, os.WriteFile(path, []byte(name), 0o644))
		return
	}
	source := ".section .modinfo,\"a\"\n"
	for _, e := range append(modinfo, "vermagic=6.1.0-9-test SMP") {
		source += ".asciz \"" + e + "\"\n"
	}
	plain := strings.TrimSuffix(path, ".xz")
	cmd := exec.CommandContext(t.Context(), "as", "-o", plain)
	cmd.Stdin = strings.NewReader(source)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	if plain != path {
		Run(t, "xz", plain)
	}
}

// system is a folder like an unpacked kernel with loaders.
func System(t *testing.T) string {
	root := t.TempDir()
	Put(t, root, "boot/vmlinuz-6.1.0-9-test")
	modules := "lib/modules/6.1.0-9-test/"
	Put(t, root, modules+"modules.builtin")
	Put(t, root, modules+"kernel/drivers/net/ethernet/seed/seed.ko", "name=seed", "depends=seed-lib", "alias=pci:v00001AF4d*", "firmware=seed/a.fw", "firmware=seed/b.fw")
	Put(t, root, modules+"kernel/lib/seed-lib.ko.xz", "name=seed_lib")
	Put(t, root, modules+"kernel/drivers/gpu/screen.ko", "name=screen")
	Put(t, root, "lib/firmware/seed/a.fw")
	Put(t, root, "usr/lib/shim/shimx64.efi.signed")
	Put(t, root, "usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed")
	Put(t, root, "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed")
	return root
}

func Source(t *testing.T, roots ...string) *builds.Source {
	s := &builds.Source{}
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	for _, r := range roots {
		require.NoError(t, s.AddRoot(r))
	}
	return s
}

func Options(t *testing.T, number int) builds.Options {
	agent := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(agent, []byte("the agent"), 0o755))
	return builds.Options{Number: number, Created: Created, Agent: agent, Certificate: []byte("the certificate"),
		Settings: environment.Settings{Service: "https://192.0.2.1:7460"}}
}

func Open(t *testing.T, s *builds.Store, b *builds.Build, name string) []byte {
	c, err := s.Open(b, name)
	require.NoError(t, err)
	defer c.Close()
	all, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size))
	require.NoError(t, err)
	require.Len(t, all, int(c.Size))
	return all
}

// unpack has cpio and zstd, which the kernel's format is of, unpack all layers.
func Unpack(t *testing.T, s *builds.Store, b *builds.Build) (dir, list string) {
	dir = t.TempDir()
	initrd := Open(t, s, b, builds.InitrdPart)
	at, end := int64(0), int64(0)
	for i, l := range b.Layers {
		segment := filepath.Join(t.TempDir(), fmt.Sprint(i))
		require.Zero(t, at%4, "a segment begins at a multiple of four")
		require.NoError(t, os.WriteFile(segment, initrd[at:at+l.Part.Size], 0o644))
		list += Run(t, "sh", "-e", "-c", "cd '"+dir+"' && zstd -qdc '"+segment+"' > '"+segment+".cpio' && cpio -idm --quiet < '"+segment+".cpio' && cpio -itv --quiet < '"+segment+".cpio'")
		end = at + l.Part.Size
		at = (end + 3) &^ 3
	}
	require.EqualValues(t, len(initrd), end)
	return dir, list
}

func TestABuildHoldsWhatItSays(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b, err := s.Make(t.Context(), Source(t, System(t)), Options(t, 7))
	require.NoError(t, err)
	assert.Equal(t, "6.1.0-9-test", b.Kernel)
	assert.Equal(t, 2, b.Modules, "the network card's, and what it needs")
	assert.Equal(t, "boot/vmlinuz-6.1.0-9-test", string(Open(t, s, b, builds.KernelPart)))
	assert.Contains(t, strings.Join(b.Problems, "\n"), "seed may ask for firmware that is not there (seed/b.fw)")
	assert.Contains(t, strings.Join(b.Problems, "\n"), "no BIOS workstation can boot it")
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(b.Problems))), len(b.Problems), "what several parts lack is said once")

	dir, list := Unpack(t, s, b)
	assert.Contains(t, list, "sbin/modprobe -> ../init")
	assert.Contains(t, list, "5,   1")
	for path, want := range map[string]string{
		"init": "the agent", "etc/jugate/service.pem": "the certificate", "lib/firmware/seed/a.fw": "lib/firmware/seed/a.fw",
		"lib/modules/6.1.0-9-test/modules.alias": "alias pci:v00001AF4d* seed\n",
		"lib/modules/6.1.0-9-test/modules.dep":   "kernel/drivers/net/ethernet/seed/seed.ko: kernel/lib/seed-lib.ko\nkernel/lib/seed-lib.ko:\n",
	} {
		got, err := os.ReadFile(filepath.Join(dir, path))
		require.NoError(t, err)
		assert.Equal(t, want, string(got), path)
	}
	assert.NoFileExists(t, filepath.Join(dir, "lib/modules/6.1.0-9-test/kernel/drivers/gpu/screen.ko"))
	for _, l := range b.Layers {
		for _, f := range l.Files {
			assert.NotEmpty(t, f.Origin, f.Path)
			if f.Mode.IsRegular() {
				assert.Equal(t, f.Digest.String(), DigestOf(t, filepath.Join(dir, f.Path)), f.Path)
			}
		}
	}

	t.Log("# it is read back as it was made, and no number is used twice")
	again, err := s.Build(7)
	require.NoError(t, err)
	assert.Equal(t, b, again)
	_, err = s.Make(t.Context(), Source(t, System(t)), Options(t, 7))
	assert.ErrorIs(t, err, os.ErrExist)
	_, err = s.Open(b, "../../etc/passwd")
	assert.ErrorIs(t, err, builds.ErrNoPart)
}

// digestOf has b3sum compute a file's digest.
func DigestOf(t *testing.T, path string) string {
	return strings.Fields(Run(t, "b3sum", path))[0]
}

// A build says of which Debian packages it is made, in which versions: what dpkg has installed, and packages that were given.
func TestABuildNamesItsPackages(t *testing.T) {
	root := System(t)
	dpkg := func(name, text string) {
		path := filepath.Join(root, "var/lib/dpkg", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	dpkg("status", "Package: linux-image-6.1.0-9-test\nStatus: install ok installed\nVersion: 6.1.27-1\n\nPackage: shim-signed\nVersion: 1.44~1+deb12u1+15.8-1~deb12u1\n\nPackage: nano\nVersion: 7.2-1\n")
	dpkg("info/linux-image-6.1.0-9-test.list", "/.\n/boot\n/boot/vmlinuz-6.1.0-9-test\n/usr/lib/modules/6.1.0-9-test/kernel/drivers/net/ethernet/seed/seed.ko\n")
	dpkg("info/shim-signed:amd64.list", "/usr/lib/shim/shimx64.efi.signed\n")
	dpkg("info/nano.list", "/usr/bin/nano\n")
	dpkg("info/removed.list", "/lib/firmware/seed/a.fw\n")
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	o := Options(t, 7)
	o.Program = "8.0.0"
	b, err := s.Make(t.Context(), Source(t, root), o)
	require.NoError(t, err)
	assert.Equal(t, []string{"linux-image-6.1.0-9-test 6.1.27-1", "shim-signed 1.44~1+deb12u1+15.8-1~deb12u1"}, b.Packages)
	assert.Equal(t, "8.0.0", b.Program)
	of := map[string]string{}
	for _, f := range b.Layers[0].Files {
		of[filepath.Base(f.Path)] = f.Package
	}
	assert.Equal(t, "linux-image-6.1.0-9-test 6.1.27-1", of["seed.ko"], "whichever way its folder is called")
	assert.Empty(t, of["a.fw"], "of a package that is not installed any more")
	require.NoError(t, os.Truncate(filepath.Join(root, "var/lib/dpkg/status"), 0))
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), bytes.Repeat([]byte("x"), 2<<20), 0o644))
	assert.ErrorContains(t, (&builds.Source{}).AddRoot(root), "see of which packages")
}

func TestBuildsShareWhatIsEqualAndTellWhatIsNot(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	root := System(t)
	first, err := s.Make(t.Context(), Source(t, root), Options(t, 1))
	require.NoError(t, err)
	o := Options(t, 2)
	o.Settings.Service = "https://192.0.2.9:7460"
	second, err := s.Make(t.Context(), Source(t, root), o)
	require.NoError(t, err)
	assert.Equal(t, first.Layers[0].Part, second.Layers[0].Part, "another setting does not rebuild the base")
	changes := builds.Diff(first, second)
	require.Len(t, changes, 1)
	assert.Equal(t, builds.Change{What: "changed", Path: "/etc/jugate/settings.json", From: "jugate", To: "jugate"}, changes[0])

	Put(t, root, "lib/firmware/seed/b.fw")
	third, err := s.Make(t.Context(), Source(t, root), Options(t, 3))
	require.NoError(t, err)
	assert.Equal(t, "added", builds.Diff(first, third)[0].What)
	assert.Equal(t, "removed", builds.Diff(third, first)[0].What)
	numbers, err := s.Builds()
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, numbers)
}

func TestWhatLacksIsSaidInWords(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		spoil func(root string, o *builds.Options)
		want  string
	}{
		"no kernel":        {func(root string, _ *builds.Options) { os.RemoveAll(root + "/boot") }, "no kernel with its modules is there"},
		"another kernel":   {func(_ string, o *builds.Options) { o.Kernel = "5.9" }, "kernel 5.9 is not there; there are: 6.1.0-9-test"},
		"a module's need":  {func(root string, _ *builds.Options) { os.RemoveAll(root + "/lib/modules/6.1.0-9-test/kernel/lib") }, "module not there: seed_lib, which seed needs"},
		"a foreign module": {func(root string, _ *builds.Options) { Rename(t, root) }, "is for kernel 6.1.0-9-test, not for 6.1.0-8-test"},
		"no agent":         {func(_ string, o *builds.Options) { o.Agent = "/nonexistent" }, "the agent:"},
		"no shell":         {func(_ string, o *builds.Options) { o.Settings.Shell = true }, "a shell: bin/busybox"},
	} {
		t.Run(name, func(t *testing.T) {
			root, o := System(t), Options(t, 9)
			c.spoil(root, &o)
			_, err := s.Make(t.Context(), Source(t, root), o)
			var incomplete *builds.Incomplete
			require.ErrorAs(t, err, &incomplete)
			assert.Contains(t, err.Error(), c.want)
		})
	}
	numbers, err := s.Builds()
	require.NoError(t, err)
	assert.Empty(t, numbers, "nothing half-done is visible")
}

func Rename(t *testing.T, root string) {
	require.NoError(t, os.Rename(root+"/lib/modules/6.1.0-9-test", root+"/lib/modules/6.1.0-8-test"))
	require.NoError(t, os.Rename(root+"/boot/vmlinuz-6.1.0-9-test", root+"/boot/vmlinuz-6.1.0-8-test"))
}

func TestPackagesAreTakenAsTheyAre(t *testing.T) {
	root := System(t)
	require.NoError(t, os.MkdirAll(root+"/DEBIAN", 0o755))
	require.NoError(t, os.WriteFile(root+"/DEBIAN/control", []byte("Package: linux-image-test\nVersion: 6.1.9-1\nArchitecture: amd64\nMaintainer: nobody <nobody@example.org>\nDescription: none\n"), 0o644))
	file := filepath.Join(t.TempDir(), "kernel.deb")
	Run(t, "dpkg-deb", "--root-owner-group", "-b", root, file)
	from := Source(t)
	require.NoError(t, from.AddPackage(file))
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b, err := s.Make(t.Context(), from, Options(t, 1))
	require.NoError(t, err)
	assert.Equal(t, "linux-image-test 6.1.9-1", b.Origins[builds.KernelPart])
	require.NoError(t, os.WriteFile(file, []byte("!<arch>\nodd"), 0o644))
	assert.Error(t, Source(t).AddPackage(file))
}

func TestMediaAreReadByOthers(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b, err := s.Make(t.Context(), Source(t, System(t)), Options(t, 4))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "stick.img")
	f, err := os.Create(path)
	require.NoError(t, err)
	set := environment.Settings{Service: "https://192.0.2.1:7460", Key: "k", Network: &environment.FixedNetwork{Address: "192.0.2.70/24"}}
	kernel, err := s.Open(b, builds.KernelPart)
	require.NoError(t, err)
	require.NoError(t, s.WriteMedia(b, builds.Media{Settings: set, Entries: []builds.MediaEntry{{Title: "Test the memory", Words: "console=ttyS0", Starts: []builds.MediaStart{{BIOS: true, EFI: true, Kernel: kernel}}}}}, f))
	require.NoError(t, f.Close())

	t.Log("# as a disc it is read by those who read discs: its files are those of the stick, at the same places")
	report := Run(t, "sh", "-c", "xorriso -indev 'stdio:"+path+"' -report_el_torito plain -find / 2>&1")
	assert.Regexp(t, `El Torito boot img :\s+1\s+UEFI\s+y`, report)
	assert.Contains(t, report, "'/JUGATE/VMLINUZ'")
	assert.Contains(t, report, "'/EFI/DEBIAN/GRUB.CFG'")
	disc := t.TempDir()
	Run(t, "7z", "x", "-y", "-tiso", "-o"+disc, path)
	for name, part := range map[string]string{"VMLINUZ": builds.KernelPart, "INITRD": builds.InitrdPart, "E1-1/KERNEL": builds.KernelPart} {
		got, err := os.ReadFile(filepath.Join(disc, "JUGATE", name))
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256(Open(t, s, b, part)), sha256.Sum256(got), name)
	}

	assert.Contains(t, Run(t, "sfdisk", "--verify", path), "No errors detected")
	table := Run(t, "sfdisk", "--json", path)
	assert.Contains(t, table, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B")
	volume := filepath.Join(t.TempDir(), "volume")
	Run(t, "dd", "if="+path, "of="+volume, "bs=1M", "skip=1", "status=none")
	Run(t, "fsck.vfat", "-n", volume)
	for name, want := range map[string][]byte{
		"EFI/BOOT/BOOTX64.EFI": Open(t, s, b, builds.ShimPart), "EFI/BOOT/GRUBX64.EFI": Open(t, s, b, builds.MediaPart),
		"jugate/vmlinuz": Open(t, s, b, builds.KernelPart), "jugate/initrd": Open(t, s, b, builds.InitrdPart),
	} {
		got := filepath.Join(t.TempDir(), "file")
		Run(t, "mcopy", "-n", "-i", volume, "::"+name, got)
		content, err := os.ReadFile(got)
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256(want), sha256.Sum256(content), name)
	}
	assert.Contains(t, Run(t, "mtype", "-i", volume, "::EFI/debian/grub.cfg"), "configfile /jugate/media.cfg")
	script := Run(t, "mtype", "-i", volume, "::jugate/media.cfg")
	assert.Contains(t, script, "initrd /jugate/initrd /jugate/settings")
	assert.Contains(t, script, "if linux /jugate/e1-1/kernel 'console=ttyS0'; then")
	check := exec.CommandContext(t.Context(), "grub-script-check")
	check.Stdin = strings.NewReader(strings.ReplaceAll(script, "\r\n", "\n"))
	said, err := check.CombinedOutput()
	require.NoError(t, err, "%s", said)
	Run(t, "mcopy", "-i", volume, "::jugate/settings", filepath.Join(filepath.Dir(volume), "settings"))
	told := Run(t, "sh", "-c", "zstd -qdc "+filepath.Join(filepath.Dir(volume), "settings")+" | cpio -i --quiet --to-stdout etc/jugate/settings.json")
	assert.Contains(t, told, `"address": "192.0.2.70/24"`)
	assert.True(t, bytes.Contains([]byte(told), []byte(`"key": "k"`)))
}

func TestMediaWithAVolumeForData(t *testing.T) {
	s, err := builds.Open(t.TempDir())
	require.NoError(t, err)
	b, err := s.Make(t.Context(), Source(t, System(t)), Options(t, 4))
	require.NoError(t, err)
	program := filepath.Join(t.TempDir(), "jugate-outpost")
	require.NoError(t, os.WriteFile(program, []byte("a program"), 0o755))
	file := func(path string, content string) builds.MediaFile {
		return builds.MediaFile{Path: path, Size: int64(len(content)), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }}
	}
	for room, cluster := range map[int64]string{1 << 20: "512", 600 << 20: "4096"} {
		want := map[string]string{"outpost.pem": "a key", "UPPER.TXT": "short", "slabs/ab/" + strings.Repeat("ab", 32) + ".zst": strings.Repeat("slab", 3000), "name of 13 ch": "just one entry", "nothing in it.txt": ""}
		for i := range 60 {
			want[fmt.Sprintf("slabs/cd/%064x.zst", i)] = fmt.Sprint("slab ", i)
		}
		media := builds.Media{Settings: environment.Settings{Service: "https://192.0.2.1:7460", Outpost: &environment.Outpost{Name: "stick", Alone: true}}, Outpost: program, Room: room}
		for path, content := range want {
			media.Data = append(media.Data, file(path, content))
		}
		path := filepath.Join(t.TempDir(), "stick.img")
		f, err := os.Create(path)
		require.NoError(t, err)
		require.NoError(t, s.WriteMedia(b, media, f))
		require.NoError(t, f.Close())

		assert.Contains(t, Run(t, "sfdisk", "--verify", path), "No errors detected")
		var table struct {
			Table struct {
				Partitions []struct {
					Start, Size int64
					Type, Name  string
				}
			} `json:"partitiontable"`
		}
		require.NoError(t, json.Unmarshal([]byte(Run(t, "sfdisk", "--json", path)), &table))
		require.Len(t, table.Table.Partitions, 2)
		data := table.Table.Partitions[1]
		assert.Equal(t, "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", data.Type)
		assert.Equal(t, environment.DataVolume, data.Name)
		volume := filepath.Join(t.TempDir(), "volume")
		Run(t, "dd", "if="+path, "of="+volume, "bs=1M", fmt.Sprint("skip=", data.Start/2048), fmt.Sprintf("count=%d", (data.Size+2047)/2048), "status=none")
		assert.Contains(t, Run(t, "fsck.vfat", "-n", "-v", volume), cluster+" bytes per cluster")
		out := t.TempDir()
		Run(t, "mcopy", "-s", "-n", "-Q", "-i", volume, "::*", out)
		for name, content := range want {
			got, err := os.ReadFile(filepath.Join(out, name))
			if assert.NoError(t, err, name) {
				assert.Equal(t, content, string(got), name)
			}
		}
		assert.Greater(t, data.Size*512, room)

		boot := filepath.Join(t.TempDir(), "boot")
		Run(t, "dd", "if="+path, "of="+boot, "bs=1M", "skip=1", fmt.Sprintf("count=%d", data.Start/2048-1), "status=none")
		assert.Contains(t, Run(t, "mtype", "-i", boot, "::jugate/media.cfg"), "initrd /jugate/initrd /jugate/outpost /jugate/settings")
		Run(t, "mcopy", "-i", boot, "::jugate/outpost", filepath.Join(filepath.Dir(boot), "layer"))
		assert.Equal(t, "a program", Run(t, "sh", "-c", "zstd -qdc "+filepath.Join(filepath.Dir(boot), "layer")+" | cpio -i --quiet --to-stdout bin/jugate-outpost"))
	}
}
