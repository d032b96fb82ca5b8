package steps

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"jugate/core/driver"
)

// The sizes that matching is measured at.
const (
	Packages        = 5000
	ModelsOfPackage = 30
	Workstations    = 10_000
	Models          = 200
	DevicesOfModel  = 25
)

// ReadModules is one process that reads a kernel's modules.
func ReadModules(root string) error {
	found, skipped, err := driver.Find(os.DirFS(filepath.Join(root, "lib/modules")))
	if err != nil || len(skipped) > 0 || len(found) != 1 {
		return fmt.Errorf("%d packages, %d files left out: %w", len(found), len(skipped), err)
	}
	driver.NewIndex(found)
	return report(Result{Slabs: len(found[0].Modules)})
}

// MatchRoster is one process that matches made-up workstations with made-up packages.
func MatchRoster() error {
	var packages []*driver.Package
	for n := range Packages {
		p := &driver.Package{ID: fmt.Sprintf("%012d", n), Kind: driver.INF, Name: fmt.Sprint("package", n), Version: fmt.Sprint(n%7, ".", n%13), Date: time.Unix(int64(n%400)*86400, 0)}
		for m := range ModelsOfPackage {
			// Every seventh names a device that others name too.
			device := n*ModelsOfPackage + m
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
	for n := range Workstations {
		m := driver.Machine{Name: fmt.Sprintf("desk-%05d", n), Model: fmt.Sprint("model ", n%Models)}
		for k := range DevicesOfModel {
			device := (n%Models)*731 + k*17
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
	return report(Result{Slabs: len(served), Written: took})
}
