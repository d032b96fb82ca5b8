package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/archive"
	"jugate/core/driver"
	"jugate/core/kmod"
	"jugate/core/roster"
)

// maxDriverUpload bounds what is sent to the library at once, in bytes.
const maxDriverUpload = 4 << 30

func (s *Service) driverPackage(p *driver.Package, served []string, whole bool) api.DriverPackage {
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
	if !whole {
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

// addDrivers takes what an archive has into the library.
func (s *Service) addDrivers(ctx context.Context, name string, body io.Reader) (api.DriversAdded, error) {
	out := api.DriversAdded{Added: []api.DriverPackage{}, There: []api.DriverPackage{}, Skipped: []api.DriverSkip{}}
	f, err := os.CreateTemp(s.scratch(), "drivers")
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
		return out, problem(err)
	}
	dir, err := os.MkdirTemp(s.scratch(), "drivers")
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
	if errors.Is(err, archive.ErrUnknown) || errors.Is(err, archive.ErrDamaged) || errors.Is(err, archive.ErrTooMuch) {
		return out, fault.Invalid.Errorf("%s: %v", name, err)
	} else if err != nil {
		return out, err
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
		kept, err := s.drivers.Add(root.FS(), p, name, s.config.Now())
		if errors.Is(err, driver.ErrThere) {
			out.There = append(out.There, s.driverPackage(kept, nil, false))
			continue
		}
		if err != nil {
			return out, err
		}
		out.Added = append(out.Added, s.driverPackage(kept, nil, false))
		s.log.Info("driver package added", "package", kept.Label(), "id", kept.ID, "from", name)
	}
	machines, err := s.machines(ctx, "")
	if err != nil {
		return out, err
	}
	served := driver.Served(machines, s.drivers.Index())
	for _, list := range [][]api.DriverPackage{out.Added, out.There} {
		for i := range list {
			if who := served[list[i].ID]; who != nil {
				list[i].Serves = who
			}
		}
	}
	s.events.publish(driverEvent{})
	return out, nil
}

// driverEvent says that the library or a set has changed.
type driverEvent struct{}

// findPackage finds a package for a request.
func (s *Service) findPackage(ref string) (*driver.Package, error) {
	p, err := s.drivers.Package(ref)
	if errors.Is(err, driver.ErrNoPackage) {
		return nil, fault.NotFound.Mark(err)
	}
	return p, err
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

// speaks tells whether a package has some words in it.
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

// DriverUpload is a request whose body is an archive, read as it comes. (Its name is
// exported because huma wants that.)
type DriverUpload struct {
	Name string `query:"name" doc:"What the archive is called" maxLength:"500"`
	body io.Reader
}

// Resolve takes the body.
func (u *DriverUpload) Resolve(c huma.Context) []error {
	u.body = c.BodyReader()
	return nil
}

func (s *Service) driverRoutes(h huma.API) {
	tags := []string{"drivers"}
	huma.Register(h, huma.Operation{
		OperationID: "add-drivers", Method: http.MethodPost, Path: "/drivers", Tags: tags,
		Summary:     "Take the driver packages of an archive into the library",
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {}}},
	}, func(ctx context.Context, in *DriverUpload) (*reply[api.DriversAdded], error) {
		return answer(s.addDrivers(ctx, in.Name, in.body))
	})

	huma.Register(h, huma.Operation{
		OperationID: "list-drivers", Method: http.MethodGet, Path: "/drivers", Tags: tags, Summary: "List driver packages, by name",
	}, func(ctx context.Context, in *struct {
		Paging
		Class  string `query:"class"`
		Kind   string `query:"kind" enum:"inf,modules"`
		Device string `query:"device" doc:"Modalias, hardware id, or VENDOR:PRODUCT"`
	}) (*reply[api.Page[api.DriverPackage]], error) {
		packs := slices.DeleteFunc(s.drivers.Packages(), func(p *driver.Package) bool {
			return in.Class != "" && in.Class != string(p.Class) || in.Kind != "" && in.Kind != string(p.Kind) || in.Device != "" && !drives(p, in.Device) || !speaks(p, in.Search)
		})
		machines, err := s.machines(ctx, "")
		if err != nil {
			return nil, problem(err)
		}
		served := driver.Served(machines, s.drivers.Index())
		total := len(packs)
		packs = packs[min(in.Offset, total):min(in.Offset+in.Limit, total)]
		page := api.Page[api.DriverPackage]{Items: []api.DriverPackage{}, Total: total}
		for _, p := range packs {
			page.Items = append(page.Items, s.driverPackage(p, served[p.ID], false))
		}
		return answer(page, nil)
	})

	type packageRef struct {
		Ref string `path:"ref" doc:"Id, the beginning of it, or a name that is there once"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "get-driver", Method: http.MethodGet, Path: "/drivers/{ref}", Tags: tags, Summary: "Show a driver package with what it drives",
	}, func(ctx context.Context, in *packageRef) (*reply[api.DriverPackage], error) {
		p, err := s.findPackage(in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		machines, err := s.machines(ctx, "")
		if err != nil {
			return nil, problem(err)
		}
		return answer(s.driverPackage(p, driver.Served(machines, s.drivers.Index())[p.ID], true), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "remove-driver", Method: http.MethodDelete, Path: "/drivers/{ref}", Tags: tags, Summary: "Take a driver package out of the library; builds and workstations that have it keep it",
	}, func(ctx context.Context, in *packageRef) (*struct{}, error) {
		p, err := s.findPackage(in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		if err := s.drivers.Remove(p.ID); err != nil {
			return nil, problem(err)
		}
		s.log.Info("driver package removed", "package", p.Label(), "id", p.ID)
		s.events.publish(driverEvent{})
		return nil, nil
	})

	huma.Register(h, huma.Operation{
		OperationID: "explain-drivers", Method: http.MethodGet, Path: "/workstations/{ref}/drivers", Tags: tags,
		Summary: "Show for each device of a workstation every package that drives it, and why the best is the best",
	}, func(ctx context.Context, in *struct {
		WorkstationRef
		Device string `query:"device" doc:"Just devices whose identifier contains this"`
		Image  string `query:"image"`
	}) (*reply[[]api.DriverExplained], error) {
		return answer(s.explainDrivers(ctx, in.Ref, in.Device, in.Image))
	})
}

// explainDrivers shows all candidates for the devices of a workstation: for the system
// of an image, the one that it got last if none is named; where none is known, of both
// kinds for a PC of 64 bits.
func (s *Service) explainDrivers(ctx context.Context, ref, only, image string) ([]api.DriverExplained, error) {
	w, err := s.records.FindWorkstation(ctx, ref)
	if err != nil {
		return nil, err
	}
	m := machine(*w)
	if m.Devices == nil {
		return nil, fault.Conflict.Errorf("nobody knows the devices of %s yet: have it boot into the boot environment once", m.Name)
	}
	if image == "" { // what it has
		name, version, err := s.records.LastVersion(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		if version > 0 {
			image = roster.Ref{Image: name, Version: version}.String()
		}
	}
	st, err := s.standAt(ctx, 0, image, api.DriverOrder{})
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

// getDriverFile gives an agent a file of a package.
func (s *Service) getDriverFile(w http.ResponseWriter, r *http.Request) {
	p, err := s.findPackage(chi.URLParam(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	f, err := s.drivers.Open(p, chi.URLParam(r, "*"))
	if err != nil {
		s.fail(w, r, fault.NotFound.Mark(err))
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", info.ModTime(), f)
}

// packagesToPut groups files by their package, as an agent gets them.
func packagesToPut(placed []driver.Placed) []api.DriverPackage {
	out := []api.DriverPackage{}
	for _, f := range placed {
		i := slices.IndexFunc(out, func(p api.DriverPackage) bool { return p.ID == f.Package.ID })
		if i < 0 {
			i = len(out)
			out = append(out, api.DriverPackage{ID: f.Package.ID, Kind: string(f.Package.Kind), Name: f.Package.Name, Label: f.Package.Label(), Version: f.Package.Version,
				Arch: f.Package.Arch, Remarks: []string{}, Serves: []string{}})
		}
		out[i].Files = append(out[i].Files, api.DriverFile{Path: f.File.Path, Bytes: f.File.Size, Digest: f.File.Digest.String(), To: f.To})
	}
	return out
}

// toPut is what goes into the system of a workstation; nil if nothing does.
func (s *Service) toPut(st *stand, m driver.Machine, fleet driver.Fleet) (*api.ToPut, error) {
	choices := st.coming(m, fleet)
	in := st.system.Inside
	if len(choices) == 0 || in == nil {
		return nil, nil
	}
	put := &api.ToPut{System: string(in.System), Kernel: in.Kernel}
	if in.System == driver.Windows {
		put.Packages = packagesToPut(driver.PlaceINF(choices))
		return put, nil
	}
	modules, err := driver.Bring(choices, st.index.Packages(), in.Kernel, in.Names)
	if errors.Is(err, kmod.ErrMissing) {
		return nil, fault.Conflict.Errorf("the drivers for %s cannot be put together: %v", m.Name, err)
	} else if err != nil {
		return nil, err
	}
	put.Packages = packagesToPut(driver.PlaceModules(modules))
	return put, nil
}
