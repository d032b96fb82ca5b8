package stock

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/archive"
	"jugate/core/driver"
	"jugate/core/fault"
	"jugate/records"
)

// maxDriverUpload bounds what is sent to the library at once, in bytes.
const maxDriverUpload = 4 << 30

func packageOf(p *driver.Package, served []string, contents bool) api.DriverPackage {
	out := api.DriverPackage{ID: p.ID, Kind: string(p.Kind), Name: p.Name, Label: p.Label(), Class: string(p.Class), Provider: p.Provider, Version: p.Version,
		Arch: p.Arch, Kernel: p.Kernel, InTree: p.InTree, Signer: p.Signer, Origin: p.Origin, Added: p.Added, Bytes: p.Bytes,
		Drives: len(p.Models) + len(p.Modules), Remarks: p.Remarks, Serves: served, Catalogue: p.Catalogue}
	if !p.Date.IsZero() {
		out.Date = p.Date.Format("2006-01-02")
	}
	for _, list := range []*[]string{&out.Arch, &out.Remarks, &out.Serves} {
		if *list == nil {
			*list = []string{}
		}
	}
	if !contents {
		return out
	}
	for _, m := range p.Models {
		out.Models = append(out.Models, api.DriverModel{Name: m.Name, Maker: m.Maker, For: m.Decoration.String(), IDs: append([]string{m.Hardware}, m.Compatible...)})
	}
	for _, m := range p.Modules {
		model := api.DriverModel{Name: m.Name, Maker: m.About, For: m.Arch, IDs: m.Aliases, Needs: m.Needs, Lacks: m.Lacks}
		if model.IDs == nil {
			model.IDs = []string{}
		}
		out.Models = append(out.Models, model)
	}
	for _, f := range p.Files {
		out.Files = append(out.Files, api.DriverFile{Path: f.Path, Bytes: f.Size, Digest: f.Digest.String()})
	}
	return out
}

// AddDrivers takes what an archive has into the library.
func (k *Stock) AddDrivers(ctx context.Context, name string, body io.Reader) (api.DriversAdded, error) {
	out := api.DriversAdded{Packages: []api.DriverPackage{}, There: []api.DriverPackage{}, Skipped: []api.DriverSkip{}}
	f, err := os.CreateTemp(k.Scratch, "drivers")
	if err != nil {
		return out, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := io.Copy(f, io.LimitReader(body, maxDriverUpload+1))
	switch {
	case n > maxDriverUpload:
		return out, fault.TooLarge.Errorf("%s has more than %d bytes", name, int64(maxDriverUpload))
	case err != nil:
		return out, err
	}
	dir, err := os.MkdirTemp(k.Scratch, "drivers")
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(dir)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return out, err
	}
	defer root.Close()
	left, err := archive.Unpack(f, n, root, archive.Limits{})
	if err != nil {
		return out, fmt.Errorf("%s: %w", name, err)
	}
	for _, l := range left {
		path, reason, _ := strings.Cut(l, ": ")
		out.Skipped = append(out.Skipped, api.DriverSkip{Path: path, Reason: reason})
	}
	found, skipped, err := driver.Find(root.FS())
	if err != nil {
		return out, err
	}
	for _, k := range skipped {
		out.Skipped = append(out.Skipped, api.DriverSkip(k))
	}
	for _, p := range found {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		kept, err := k.Library.Add(root.FS(), p, name, k.Now())
		if errors.Is(err, driver.ErrThere) {
			out.There = append(out.There, packageOf(kept, nil, false))
			continue
		}
		if err != nil {
			return out, err
		}
		out.Packages = append(out.Packages, packageOf(kept, nil, false))
		k.Log.Info("driver package added", "package", kept.Label(), "id", kept.ID, "from", name)
	}
	served, err := k.served(ctx)
	if err != nil {
		return out, err
	}
	for _, list := range [][]api.DriverPackage{out.Packages, out.There} {
		for i := range list {
			if who := served[list[i].ID]; who != nil {
				list[i].Serves = who
			}
		}
	}
	k.Publish(api.DriversChanged{})
	return out, nil
}

// drives tells whether a package names a device, by an identifier or a modalias, or a
// part of an identifier such as 8086:15b8.
func drives(p *driver.Package, device string) bool {
	if d, err := driver.ParseModalias(device); err == nil {
		return len(driver.NewIndex([]*driver.Package{p}).Candidates(d, driver.Target{})) > 0
	}
	text := strings.ToUpper(device)
	if vendor, product, pair := strings.Cut(text, ":"); pair {
		pci, _ := driver.ParseModalias(fmt.Sprintf("pci:v0000%sd0000%ssv0000FFFFsd0000FFFFbc00sc00i00", vendor, product))
		usb := fmt.Sprintf(`USB\VID_%s&PID_%s`, vendor, product)
		return len(driver.NewIndex([]*driver.Package{p}).Candidates(pci, driver.Target{})) > 0 ||
			slices.ContainsFunc(p.Models, func(m driver.Model) bool { return strings.HasPrefix(m.Hardware, usb) }) ||
			slices.ContainsFunc(p.Modules, func(m driver.Module) bool {
				return slices.ContainsFunc(m.Aliases, func(a string) bool { return strings.HasPrefix(a, "usb:v"+vendor+"p"+product) })
			})
	}
	return slices.ContainsFunc(p.Models, func(m driver.Model) bool { return strings.Contains(m.Hardware, text) })
}

// speaks tells whether a package's texts contain all of some words.
func speaks(p *driver.Package, words string) bool {
	for word := range strings.FieldsSeq(strings.ToLower(words)) {
		has := func(texts ...string) bool {
			return slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(strings.ToLower(t), word) })
		}
		if !has(p.ID, p.Name, p.Provider, p.Version, p.Kernel, p.Origin) &&
			!slices.ContainsFunc(p.Models, func(m driver.Model) bool { return has(m.Name, m.Maker) }) &&
			!slices.ContainsFunc(p.Modules, func(m driver.Module) bool { return has(m.Name, m.About) }) {
			return false
		}
	}
	return true
}

// Explain shows all candidates for the devices of a workstation: for the system
// of an image, the one that it got last if none is named; where none is known, of both
// kinds for a PC of 64 bits.
func (k *Stock) Explain(ctx context.Context, ref, only, image string) ([]api.DriverExplained, error) {
	w, err := k.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return nil, err
	}
	m, err := k.machine(ctx, w)
	if err != nil {
		return nil, err
	}
	if m.Devices == nil {
		return nil, fault.Conflict.Errorf("nobody knows the devices of %s yet: have it boot into the boot environment once", m.Name)
	}
	if image == "" { // what it has
		if holds, _ := w.Holds(); holds.Image != "" {
			image = holds.String()
		}
	}
	st, err := k.standAt(ctx, 0, image, api.DriverOrder{})
	if err != nil {
		return nil, err
	}
	targets := []driver.Target{{System: driver.Linux, Arch: "amd64"}, {System: driver.Windows, Arch: "amd64"}}
	if st.system.Inside != nil {
		targets = []driver.Target{st.system.Inside.Target()}
	}
	all := []api.DriverExplained{}
	for _, row := range st.rows(m, nil) {
		d := row.Device
		short := strings.TrimPrefix(d.Label(), strings.SplitN(d.Label(), " ", 2)[0]+" ")
		if text := strings.ToLower(only); only != "" && !strings.Contains(strings.ToLower(d.Modalias), text) && !strings.Contains(short, text) &&
			!slices.ContainsFunc(d.Hardware, func(id string) bool { return strings.Contains(strings.ToLower(id), text) }) {
			continue
		}
		one := api.DriverExplained{Device: api.Device{ID: d.Modalias, Class: string(d.Class), Name: d.Name, Driver: d.Driver}, Label: d.Label(),
			Hardware: d.Hardware, Compatible: d.Compatible, Candidates: []api.DriverCandidate{}, Verdicts: deviceCover(row)}
		if one.Hardware == nil {
			one.Hardware = []string{}
		}
		if one.Compatible == nil {
			one.Compatible = []string{}
		}
		for _, t := range targets {
			for i, c := range st.index.Candidates(d, t) {
				one.Candidates = append(one.Candidates, driverCandidate(c, i == 0))
			}
		}
		all = append(all, one)
	}
	return all, nil
}

func driverCandidate(c driver.Candidate, wins bool) api.DriverCandidate {
	out := api.DriverCandidate{Package: c.Package.ID, Label: c.Package.Label(), Kind: string(c.Package.Kind), Name: c.Module, ID: c.ID, Rank: c.Rank,
		Version: c.Package.Version, Signer: c.Package.Signer, Why: c.Why, Wins: wins}
	if c.Model != nil {
		out.Name = c.Model.Name
	}
	if !c.Package.Date.IsZero() {
		out.Date = c.Package.Date.Format("2006-01-02")
	}
	return out
}

// DriverFilter narrows a list of driver packages; empty fields narrow nothing.
type DriverFilter struct {
	Class, Kind string
	Device      string // modalias, hardware id, or VENDOR:PRODUCT
}

// Drivers lists driver packages, by name.
func (k *Stock) Drivers(ctx context.Context, f DriverFilter, page records.Page) ([]api.DriverPackage, int, error) {
	packs := slices.DeleteFunc(k.Library.Packages(), func(p *driver.Package) bool {
		return f.Class != "" && f.Class != string(p.Class) || f.Kind != "" && f.Kind != string(p.Kind) || f.Device != "" && !drives(p, f.Device) || !speaks(p, page.Search)
	})
	all, total := []api.DriverPackage{}, len(packs)
	if total == 0 {
		return all, 0, nil
	}
	served, err := k.served(ctx)
	if err != nil {
		return nil, 0, err
	}
	for _, p := range packs[min(page.Offset, total):min(page.Offset+page.Limit, total)] {
		all = append(all, packageOf(p, served[p.ID], false))
	}
	return all, total, nil
}

// served are the workstations that each package serves, by its id.
func (k *Stock) served(ctx context.Context) (map[string][]string, error) {
	machines, err := k.machines(ctx, "")
	if err != nil {
		return nil, err
	}
	return driver.Served(machines, k.Library.Index()), nil
}

// Driver shows a driver package with what it drives. ref is its id, the beginning of that,
// or a name that is there once.
func (k *Stock) Driver(ctx context.Context, ref string) (api.DriverPackage, error) {
	p, err := k.Library.Package(ref)
	if err != nil {
		return api.DriverPackage{}, err
	}
	served, err := k.served(ctx)
	return packageOf(p, served[p.ID], true), err
}

// RemoveDriver takes a driver package out of the library; builds and workstations that
// have it keep it.
func (k *Stock) RemoveDriver(ctx context.Context, ref string) error {
	p, err := k.Library.Package(ref)
	if err != nil {
		return err
	}
	if err := k.Library.Remove(p.ID); err != nil {
		return err
	}
	k.Log.Info("driver package removed", "package", p.Label(), "id", p.ID, "by", actor.From(ctx))
	k.Publish(api.DriversChanged{})
	return nil
}

// DriverFile opens a file of a package.
func (k *Stock) DriverFile(id, name string) (*os.File, error) {
	p, err := k.Library.Package(id)
	if err != nil {
		return nil, err
	}
	f, err := k.Library.Open(p, name)
	return f, fault.NotFound.Mark(err)
}
