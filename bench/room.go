package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"jugate/agent"
	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/demo/golddisk"
	"jugate/lab"
	"jugate/sim"
)

// goldDisk makes a disk file with an ext4 partition full of bytes that do not
// compress.
func goldDisk(ctx context.Context, dir string, megabytes int) (string, error) {
	gold := path(dir, "room-gold")
	size := int64(megabytes+megabytes/5+40) * mib
	if err := golddisk.Blank(gold, size); err != nil {
		return "", err
	}
	if err := golddisk.Partition(ctx, gold, 512, "label: gpt\nstart=1M, type=linux\n"); err != nil {
		return "", err
	}
	part := path(dir, "room-part")
	err := golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: part, Size: size - 2*mib, Mkfs: []string{"mkfs.ext4", "-q", "-F"}, Fill: func(mounted string) error {
		return payload(path(mounted, "specimens"), int64(megabytes)*mib)
	}})
	if err != nil {
		return "", err
	}
	defer os.Remove(part)
	return gold, golddisk.Put(gold, mib, part)
}

// dragging delivers to eight workstations in a network, of which one loses a fifth
// of the packets, and measures when the others had everything.
func dragging(ctx context.Context, dir string) error {
	const megabytes, mbit = 75, 40
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	hosts := []string{"desk"}
	for i := range 8 {
		hosts = append(hosts, fmt.Sprintf("herb-%02d", i+1))
	}
	n, err := lab.NewNetwork(ctx, hosts...)
	if err != nil {
		return err
	}
	defer n.Close()
	desk := n.Host("desk")
	if err := desk.Rate(ctx, 1.3*mbit*1e6); err != nil {
		return err
	}
	gold, err := goldDisk(ctx, dir, megabytes)
	if err != nil {
		return err
	}
	s, err := serveIn(ctx, desk, path(dir, "room-data"))
	if err != nil {
		return err
	}
	defer s.stop()
	client := s.client
	if err := s.run(ctx, "image", "import", gold, "--as", "garden-desk", "--despite", "benchmark"); err != nil {
		return err
	}
	var agents []*exec.Cmd
	defer func() {
		for _, a := range agents {
			a.Process.Signal(os.Interrupt)
			a.Wait()
		}
	}()
	for i, name := range hosts[1:] {
		h := n.Host(name)
		if i == 4 {
			if err := h.Lose(ctx, 0.2); err != nil {
				return err
			}
		}
		target := path(dir, "room-"+name)
		if err := golddisk.Blank(target, int64(megabytes+megabytes/5+40)*mib); err != nil {
			return err
		}
		a := h.Command(ctx, executable, "--server", s.url, "--authority", path(s.data, "authority.pem"), "simulate", "--address", address(i), "--disk", target, "--interface", lab.Interface)
		if err := a.Start(); err != nil {
			return err
		}
		agents = append(agents, a)
		if err := admit(ctx, client, i, name); err != nil {
			return err
		}
	}
	d, err := client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: hosts[1:], Rate: mbit * 1e6})
	if err != nil {
		return err
	}
	whole, alone := map[string]time.Time{}, map[string]string{}
	var began time.Time
	for d.Ended == nil {
		if d, err = client.Delivery(ctx, d.ID); err != nil {
			return err
		}
		now := time.Now()
		if began.IsZero() && d.State == "sending" {
			began = now
		}
		for _, m := range d.Members {
			if _, known := whole[m.Workstation]; !known && (m.Phase == "checking" || m.Phase == "ended") {
				whole[m.Workstation] = now
			}
			if m.Aside != "" {
				alone[m.Workstation] = m.Aside
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	var last time.Time
	for name, at := range whole {
		if name != "herb-05" && at.After(last) {
			last = at
		}
	}
	bytes := 0.0
	for _, m := range d.Members {
		if m.Outcome != "delivered" {
			return fmt.Errorf("%s: %s %s", m.Workstation, m.Outcome, m.Reason)
		}
		bytes = max(bytes, float64(m.Multicast))
	}
	fmt.Printf("\nA delivery of %.0f MB to eight at %d Mbit/s, of which herb-05 loses 20 %% (set aside: %v): the other seven had everything after %.3f of payload / rate (at most 1.25 wanted); herb-05 after %.3f. Peak memory: service %d MiB, agents %s MiB.\n",
		bytes/1e6, mbit, alone, last.Sub(began).Seconds()/(bytes*8/(mbit*1e6)), whole["herb-05"].Sub(began).Seconds()/(bytes*8/(mbit*1e6)), peakOf(s.cmd.Process.Pid)/mib, agentPeaks(agents))
	return nil
}

func address(i int) string { return fmt.Sprintf("00:00:5e:00:53:%02x", i) }

func admit(ctx context.Context, c connected, i int, name string) (err error) {
	for range 200 {
		if _, err = c.Admit(ctx, address(i), api.Admission{Name: name}); err == nil {
			return nil
		}
		time.Sleep(5 * time.Millisecond)
	}
	return err
}

// peakOf is the most memory that a running process has had, in bytes.
func peakOf(pid int) int64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(text)) {
		var kb int64
		if n, _ := fmt.Sscanf(line, "VmHWM: %d kB", &kb); n == 1 {
			return kb << 10
		}
	}
	return 0
}

func agentPeaks(agents []*exec.Cmd) string {
	var all []int64
	for _, a := range agents {
		all = append(all, peakOf(a.Process.Pid)/mib)
	}
	return fmt.Sprintf("%d–%d", slices.Min(all), slices.Max(all))
}

// crowd delivers to two hundred simulated workstations on the loopback interface,
// all in this process.
func crowd(ctx context.Context, dir string) error {
	const workstations, megabytes, mbit = 200, 10, 3
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	gold, err := goldDisk(ctx, dir, megabytes)
	if err != nil {
		return err
	}
	s, err := serveHere(ctx, path(dir, "crowd-data"))
	if err != nil {
		return err
	}
	defer s.stop()
	client, running, work := s.client, s.running, &s.work
	if err := s.run(ctx, "image", "import", gold, "--as", "garden-desk", "--despite", "benchmark"); err != nil {
		return err
	}
	var names []string
	for i := range workstations {
		target := path(dir, fmt.Sprintf("crowd-%d", i))
		if err := golddisk.Blank(target, int64(megabytes+megabytes/5+40)*mib); err != nil {
			return err
		}
		defer os.Remove(target)
		a, err := hwaddr.Parse(address(i))
		if err != nil {
			return err
		}
		w := &sim.Workstation{Addresses: []hwaddr.Address{a}, Disks: []string{target}, Interface: "lo", Loss: 0.005}
		work.Go(func() { agent.New(client.WithToken(""), w, agent.Options{}).Run(running) })
		names = append(names, fmt.Sprintf("seed-%03d", i))
		if err := admit(ctx, client, i, names[i]); err != nil {
			return err
		}
	}
	d, err := client.Deliver(ctx, api.NewDelivery{Image: "garden-desk", To: names, Rate: mbit * 1e6})
	if err != nil {
		return err
	}
	for d.Ended == nil {
		time.Sleep(200 * time.Millisecond)
		if d, err = client.Delivery(ctx, d.ID); err != nil {
			return err
		}
	}
	delivered, aside, bytes, unicast := 0, 0, int64(0), int64(0)
	for _, m := range d.Members {
		if m.Outcome == "delivered" {
			delivered++
		}
		if m.Reason != "" {
			aside++
		}
		bytes, unicast = max(bytes, m.Multicast), unicast+m.Unicast
	}
	took := d.Ended.Sub(*d.Started)
	fmt.Printf("\n%d simulated workstations in one delivery of %.1f MB at %d Mbit/s, 0.5 %% loss each, service and agents in one process on this machine: %d delivered, %d of them served alone, after %.2f of payload / rate with every disk read back; %.2f of the payload on the wire, %.1f MB of it by unicast; peak memory of the whole process %d MiB.\n",
		workstations, float64(bytes)/1e6, mbit, delivered, aside, took.Seconds()/(float64(bytes)*8/(mbit*1e6)), float64(d.WireBytes)/float64(bytes), float64(unicast)/1e6, peakOf(os.Getpid())/mib)
	return nil
}
