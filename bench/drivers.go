package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"jugate/core/environment/builds"

	"jugate/core/driver"
)

// The sizes that matching is measured at.
const (
	benchPackages     = 5000
	modelsOfPackage   = 30
	benchWorkstations = 10_000
	benchModels       = 200
	devicesOfModel    = 25
)

// drivers measures reading a whole kernel's modules beside depmod, matching a large
// roster against a large library, and a layer more for a build. root is a folder with
// Debian's kernel package and loaders, as lab/prepare makes it.
func drivers(ctx context.Context, dir, root string) error {
	entries, err := os.ReadDir(filepath.Join(root, "lib/modules"))
	if err != nil || len(entries) == 0 {
		return errors.Join(errors.New("there is no kernel package; run `make lab` or lab/prepare first"), err)
	}
	release := entries[len(entries)-1].Name()
	fmt.Println("\n| measured | seconds | beside it | ratio | wanted | peak memory |\n|---|---|---|---|---|---|")
	var reads, depmods []float64
	var read result
	for range 3 {
		forget()
		seconds, r, err := self(ctx, "drivers-read", root)
		if err != nil {
			return err
		}
		reads, read = append(reads, seconds), r
		forget()
		if seconds, err = shell(ctx, fmt.Sprintf("depmod -n -b %s %s >/dev/null", root, release)); err != nil {
			return err
		}
		depmods = append(depmods, seconds)
	}
	fmt.Printf("| reading all %d modules of kernel %s / depmod over the same files | %s | %s | %.2f | | %d MiB |\n",
		read.Slabs, release, span(reads), span(depmods), median(reads)/median(depmods), read.Peak>>20)
	var matches []float64
	var match result
	for range 3 {
		seconds, r, err := self(ctx, "drivers-match")
		if err != nil {
			return err
		}
		matches, match = append(matches, seconds), r
	}
	fmt.Printf("| matching %d workstations of %d models against %d packages; of that the matching itself %.2f s | %s | | | under 5 s, 300 MiB | %d MiB |\n",
		benchWorkstations, benchModels, benchPackages, match.Written, span(matches), match.Peak>>20)
	layer, base, err := layerTimes(ctx, dir, root, release)
	if err != nil {
		return err
	}
	fmt.Printf("| a layer of drivers (all wireless cards, %d modules) added to a build / the build itself | %s | %s | %.2f | under 2 s | |\n", layer.modules, span(layer.seconds), span(base), median(layer.seconds)/median(base))
	return nil
}

// readModules is one process that reads a kernel's modules.
func readModules(root string) error {
	found, skipped, err := driver.Find(os.DirFS(filepath.Join(root, "lib/modules")))
	if err != nil || len(skipped) > 0 || len(found) != 1 {
		return fmt.Errorf("%d packages, %d files left out: %w", len(found), len(skipped), err)
	}
	driver.NewIndex(found)
	return report(result{Slabs: len(found[0].Modules), Peak: peak()})
}

// matchRoster is one process that matches made-up workstations with made-up packages.
func matchRoster() error {
	var packages []*driver.Package
	for n := range benchPackages {
		p := &driver.Package{ID: fmt.Sprintf("%012d", n), Kind: driver.INF, Name: fmt.Sprint("package", n), Version: fmt.Sprint(n%7, ".", n%13), Date: time.Unix(int64(n%400)*86400, 0)}
		for m := range modelsOfPackage {
			// Every seventh names a device that others name too.
			device := n*modelsOfPackage + m
			if m%7 == 0 {
				device = m
			}
			id := fmt.Sprintf(`PCI\VEN_%04X&DEV_%04X`, 0xF000+device>>12, device&0xfff)
			p.Models = append(p.Models, driver.Model{Name: "made up", Decoration: driver.Decoration{Arch: "amd64"}, Hardware: id + "&SUBSYS_00010001", Compatible: []string{id}})
		}
		packages = append(packages, p)
	}
	var machines []driver.Machine
	var parser driver.Parser
	for n := range benchWorkstations {
		m := driver.Machine{Name: fmt.Sprintf("desk-%05d", n), Model: fmt.Sprint("model ", n%benchModels)}
		for k := range devicesOfModel {
			device := (n%benchModels)*731 + k*17
			d, err := parser.Parse(fmt.Sprintf("pci:v0000%04Xd0000%04Xsv00000001sd00000001bc02sc00i00", 0xF000+device>>12, device&0xfff), 0)
			if err != nil {
				return err
			}
			m.Devices = append(m.Devices, d)
		}
		machines = append(machines, m)
	}
	began := time.Now()
	served := driver.Served(machines, driver.NewIndex(packages))
	took := time.Since(began).Seconds()
	if len(served) == 0 {
		return errors.New("nothing fits anything")
	}
	return report(result{Slabs: len(served), Written: took, Peak: peak()})
}

type layerTime struct {
	seconds []float64
	modules int
}

// layerTimes measures a build, and one more with a layer of drivers.
func layerTimes(ctx context.Context, dir, root, release string) (layer layerTime, base []float64, err error) {
	store, err := builds.Open(filepath.Join(dir, "builds"))
	if err != nil {
		return layer, nil, err
	}
	agent, err := exec.LookPath("true")
	if err != nil {
		return layer, nil, err
	}
	tree := os.DirFS(filepath.Join(root, "lib/modules"))
	found, _, err := driver.Find(tree)
	if err != nil {
		return layer, nil, err
	}
	set := driver.Set{System: driver.Linux, Rules: []driver.Rule{{Class: driver.Network}}}
	for n := range 3 {
		from := &builds.Source{}
		if err := from.AddRoot(root); err != nil {
			return layer, nil, err
		}
		began := time.Now()
		b, err := store.Make(ctx, from, builds.Options{Number: 2*n + 1, Created: began, Agent: agent, Kernel: release})
		if err = errors.Join(err, from.Close()); err != nil {
			return layer, nil, err
		}
		base = append(base, time.Since(began).Seconds())
		in, err := store.Inside(b)
		if err != nil {
			return layer, nil, err
		}
		choices := set.Whole(found, nil, in.Target())
		modules, err := driver.Bring(wireless(choices), found, release, in.Names)
		if err != nil {
			return layer, nil, err
		}
		layer.modules = len(modules)
		began = time.Now()
		_, err = store.Extend(b, builds.Extension{Number: 2*n + 2, Created: began, Drivers: []builds.Drivers{{Set: "wireless", Modules: modules,
			Open: func(_ *driver.Package, name string) (io.ReadCloser, error) { return tree.Open(name) }}}})
		if err != nil {
			return layer, nil, err
		}
		layer.seconds = append(layer.seconds, time.Since(began).Seconds())
	}
	return layer, base, nil
}

// wireless keeps the modules of one folder of the kernel's tree.
func wireless(choices []driver.Choice) []driver.Choice {
	for i, c := range choices {
		choices[i].Modules = nil
		for _, m := range c.Package.Modules {
			if ok, _ := filepath.Match("kernel/drivers/net/wireless/*/*/*.ko", m.Path); ok {
				choices[i].Modules = append(choices[i].Modules, m.Name)
			}
		}
	}
	return choices
}
