package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"jugate/core/image"
	"jugate/core/leaning"
	"jugate/core/roster"
	"jugate/core/slabstore"
)

// leanOnce has the second version lean on the first, as the service does after a capture, and
// tells how many bytes the store has less.
func leanOnce(ctx context.Context, dir, before, after string) error {
	store, err := slabstore.Open(path(dir, "slabs"))
	if err != nil {
		return err
	}
	one, err := versionOf(dir, before)
	if err != nil {
		return err
	}
	other, err := versionOf(dir, after)
	if err != nil {
		return err
	}
	done, err := leaning.Run(ctx, store, one, other, nil)
	if err != nil {
		return err
	}
	return report(result{NewSlabs: done.Slabs, NewBytes: -done.Bytes})
}

func versionOf(dir, ref string) (leaning.Version, error) {
	_, slabs, err := load(dir, ref)
	if err != nil {
		return leaning.Version{}, err
	}
	version, err := roster.ParseRef(ref)
	return leaning.Version{Slabs: slabs, Sketches: (image.Files{Dir: path(dir, "images")}).Sketches(version)}, err
}

// month measures what a Debian root stores after a month of real change: its packages as they
// were released, and as the security archive has them now, with the logs of that.
func month(ctx context.Context, dir string) error {
	if err := releasedAndUpgraded(ctx, dir); err != nil {
		return err
	}
	store := path(dir, "store")
	_, first, err := self(ctx, "capture", path(dir, "released"), store, "garden-desk@1")
	if err != nil {
		return err
	}
	_, second, err := self(ctx, "capture", path(dir, "upgraded"), store, "garden-desk@2")
	if err != nil {
		return err
	}
	took, leaned, err := self(ctx, "lean", store, "garden-desk@1", "garden-desk@2")
	if err != nil {
		return err
	}
	fmt.Printf("month: %d MB in use, then %d MB; %d of %d slabs are new, %.1f MB of frames\n", first.Used/1e6, second.Used/1e6, second.NewSlabs, second.Slabs, float64(second.NewBytes)/1e6)
	added := second.NewBytes + leaned.NewBytes
	for _, level := range []string{"-3", "-1"} {
		patch := path(dir, "patch")
		if _, err := shell(ctx, fmt.Sprintf("zstd %s -q -f --long=31 --patch-from=%s %s -o %s", level, path(dir, "released"), path(dir, "upgraded"), patch)); err != nil {
			return err
		}
		info, err := os.Stat(patch)
		if err != nil {
			return err
		}
		fmt.Printf("month: the second version adds %.1f MB, %d slabs lean; zstd %s --patch-from of the raw disks %.1f MB: ratio %.2f; %.1f s, %d MiB\n",
			float64(added)/1e6, leaned.NewSlabs, level, float64(info.Size())/1e6, float64(added)/float64(info.Size()), took, leaned.Peak/mib)
	}
	return nil
}

// releasedAndUpgraded makes two disks of one root. What this machine is told of Debian's
// archives is taken over.
func releasedAndUpgraded(ctx context.Context, dir string) error {
	cmd := exec.CommandContext(ctx, "bash", "-c", monthScript)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		text := strings.TrimSpace(string(out))
		return fmt.Errorf("make a Debian root: %w: %s", err, text[max(0, len(text)-800):])
	}
	return nil
}

// The disk has no table, and less than 2 GB, as zstd --patch-from takes no more.
const monthScript = `set -eux
export DEBIAN_FRONTEND=noninteractive LC_ALL=C
site=$(sed -n 's/^URIs: //p' /etc/apt/sources.list.d/debian.sources | head -n 1)
suite=$(sed -n 's/^Suites: \([a-z]*\).*/\1/p' /etc/apt/sources.list.d/debian.sources | head -n 1)
truncate -s 1900M volume
mkfs.ext4 -q -F volume
mkdir root
trap 'umount -q root/proc || true; umount -q root || true' EXIT
mount -o loop volume root
debootstrap --variant=minbase --include=systemd-sysv,udev,linux-image-amd64,initramfs-tools,zstd,openssh-server,sudo,curl,git,vim,python3,perl,rsyslog,openssl,ca-certificates,locales "$suite" root "$site"
cp /etc/resolv.conf /etc/hosts root/etc/ || true
cp -r /etc/apt/apt.conf.d/. root/etc/apt/apt.conf.d/
mkdir -p root/etc/ssl/certs
cp -L /etc/ssl/certs/ca-certificates.crt root/etc/ssl/certs/
printf '#!/bin/sh\nexit 101\n' > root/usr/sbin/policy-rc.d
chmod +x root/usr/sbin/policy-rc.d
mount -t proc proc root/proc
chroot root apt-get -y -qq install --no-install-recommends firefox-esr
chroot root apt-get clean
umount root/proc
umount root
cp --sparse=always volume released
mount -o loop volume root
mount -t proc proc root/proc
cp /etc/apt/sources.list.d/debian.sources root/etc/apt/sources.list.d/
rm -f root/etc/apt/sources.list
chroot root apt-get -qq update
chroot root apt-get -y -qq upgrade
chroot root apt-get clean
for n in $(seq 1 30000); do echo "day $((n / 1000)) desk systemd[1]: Started session $n of user fern, $((n * 7919 % 100003))."; done >> root/var/log/syslog
umount root/proc
umount root
cp --sparse=always volume upgraded
rm volume
`
