package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"jugate/agent"
	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/sim"
)

// month measures what a Debian root stores after a month of real change: its packages as they
// were released, and as the security archive has them now, with the logs of that.
func month(ctx context.Context, dir string) error {
	if err := releasedAndUpgraded(ctx, dir); err != nil {
		return err
	}
	store := path(dir, "store")
	_, first, err := step(ctx, "capture", path(dir, "released"), store, "garden-desk@1")
	if err != nil {
		return err
	}
	_, second, err := step(ctx, "capture", path(dir, "upgraded"), store, "garden-desk@2")
	if err != nil {
		return err
	}
	took, leaned, err := step(ctx, "lean", store, "garden-desk@1", "garden-desk@2")
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

// next measures what a room that has the last version costs the wire when the next one comes.
func next(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	b := &bench{dir: dir, size: 1 << 30}
	if err := b.build(ctx); err != nil {
		return err
	}
	s, err := serveHere(ctx, path(dir, "data"))
	if err != nil {
		return err
	}
	defer s.stop()
	client, running, work := s.client, s.running, &s.work
	bring := func() error {
		return s.run(ctx, "image", "import", b.gold, "--as", "garden-desk", "--despite", "benchmark")
	}
	deliver := func(reuse bool) (api.Delivery, error) {
		d, err := client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: []string{"herb-01", "herb-02"}, Reuse: reuse, Rate: 400e6})
		for err == nil && d.Ended == nil {
			time.Sleep(50 * time.Millisecond)
			d, err = client.Delivery(ctx, d.ID)
		}
		for _, m := range d.Members {
			if m.Outcome != "delivered" {
				return d, fmt.Errorf("%s: %s %s", m.Workstation, m.Outcome, m.Reason)
			}
		}
		return d, err
	}
	if err := bring(); err != nil {
		return err
	}
	for i, name := range []string{"herb-01", "herb-02"} {
		target := path(dir, name)
		if err := golddisk.Blank(target, b.size); err != nil {
			return err
		}
		w := &sim.Workstation{Addresses: []hwaddr.Address{hwaddr.MustParse(address(i))}, Disks: []string{target}, Interface: "lo", Loss: 0.005}
		work.Go(func() { agent.New(client.WithToken(""), w, agent.Options{}).Run(running) })
		if err := admit(ctx, client, i, name); err != nil {
			return err
		}
	}
	first, err := deliver(false)
	if err != nil {
		return err
	}
	v, err := client.Version(ctx, "garden-desk")
	if err != nil {
		return err
	}
	changed, err := b.change(ctx, 0.05, v.UsedBytes)
	if err != nil {
		return err
	}
	if err := bring(); err != nil {
		return err
	}
	for v.Version != 2 || v.Leaned == nil {
		time.Sleep(50 * time.Millisecond)
		if v, err = client.Version(ctx, "garden-desk"); err != nil {
			return err
		}
	}
	second, err := deliver(true)
	if err != nil {
		return err
	}
	fmt.Printf("next version to a room that has the last one: %d bytes of files were overwritten, %d on the wire: %.2f (at most 1.25 wanted); the first version took %d\n",
		changed, second.WireBytes, float64(second.WireBytes)/float64(changed), first.WireBytes)
	return nil
}
