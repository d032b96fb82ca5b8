package agent

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/volume"
)

// cardsOnly is a machine of which only its network cards are there.
type cardsOnly struct{ Machine }

func (cardsOnly) Inventory() (api.Inventory, error) {
	return api.Inventory{Cards: []api.Card{{Address: "00:00:5e:00:53:99", Adapter: true}, {Address: "00:00:5e:00:53:11"}}}, nil
}
func (cardsOnly) Listen(netip.AddrPort) (PacketReader, error) { return nil, net.ErrClosed }

const passwordHash = "$6$fennholt$KlLxKZbDz7h1S5d9n0Y3i8yQ2b4W6m8x0z1A3C5E7G9I1K3M5O7Q9S1U3W5Y7a9c1e3g5i7k9m1o3q5s7u9w1y3A5"

// goldenLinux is as much of a Debian system as answers change.
func goldenLinux(t *testing.T, dir string) {
	install(t, dir, map[string]string{
		"etc/os-release": "ID=debian\n", "etc/debian_version": "13\n", "etc/hostname": "desk-gold\n", "etc/hosts": "127.0.1.1 desk-gold\n", "etc/machine-id": "8d6f1a520c1b4a679a440000aa310001\n",
		"etc/passwd": "root:x:0:0:root:/root:/bin/sh\n", "etc/shadow": "root:*:19000:0:99999:7:::\n", "etc/group": "root:x:0:\nshadow:x:42:\nsudo:x:27:\n", "etc/gshadow": "root:*::\nshadow:*::\nsudo:*::\n",
		"etc/skel/.profile": "# profile\n", "bin/bash": "", "bin/sh": "", "usr/sbin/sshd": "", "etc/ssh/sshd_config": "", "etc/default/locale": "", "usr/share/zoneinfo/Europe/Vienna": "", "root/.profile": "",
		"var/lib/systemd/random-seed": "golden", "etc/network/interfaces": "auto eth0\n", "elsewhere/passwd": "untouched",
	})
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "home"), 0o755))
	require.NoError(t, os.Symlink("../usr/share/zoneinfo/UTC", filepath.Join(dir, "etc/localtime")))
	require.NoError(t, os.Symlink("../elsewhere/passwd", filepath.Join(dir, "etc/timezone")))
}

func told(t *testing.T, values map[string]string) *api.ToAnswer {
	t.Helper()
	to := &api.ToAnswer{Values: map[string]string{}}
	for key, text := range values {
		v, err := answers.Parse(key, text)
		require.NoError(t, err)
		to.Values[key] = string(v)
	}
	return to
}

// judged runs a tool over the files of a disk.
func judged(t *testing.T, argv ...string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), argv[0], argv[1:]...).CombinedOutput()
	require.NoError(t, err, "%v: %s", argv, out)
	return string(out)
}

func TestAnswersIntoALinuxVolume(t *testing.T) {
	for _, mkfs := range [][]string{{"mkfs.ext4", "-q"}, {"mkfs.btrfs", "-q", "--mixed"}} {
		t.Run(mkfs[0], func(t *testing.T) {
			d := volumeDisk(t, mkfs, func(dir string) { goldenLinux(t, dir) })
			a := New(nil, cardsOnly{}, Options{Show: func(Status) {}})
			did, err := a.answer(t.Context(), d, anywhere, told(t, map[string]string{
				"computer_name": "herb-01", "time_zone": "Europe/Vienna", "locale": "de_AT",
				"accounts": "[{name: scan, full_name: Scanning desk, administrator: true, password_hash: " + passwordHash + "}]", "network": "[{addresses: [192.0.2.31/24]}]",
			}), nil)
			require.NoError(t, err)
			assert.Contains(t, did[0], "answered as herb-01")
			inside(t, d, func(dir string) {
				read := func(name string) string {
					text, err := os.ReadFile(filepath.Join(dir, name))
					require.NoError(t, err)
					return string(text)
				}
				assert.Equal(t, "herb-01\n", read("etc/hostname"))
				assert.Empty(t, read("etc/machine-id"))
				assert.Contains(t, read("etc/network/interfaces.d/jugate-1"), "/mac/00:00:5e:00:53:11", "its own first card, and no adapter")
				target, err := os.Readlink(filepath.Join(dir, "etc/localtime"))
				require.NoError(t, err)
				assert.Equal(t, "../usr/share/zoneinfo/Europe/Vienna", target)
				assert.Equal(t, "Europe/Vienna\n", read("etc/timezone"))
				assert.Equal(t, "untouched", read("elsewhere/passwd"), "nothing is written through a link")

				t.Log("# judged by the tools of shadow and OpenSSH")
				judged(t, "pwck", "-r", "-q", "-R", dir)
				judged(t, "grpck", "-r", "-R", dir)
				for _, kind := range []string{"ed25519", "rsa", "ecdsa"} {
					key := filepath.Join(dir, "etc/ssh/ssh_host_"+kind+"_key")
					assert.Equal(t, strings.Fields(judged(t, "ssh-keygen", "-y", "-f", key))[1], strings.Fields(read("etc/ssh/ssh_host_" + kind + "_key.pub"))[1])
					info, err := os.Stat(key)
					require.NoError(t, err)
					assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
				}
				for name, want := range map[string][3]uint32{"etc/shadow": {0o640, 0, 42}, "home/scan": {0o700, 1000, 1000}, "home/scan/.profile": {0o644, 1000, 1000}} {
					info, err := os.Stat(filepath.Join(dir, name))
					require.NoError(t, err)
					s := info.Sys().(*syscall.Stat_t)
					assert.Equal(t, want, [3]uint32{uint32(info.Mode().Perm()), s.Uid, s.Gid}, name)
				}
				left, err := filepath.Glob(filepath.Join(dir, "*/.jugate-*"))
				require.NoError(t, err)
				assert.Empty(t, left)
			})
		})
	}
}

func TestWhatIsLeftOpenIsAskedBeforeAnythingIsWritten(t *testing.T) {
	typed := []string{"", "Vienna", "{ask: me}", "Europe/Vienna"}
	var heard []string
	a := New(nil, cardsOnly{}, Options{Show: func(Status) {}, Ask: func(_ context.Context, q answers.Question, wrong string) (string, error) {
		heard = append(heard, q.Key+": "+wrong)
		return typed[len(heard)-1], nil
	}})
	open := func() *api.ToAnswer {
		return &api.ToAnswer{Values: map[string]string{"computer_name": `"herb-01"`, "time_zone": `{"ask":"Which time zone?"}`, "description": `{"ask":"Where does it stand?","default":"2.14"}`}}
	}
	to := open()
	require.NoError(t, a.complete(t.Context(), to))
	assert.Equal(t, map[string]string{"computer_name": `"herb-01"`, "time_zone": `"Europe/Vienna"`, "description": `"2.14"`}, to.Values)
	require.Len(t, heard, 4)
	assert.Contains(t, heard[2], "not a time zone of the IANA list")
	assert.Contains(t, heard[3], "this is a question")

	t.Log("# without a screen its default counts, and without one nothing is written")
	a = New(nil, cardsOnly{}, Options{Show: func(Status) {}})
	assert.ErrorContains(t, a.complete(t.Context(), open()), "time_zone: it is to be asked at the screen, and this machine has none")
}

// Somebody at the screen says yes, or nothing is written.
func TestADeliveryIsConfirmedBeforeAnythingIsWritten(t *testing.T) {
	for typed, want := range map[string]string{"yes": "", "YES": "", "no": "somebody at the screen has said no to: Are all files saved?"} {
		asked := 0
		a := New(nil, cardsOnly{}, Options{Show: func(Status) {}, Ask: func(_ context.Context, q answers.Question, wrong string) (string, error) {
			if asked++; asked == 1 {
				assert.Equal(t, []string{"Are all files saved?", ""}, []string{q.Ask, wrong})
				return "perhaps", nil
			}
			assert.Equal(t, "Type yes, or no.", wrong)
			return typed, nil
		}})
		if err := a.confirm(t.Context(), "Are all files saved?"); want == "" {
			assert.NoError(t, err)
		} else {
			assert.EqualError(t, err, want)
		}
		assert.Equal(t, 2, asked)
	}
	r := &receiver{agent: New(nil, cardsOnly{}, Options{Show: func(Status) {}}), to: &api.ToReceive{RestoreOptions: api.RestoreOptions{Confirm: "Are all files saved?"}}}
	assert.EqualError(t, r.prepare(t.Context()), "nothing was written: somebody has to confirm it at the screen, and this machine has none")
}

func TestAnswersThatCannotBeCarriedOut(t *testing.T) {
	d := volumeDisk(t, []string{"mkfs.ext4", "-q"}, func(dir string) { install(t, dir, map[string]string{"home/x": ""}) })
	a := New(nil, cardsOnly{}, Options{Show: func(Status) {}})
	_, err := a.answer(t.Context(), d, anywhere, told(t, map[string]string{"computer_name": "herb-01"}), nil)
	assert.ErrorContains(t, err, "no system on this disk can take answers")
	r := &receiver{agent: a, to: &api.ToReceive{Answer: &api.ToAnswer{Problem: "two groups differ"}}}
	assert.EqualError(t, r.prepare(t.Context()), "nothing was written, as the copy could not be answered: two groups differ")
	_, err = a.answer(t.Context(), d, anywhere, &api.ToAnswer{Values: map[string]string{"of_tomorrow": `"x"`}}, nil)
	assert.ErrorContains(t, err, "this build of the boot environment does not know")

	t.Log("# a volume without room says so, and no file is half written")
	full := volumeDisk(t, []string{"mkfs.ext4", "-q"}, func(dir string) {
		goldenLinux(t, dir)
		f, err := os.Create(filepath.Join(dir, "big"))
		require.NoError(t, err)
		_, err = io.Copy(f, io.LimitReader(zeros{}, 1<<30))
		require.ErrorIs(t, err, syscall.ENOSPC)
		f.Close()
	})
	_, err = a.answer(t.Context(), full, anywhere, told(t, map[string]string{"files": "[{path: /etc/large, content: " + strings.Repeat("x", 20_000) + "}]"}), nil)
	require.ErrorIs(t, err, syscall.ENOSPC)
	inside(t, full, func(dir string) {
		_, err := os.Stat(filepath.Join(dir, "etc/large"))
		assert.ErrorIs(t, err, os.ErrNotExist)
	})
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { return len(b), nil }

func TestAnswersIntoAWindowsVolume(t *testing.T) {
	d := volumeDisk(t, []string{"mkfs.ntfs", "-Q", "-F", "-q"}, func(dir string) {
		install(t, dir, map[string]string{"Windows/System32/config/SYSTEM": "", "Windows/PANTHER/Unattend.xml": answerFile, "Windows/Setup/State/State.ini": "[State]\r\nImageState=IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE\r\n"})
		// The writer of the file system lets everybody do everything; an installed system does not.
		root := make([]byte, 64<<10)
		n, err := unix.Getxattr(dir, descriptorsOfProgram, root)
		require.NoError(t, err)
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "Windows/Setup"), descriptorsOfProgram, root[:n], 0))
	})
	a := New(nil, cardsOnly{}, Options{Show: func(Status) {}})
	to := told(t, map[string]string{"computer_name": "herb-01", "time_zone": "Europe/Vienna", "accounts": "[{name: scan, password: sundial}]", "commands": "[echo garden]"})
	to.Arch = "amd64"
	did, err := a.answer(t.Context(), d, anywhere, to, nil)
	require.NoError(t, err)
	assert.Contains(t, did[0], "answered as herb-01")
	inside(t, d, func(dir string) {
		text, err := os.ReadFile(filepath.Join(dir, "Windows/PANTHER/Unattend.xml"))
		require.NoError(t, err)
		for _, says := range []string{"<ComputerName>herb-01</ComputerName>", "<TimeZone>W. Europe Standard Time</TimeZone>", "cmd /c echo garden", "<Name>scan</Name>"} {
			assert.Contains(t, string(text), says)
		}
		assert.NotContains(t, string(text), "sundial")
		command, err := os.ReadFile(filepath.Join(dir, "Windows/Setup/Scripts/SetupComplete.cmd"))
		require.NoError(t, err)
		assert.Equal(t, "echo garden\r\ndel /f /q \"%SystemDrive%\\Windows\\PANTHER\\Unattend.xml\"\r\n", string(command), "the passwords leave the disk")
		judged(t, "xmllint", "--noout", filepath.Join(dir, "Windows/PANTHER/Unattend.xml"))
	})
	loop, err := attach(d.File, 1<<20, 62<<20, false)
	require.NoError(t, err)
	defer loop.Close()
	for name, says := range map[string]string{
		"/Windows/Setup/State":                     "ff011f00 01010000 00000001 00000000", // everybody may do everything, as it was
		"/Windows/Setup/Scripts":                   "00101400 bf011300",                   // from above: those who have signed in may change it
		"/Windows/Setup/Scripts/SetupComplete.cmd": "mode 0700",                           // commands can have secrets
		"/Windows/PANTHER/Unattend.xml":            "mode 0700",
	} {
		out, err := exec.CommandContext(t.Context(), "ntfssecaudit", "-v", loop.Name(), name).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), says, name)
	}
}

func TestAWindowsVolumeThatCannotTakeAnswers(t *testing.T) {
	const at = "Windows/Panther/unattend.xml"
	golden := func(answerFile string, more func(dir string)) hardwareDisk {
		return volumeDisk(t, []string{"mkfs.ntfs", "-Q", "-F", "-q"}, func(dir string) {
			install(t, dir, map[string]string{"Windows/System32/config/SYSTEM": "", at: answerFile})
			if more != nil {
				more(dir)
			}
		})
	}
	answered := func(d hardwareDisk) error {
		to := told(t, map[string]string{"computer_name": "herb-01", "files": "[{path: /large, content: " + strings.Repeat("x", 30_000) + "}]"})
		to.Arch = "amd64"
		_, err := New(nil, cardsOnly{}, Options{Show: func(Status) {}}).answer(t.Context(), d, anywhere, to, nil)
		return err
	}
	asItWas := func(d hardwareDisk, want string) {
		inside(t, d, func(dir string) {
			text, err := os.ReadFile(filepath.Join(dir, at))
			require.NoError(t, err)
			assert.Equal(t, want, string(text))
			left, err := filepath.Glob(filepath.Join(dir, "Windows/Panther/.jugate*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}

	t.Log("# an answer file that is none")
	broken := golden("<unattend><settings>", nil)
	assert.ErrorContains(t, answered(broken), "well-formed")
	asItWas(broken, "<unattend><settings>")

	t.Log("# no room")
	full := golden(answerFile, func(dir string) {
		f, err := os.Create(filepath.Join(dir, "big"))
		require.NoError(t, err)
		_, err = io.Copy(f, io.LimitReader(zeros{}, 1<<30))
		require.ErrorIs(t, err, syscall.ENOSPC)
		f.Close()
	})
	require.ErrorIs(t, answered(full), syscall.ENOSPC)

	t.Log("# a system that sleeps: what is on its disk is not all of it")
	asleep := golden(answerFile, func(dir string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "hiberfil.sys"), append([]byte("hibr"), make([]byte, 1<<16)...), 0o644))
	})
	assert.ErrorContains(t, answered(asleep), "read-only")

	t.Log("# one that was not shut down is played back, and takes them")
	unclean := golden(answerFile, nil)
	loop, err := attach(unclean.File, 1<<20, 62<<20, true)
	require.NoError(t, err)
	boot := make([]byte, 512)
	_, err = loop.ReadAt(boot, 0)
	require.NoError(t, err)
	record := int64(binary.LittleEndian.Uint64(boot[0x30:]))*int64(boot[13])*512 + 3*1024 // of the volume itself
	head := make([]byte, 1024)
	_, err = loop.ReadAt(head, record)
	require.NoError(t, err)
	info := bytes.Index(head, []byte{0x70, 0, 0, 0}) // $VOLUME_INFORMATION
	mirror := int64(binary.LittleEndian.Uint64(boot[0x38:]))*int64(boot[13])*512 + 3*1024
	for _, at := range []int64{record, mirror} {
		_, err = loop.WriteAt([]byte{1}, at+int64(info)+24+10)
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(loop.Sync(), loop.Close()))
	v, err := volume.Open(io.NewSectionReader(unclean, 1<<20, 62<<20), 62<<20)
	require.NoError(t, err)
	require.False(t, v.Clean)
	assert.NoError(t, answered(unclean))
}
