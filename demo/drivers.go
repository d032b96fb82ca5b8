package demo

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"jugate/api"
	"jugate/apiclient"
	"jugate/demo/golddisk"
	"jugate/demo/madeup"
)

// playDrivers shows the model that nothing drives: found, covered, delivered.
func (s *Stage) playDrivers(ctx context.Context, p *Prepared) error {
	version := fmt.Sprintf("%s@%d", p.Version.Image, p.Version.Version)
	if err := s.makeBuild(ctx); err != nil {
		return err
	}
	if err := s.addDrivers(ctx, "makers-disc", madeup.WriteINF); err != nil {
		return err
	}
	cover, err := s.Client.Coverage(ctx, apiclient.CoverageQuery{Image: version})
	if err != nil {
		return err
	}
	s.say("coverage of %s (%s):", version, cover.System)
	for _, m := range cover.Models {
		lacking := append(m.LackingEnvironment, m.LackingDelivered...)
		if len(lacking) == 0 {
			s.say("  %s (%d): network cards and disk controllers are driven", m.Model, len(m.Workstations))
		}
		for _, l := range lacking {
			s.say("  %s (%d): %s", m.Model, len(m.Workstations), l)
		}
	}
	order := api.NewDelivery{Image: version, To: []string{seedBank}, Start: "all"}
	_, err = s.Client.Deliver(ctx, order)
	var told *apiclient.Error
	if !errors.As(err, &told) {
		return fmt.Errorf("the delivery to a model without a driver was not refused: %w", err)
	}
	s.say("a delivery to %s is refused for that reason", seedBank)
	if err := s.addDrivers(ctx, "corvid-raid-modules", madeup.WriteModules); err != nil {
		return err
	}
	if s.options.Agent != "" {
		b, err := s.Client.MakeBuild(ctx, api.NewBuild{Cover: []string{"Alder Works A520"}, Offer: true, Note: "with what the A520 lacks"})
		if err != nil {
			return err
		}
		s.say("build %d has a layer more, %q, and is offered", b.Number, b.Layers[len(b.Layers)-2].Name)
	}
	d, err := s.Client.Deliver(ctx, order)
	if err != nil {
		return err
	}
	receipts, err := s.receiptsOf(ctx, &d)
	if err != nil {
		return err
	}
	for _, r := range receipts {
		s.say("  receipt: %s %s, drivers installed: %s %s", r.Workstation, r.Outcome, strings.Join(r.Drivers, ", "), r.Reason)
		if r.Outcome != "delivered" || len(r.Drivers) == 0 {
			return fmt.Errorf("%s: %s, without its drivers", r.Workstation, r.Outcome)
		}
	}
	return s.judgeDrivers(ctx, p.Gold, receipts)
}

// makeBuild makes a build of the boot environment from the made-up kernel, which no
// machine could start. Without the agent's file there is none.
func (s *Stage) makeBuild(ctx context.Context) error {
	if s.options.Agent == "" {
		return nil
	}
	if _, err := os.Stat(s.options.Agent); err != nil {
		s.options.Agent = ""
		return nil
	}
	root := filepath.Join(s.dir, "kernel")
	if err := madeup.WriteKernel(root); err != nil {
		return err
	}
	b, err := s.Client.MakeBuild(ctx, api.NewBuild{Folders: []string{root}, Offer: true, Note: "made-up kernel: nothing starts with it"})
	if err == nil {
		s.say("build %d of a boot environment, with a made-up kernel", b.Number)
	}
	return err
}

// addDrivers puts made-up packages into the library.
func (s *Stage) addDrivers(ctx context.Context, name string, write func(dir string) error) error {
	dir := filepath.Join(s.dir, name)
	if err := write(dir); err != nil {
		return err
	}
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	if err := errors.Join(t.AddFS(os.DirFS(dir)), t.Close()); err != nil {
		return err
	}
	added, err := s.Client.AddDrivers(ctx, name+".tar", &b)
	if err != nil {
		return err
	}
	var labels []string
	for _, p := range added.Packages {
		labels = append(labels, p.Label)
	}
	s.say("into the driver library: %s", strings.Join(labels, "; "))
	for _, k := range added.Skipped {
		s.say("  left out: %s: %s", k.Path, k.Reason)
	}
	return nil
}

// judgeDrivers looks for the module on the disks, with tools that are not ours.
func (s *Stage) judgeDrivers(ctx context.Context, gold *golddisk.Disk, receipts []api.Receipt) error {
	for _, r := range receipts {
		disk := gold.On(s.disks[r.Workstation])
		files, err := disk.Files(ctx)
		if err := errors.Join(err, disk.Check(ctx)); err != nil {
			return fmt.Errorf("the disk of %s is not right: %w", r.Workstation, err)
		}
		found := false
		for name := range files {
			found = found || strings.HasSuffix(name, "updates/jugate/corvid_raid.ko")
		}
		if !found {
			return fmt.Errorf("the disk of %s has no module for its disk controller", r.Workstation)
		}
	}
	s.say("judged by fsck and debugfs: %d disks have the module in their system", len(receipts))
	return nil
}
