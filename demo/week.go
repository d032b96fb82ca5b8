package demo

import (
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/disk"
	"jugate/core/order"
	"jugate/core/partition"
	"jugate/demo/golddisk"
)

// playWeek prepares an order for each Monday and runs it once: it checks two workstations, and one of them has a disk that would have held
// the other back.
func (s *Stage) playWeek(ctx context.Context, p *Prepared) error {
	g, err := s.Client.SetGroupImage(ctx, seedBank, p.Version.Image)
	if err != nil {
		return err
	}
	s.say("%s should have %s: %d of %d are behind", g.Name, g.Image, g.Behind, g.Workstations)
	room := []string{"seed-01", "seed-02"}
	files := map[string]string{}
	for n, name := range room {
		if files[name], err = s.writeFiles(ctx, name, uint64(n)); err != nil {
			return err
		}
	}
	s.say("people have written files into the partition %s that the last delivery has made for them", peoplesFiles)
	_, err = s.Client.SaveOrder(ctx, api.Order{
		Name: "seed-bank-weekly", Note: "the lab, each Monday", Wake: true, Restart: true, Schedule: &api.OrderSchedule{When: "monday 18:30", Zone: "Europe/Vienna"},
		Check:    &api.PreparedCheck{NewCheck: api.NewCheck{To: room, CheckOptions: api.CheckOptions{Memory: "quick", Surface: "whole", Health: true, Network: true}}, Require: []string{"memory >= 4GiB"}},
		Commands: []api.PreparedCommand{{Command: api.Command{Name: "freezer-probe", Script: probeScript, Place: api.InEnvironment}, Before: "deliver"}},
		OnlyIf:   map[string]string{"deliver": `said["freezer-probe"] contains "firmware 1."`},
		Deliver:  &api.PreparedDelivery{NewDelivery: api.NewDelivery{Image: p.Version.Image, To: room, Reuse: true, RestoreOptions: api.RestoreOptions{Keep: []string{"label=" + peoplesFiles}}}, Await: true},
	})
	if err != nil {
		return err
	}
	s.Fault("seed-02", [2]int64{150 * golddisk.MiB, 150*golddisk.MiB + 4096})
	s.say("the order seed-bank-weekly is prepared, and run once")
	run, err := s.Client.RunOrder(ctx, "seed-bank-weekly")
	if err != nil {
		return err
	}
	if err := s.startsAndEnds(ctx, &run, "seed-01"); err != nil {
		return err
	}
	if len(run.Parts) != 4 || len(run.Parts[0].LeftOut) != 1 || run.Parts[0].LeftOut[0].Workstation != "seed-02" {
		return fmt.Errorf("run %d of seed-bank-weekly took out another than seed-02: %s", run.ID, run.Reason)
	}
	s.say("  taken out: seed-02, %s", run.Parts[0].LeftOut[0].Reason)
	for _, e := range run.Parts[1].Commands {
		s.say("  the command %s of the engineer's own said on %s: %s", e.Command.Name, e.Workstation, e.Command.LastLine)
	}
	s.Fault("seed-02", [2]int64{})
	if run, err = s.Client.GoOn(ctx, run.ID); err != nil {
		return err
	}
	if err := s.startsAndEnds(ctx, &run, "seed-02"); err != nil {
		return err
	}
	if run.State != order.Done {
		return fmt.Errorf("run %d of seed-bank-weekly is %s: %s", run.ID, run.State, run.Reason)
	}
	s.say("  its disk was replaced, and the run went on for that one, until it had arrived")
	for _, name := range room {
		if now, err := s.digestOfFiles(name); err != nil || now != files[name] {
			return fmt.Errorf("the files on %s are not as they were: %w", name, err)
		}
	}
	s.say("  what people have written on both is as it was, byte by byte")
	return nil
}

// probeScript looks for the thermometer of the freezers, at each desk of the seed bank.
const probeScript = "lsusb | grep -i 'corvid probe'\n"

// runs stands for the programs of the boot environment: at each desk of the seed bank they find a thermometer.
func runs(_ context.Context, script string, env []string) (said string, status int) {
	if script != probeScript {
		return "sh: not found\n", 127
	}
	return "Bus 001 Device 002: Corvid Probe, firmware 1.07\n", 0
}

// peoplesFiles is the partition for them.
const peoplesFiles = "DATA"

// partitionOfFiles is where that lies on a workstation's disk, in bytes.
func (s *Stage) partitionOfFiles(name string) (start, size int64, err error) {
	d, err := disk.Open(s.disks[name], disk.Options{})
	if err != nil {
		return 0, 0, err
	}
	defer d.Close()
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return 0, 0, err
	}
	for _, p := range table.Partitions {
		if p.Name == peoplesFiles {
			return table.Start(p), table.Size(p), nil
		}
	}
	return 0, 0, fmt.Errorf("there is no partition %s on the disk of %s", peoplesFiles, name)
}

// writeFiles makes a file system with files in that partition, and returns the digest of all of it.
func (s *Stage) writeFiles(ctx context.Context, name string, seed uint64) (string, error) {
	start, size, err := s.partitionOfFiles(name)
	if err != nil {
		return "", err
	}
	volume := filepath.Join(s.dir, name+".data")
	defer os.Remove(volume)
	if err := golddisk.BuildVolume(ctx, golddisk.VolumeSpec{Path: volume, Size: size / golddisk.MiB * golddisk.MiB, Mkfs: []string{"mkfs.ext4", "-q", "-F", "-L", peoplesFiles}, Data: 8 * golddisk.MiB, Seed: seed}); err != nil {
		return "", err
	}
	if err := golddisk.Put(s.disks[name], start, volume); err != nil {
		return "", err
	}
	return s.digestOfFiles(name)
}

func (s *Stage) digestOfFiles(name string) (string, error) {
	start, size, err := s.partitionOfFiles(name)
	if err != nil {
		return "", err
	}
	f, err := os.Open(s.disks[name])
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := blake3.New()
	_, err = io.Copy(h, io.NewSectionReader(f, start, size))
	return hex.EncodeToString(h.Sum(nil)), err
}

// startsAndEnds waits for the delivery of a run, starts what it has brought to a workstation, and waits for the run's end.
func (s *Stage) startsAndEnds(ctx context.Context, run *api.OrderRun, name string) error {
	until := func(done func() bool) error {
		return s.await(ctx, "run", func() (is bool, err error) {
			*run, err = s.Client.Run(ctx, run.ID)
			return err == nil && (run.State.Over() || done()), err
		})
	}
	if err := until(func() bool { return run.Parts[len(run.Parts)-1].State == order.Running }); err != nil || run.State.Over() {
		return err
	}
	if err := s.machines[name].FirstStart(ctx); err != nil {
		return fmt.Errorf("the first start of %s: %w", name, err)
	}
	s.stays(ctx, name)
	return until(func() bool { return false })
}

// stays has a workstation leave the boot environment for its own system, on which the helper stays until that is replaced.
func (s *Stage) stays(ctx context.Context, name string) {
	nobody, err := apiclient.ForAgent(s.URL, s.service.Authority())
	if err != nil {
		return // it has worked before
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.saying.Lock()
	defer s.saying.Unlock()
	stop := s.stop
	s.stop = func() { cancel(); stop() }
	s.leave[name]()
	s.starts++
	boot := fmt.Sprint("start ", s.starts)
	desk := desk{s, name, func() { cancel(); s.boots(ctx, name, nobody) }}
	s.running.Go(func() { s.machines[name].Stay(ctx, s.URL, s.service.Authority(), boot, desk) })
}

// desk is a system on which nobody is signed in; what it is told is part of the story.
type desk struct {
	stage *Stage
	name  string
	boots func() // into the boot environment
}

func (d desk) SignedIn() int { return 0 }
func (d desk) Warn(string)   {}
func (d desk) Restart() error {
	d.stage.say("  the helper on %s restarts it, into the boot environment", d.name)
	d.boots()
	return nil
}
func (d desk) PowerOff() error {
	d.stage.say("  the helper on %s switches it off", d.name)
	return nil
}

// Fault has the disk of a workstation that is on fail between two bytes.
func (s *Stage) Fault(name string, bytes [2]int64) {
	s.machines[name].Become(func() { s.machines[name].BadBytes = bytes })
}
