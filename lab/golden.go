package lab

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Golden is a small Debian on a disk that starts by UEFI, with Secure Boot or
// without, and by BIOS.
type Golden struct {
	Path string
	Size int64 // bytes
	Host string
}

// goldenSize is the disk's: the system takes about half of it.
const goldenSize = 900 << 20

const goldenScript = `set timeout=0
menuentry "Garden desk" {
	linux /vmlinuz root=LABEL=garden-root ro console=tty0 console=ttyS0,115200 quiet
	initrd /initrd.img
}
`

// goldenTable has room for the loader of BIOS, a volume for UEFI, and the system.
const goldenTable = `label: gpt
start=1M, size=1M, type=21686148-6449-6E6F-744E-656564454649
size=48M, type=uefi
type=linux
`

// MakeGolden makes the disk with debootstrap. root is a folder with Debian's loaders,
// unpacked; work is for what is needed meanwhile.
func MakeGolden(ctx context.Context, root, work, path string) (*Golden, error) {
	system := filepath.Join(work, "system")
	sh := func(script string) error {
		cmd := exec.CommandContext(ctx, "sh", "-e", "-c", script)
		cmd.Env = append(os.Environ(), "ROOT="+root, "WORK="+work, "SYSTEM="+system, "DISK="+path, "PATH=/usr/sbin:/usr/bin:/sbin:/bin")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("make the golden disk: %w: %s", err, lastLines(string(out), 15))
		}
		return nil
	}
	err := sh(`
		mkdir -p "$WORK"
		suite=$(. /etc/os-release; echo $VERSION_CODENAME)
		site=$(apt-get indextargets --format '$(SITE)' "Codename: $suite" | head -n 1)
		debootstrap --variant=minbase --include=systemd-sysv,udev,linux-image-cloud-amd64,initramfs-tools,zstd,openssh-server,sudo,adcli "$suite" "$SYSTEM" "$site"
		rm -rf "$SYSTEM"/var/cache/apt/archives/*.deb "$SYSTEM"/var/cache/apt/*.bin "$SYSTEM"/var/lib/apt/lists/* "$SYSTEM"/usr/share/doc "$SYSTEM"/usr/share/man "$SYSTEM"/usr/share/locale "$SYSTEM"/usr/share/info
		echo garden-desk > "$SYSTEM/etc/hostname"
		echo "LABEL=garden-root / ext4 errors=remount-ro 0 1" > "$SYSTEM/etc/fstab"
		: > "$SYSTEM/etc/machine-id"
		rm -f "$SYSTEM/var/lib/dbus/machine-id" "$SYSTEM"/etc/ssh/ssh_host_*
		rm -f "$SYSTEM/etc/localtime" && ln -s /usr/share/zoneinfo/UTC "$SYSTEM/etc/localtime"
		mkdir -p "$SYSTEM/etc/systemd/system/serial-getty@ttyS0.service.d" "$SYSTEM/boot/grub" "$SYSTEM/etc/systemd/system.conf.d"
		printf '%s\n' '[Manager]' 'DefaultDeviceTimeoutSec=20min' 'DefaultTimeoutStartSec=20min' > "$SYSTEM/etc/systemd/system.conf.d/patience.conf" # a busy machine emulates slowly
		# The test reads from the console how large the root file system is, and who this is.
		printf '%s\n' '[Unit]' 'Description=Tell the size of the root file system' '[Service]' 'Type=oneshot' 'StandardOutput=tty' 'TTYPath=/dev/ttyS0' \
			'ExecStart=/bin/sh -c "echo garden root has $(stat -f -c %%b /) blocks of $(stat -f -c %%S /)"' \
			'ExecStart=/bin/sh -c "echo garden self $(hostname) $(cat /etc/machine-id) $(readlink /etc/localtime) $(cut -c 13-80 /etc/ssh/ssh_host_ed25519_key.pub) end"' '[Install]' 'WantedBy=multi-user.target' > "$SYSTEM/etc/systemd/system/tell.service"
		chroot "$SYSTEM" systemctl enable tell.service
		`)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(system, "boot/grub/grub.cfg"), []byte(goldenScript), 0o644); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(work, "table"), []byte(goldenTable), 0o644); err != nil {
		return nil, err
	}
	err = sh(fmt.Sprintf(`
		rm -f "$DISK"
		truncate -s %d "$DISK"
		sfdisk --quiet "$DISK" < "$WORK/table"
		truncate -s 48M "$WORK/esp"
		mkfs.vfat -F 32 -n GARDENESP "$WORK/esp" > /dev/null
		printf 'search --label garden-root --set root\nconfigfile /boot/grub/grub.cfg\n' > "$WORK/grub.cfg"
		export MTOOLS_SKIP_CHECK=1
		mmd -i "$WORK/esp" ::EFI ::EFI/BOOT ::EFI/debian
		mcopy -i "$WORK/esp" "$ROOT/usr/lib/shim/shimx64.efi.signed" ::EFI/BOOT/BOOTX64.EFI
		mcopy -i "$WORK/esp" "$ROOT/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed" ::EFI/BOOT/grubx64.efi
		mcopy -i "$WORK/esp" "$WORK/grub.cfg" ::EFI/debian/grub.cfg
		dd if="$WORK/esp" of="$DISK" bs=1M seek=2 conv=notrunc,sparse status=none
		size=$(sfdisk --json "$DISK" | grep -A5 '3",' | sed -n 's/.*"size": *\([0-9]*\).*/\1/p' | head -n 1)
		rm -f "$WORK/rootfs"
		truncate -s $((size * 512)) "$WORK/rootfs"
		mkfs.ext4 -q -F -L garden-root -d "$SYSTEM" "$WORK/rootfs"
		dd if="$WORK/rootfs" of="$DISK" bs=1M seek=50 conv=notrunc,sparse status=none
		MK=grub-mkimage; command -v $MK > /dev/null || MK="$ROOT/usr/bin/grub-mkimage"
		$MK -O i386-pc -d "$ROOT/usr/lib/grub/i386-pc" -p '(hd0,gpt3)/boot/grub' -o "$WORK/core.img" biosdisk part_gpt ext2 normal linux configfile serial terminal
		rm -rf "$SYSTEM" "$WORK/rootfs"
		`, goldenSize))
	if err != nil {
		return nil, err
	}
	return &Golden{path, goldenSize, "garden-desk"}, embedBIOS(path, filepath.Join(root, "usr/lib/grub/i386-pc/boot.img"), filepath.Join(work, "core.img"))
}

// Where a loader for BIOS says where its next part lies: the boot sector names a
// sector of eight bytes, and the first sector of the rest a list of sectors.
const (
	bootSectorField = 0x5c
	blockListField  = 512 - 12
	biosPartition   = 2048 // first sector
	bootCodeSize    = 440
)

// embedBIOS puts a loader for BIOS into the boot sector and the partition that is for
// it.
func embedBIOS(disk, boot, core string) error {
	first, err := os.ReadFile(boot)
	if err != nil {
		return err
	}
	rest, err := os.ReadFile(core)
	if err != nil {
		return err
	}
	if len(first) < bootCodeSize || len(rest) < 512 || len(rest) > 1<<20 {
		return errors.New("the loader for BIOS has an odd size")
	}
	binary.LittleEndian.PutUint64(first[bootSectorField:], biosPartition)
	binary.LittleEndian.PutUint64(rest[blockListField:], biosPartition+1)
	binary.LittleEndian.PutUint16(rest[blockListField+8:], uint16((len(rest)+511)/512-1))
	f, err := os.OpenFile(disk, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(first[:bootCodeSize], 0)
	_, err2 := f.WriteAt(rest, biosPartition*512)
	return errors.Join(err, err2, f.Close())
}

func lastLines(text string, n int) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}
