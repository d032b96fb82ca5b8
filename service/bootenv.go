package service

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"io"
	"io/fs"
	"math"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/core/environment"
	"jugate/core/environment/builds"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/slabstore"
	"jugate/records"
)

func (s *Service) build(b *builds.Build, offered int, whole bool) api.Build {
	out := api.Build{Number: b.Number, Created: b.Created, Note: b.Note, Kernel: b.Kernel, Words: b.Words, Shell: b.Shell, Modules: b.Modules,
		Bytes: b.Size(), Offered: b.Number == offered, Problems: b.Problems, Layers: []api.BuildLayer{}}
	for _, l := range b.Layers {
		layer := api.BuildLayer{Name: l.Name, Digest: l.Part.Digest.String(), Bytes: l.Part.Size, Count: len(l.Files), Packages: l.Packages}
		for _, f := range l.Files {
			if whole {
				layer.Files = append(layer.Files, api.BuildFile{Path: "/" + f.Path, Bytes: f.Size, Digest: f.Digest.String(), Origin: f.Origin})
			}
		}
		out.Layers = append(out.Layers, layer)
	}
	if whole {
		for name, p := range b.Parts {
			out.Parts = append(out.Parts, api.BuildFile{Path: name, Bytes: p.Size, Digest: p.Digest.String(), Origin: b.Origins[name]})
		}
		slices.SortFunc(out.Parts, func(a, b api.BuildFile) int { return strings.Compare(a.Path, b.Path) })
	}
	return out
}

// makeBuild makes the next build.
func (s *Service) makeBuild(ctx context.Context, in api.NewBuild) (*builds.Build, error) {
	if len(in.Drivers)+len(in.Cover) > 0 && len(in.From)+len(in.Packages) == 0 {
		_, err := s.findBuild(ctx, in.Base)
		if err == nil || in.Base > 0 {
			return s.extendBuild(ctx, in)
		}
	}
	for _, path := range append(slices.Clone(in.From), in.Packages...) {
		if err := s.mayBuildFrom(path); err != nil {
			return nil, err
		}
	}
	from := &builds.Source{}
	defer from.Close()
	for _, file := range in.Packages {
		if err := from.AddPackage(file); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
	}
	roots := in.From
	if len(roots)+len(in.Packages) == 0 {
		roots = []string{"/"}
	}
	for _, dir := range roots {
		if err := from.AddRoot(dir); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
	}
	b, err := s.makePlain(ctx, from, in)
	if err != nil || len(in.Drivers)+len(in.Cover) == 0 {
		return b, err
	}
	layers, err := s.driverLayers(ctx, b, in)
	if err != nil {
		return nil, err
	}
	return s.addLayers(b, layers, in)
}

// mayBuildFrom tells whether a build may read a path of this machine: it lies in one of
// the folders that whoever runs the service has named, by way of links, too.
func (s *Service) mayBuildFrom(path string) error {
	refused := fault.Forbidden.Errorf("builds do not read %s: whoever runs the service names the folders that they may read (serve --build-from DIR)", clipped(path))
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return refused // and not whether it is there
	}
	for _, dir := range s.config.BuildFrom {
		root, err := filepath.EvalSymlinks(dir)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, real); err == nil && filepath.IsLocal(rel) {
			return nil
		}
	}
	return refused
}

// makePlain makes a build without layers of drivers.
func (s *Service) makePlain(ctx context.Context, from *builds.Source, in api.NewBuild) (*builds.Build, error) {
	s.boot.making.Lock()
	defer s.boot.making.Unlock()
	next, err := s.nextBuild()
	if err != nil {
		return nil, err
	}
	b, err := s.boot.builds.Make(ctx, from, builds.Options{Number: next, Created: s.config.Now(), Note: in.Note, Kernel: in.Kernel, Words: in.Words, Leave: in.LeaveOut,
		Agent: s.config.Netboot.Agent, Certificate: s.certificate, Settings: environment.Settings{Shell: in.Shell}})
	return b, incomplete(err)
}

// nextBuild is a number that no build has. The caller holds making.
func (s *Service) nextBuild() (int, error) {
	numbers, err := s.boot.builds.Builds()
	if err != nil || len(numbers) == 0 {
		return 1, err
	}
	return numbers[len(numbers)-1] + 1, nil
}

// incomplete says in a reply what a build lacks.
func incomplete(err error) error {
	var lacks *builds.Incomplete
	if !errors.As(err, &lacks) {
		return err
	}
	return fault.Invalid.Errorf("%w", err).With(lacks.Missing...)
}

// findBuild reads a build by number; 0 is the one that is offered.
func (s *Service) findBuild(ctx context.Context, number int) (*builds.Build, error) {
	if number == 0 {
		var err error
		if number, err = s.records.Offered(ctx); err != nil {
			return nil, err
		}
		if number == 0 {
			return nil, fault.NotFound.Errorf("no build of the boot environment is offered")
		}
	}
	b, err := s.boot.builds.Build(number)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.NotFound.Errorf("there is no build %d", number)
	}
	return b, err
}

func (s *Service) offer(ctx context.Context, number int) error {
	if _, err := s.findBuild(ctx, number); err != nil {
		return err
	}
	if err := s.records.Offer(ctx, s.config.Now(), number, administrator); err != nil {
		return err
	}
	s.log.Info("build offered", "build", number)
	s.events.publish(bootEvent{})
	return nil
}

func (s *Service) bootenvRoutes(h huma.API) {
	tags := []string{"boot environment"}
	huma.Register(h, huma.Operation{
		OperationID: "list-builds", Method: http.MethodGet, Path: "/builds", Tags: tags, Summary: "List builds of the boot environment, the newest first",
	}, func(ctx context.Context, in *struct{ Paging }) (*reply[api.Page[api.Build]], error) {
		numbers, err := s.boot.builds.Builds()
		if err != nil {
			return nil, err
		}
		offered, err := s.records.Offered(ctx)
		if err != nil {
			return nil, err
		}
		total := len(numbers)
		slices.Reverse(numbers)
		numbers = numbers[min(in.Offset, total):min(in.Offset+in.Limit, total)]
		page := api.Page[api.Build]{Items: []api.Build{}, Total: total}
		for _, n := range numbers {
			b, err := s.boot.builds.Build(n)
			if err != nil {
				return nil, err
			}
			page.Items = append(page.Items, s.build(b, offered, false))
		}
		return answer(page, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "make-build", Method: http.MethodPost, Path: "/builds", Tags: tags,
		Summary: "Make a build of the boot environment", BodyReadTimeout: -1,
	}, func(ctx context.Context, in *struct{ Body api.NewBuild }) (*reply[api.Build], error) {
		b, err := s.makeBuild(ctx, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		s.log.Info("build made", "build", b.Number, "kernel", b.Kernel, "modules", b.Modules, "problems", len(b.Problems))
		offered, err := s.records.Offered(ctx)
		if err != nil {
			return nil, err
		}
		if in.Body.Offer {
			if err := s.offer(ctx, b.Number); err != nil {
				return nil, problem(err)
			}
			offered = b.Number
		}
		return answer(s.build(b, offered, false), nil)
	})

	type buildRef struct {
		Number int `path:"number" minimum:"0" doc:"0 is the one that is offered"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "get-build", Method: http.MethodGet, Path: "/builds/{number}", Tags: tags, Summary: "Show a build with all its files",
	}, func(ctx context.Context, in *buildRef) (*reply[api.Build], error) {
		b, err := s.findBuild(ctx, in.Number)
		if err != nil {
			return nil, problem(err)
		}
		offered, err := s.records.Offered(ctx)
		if err != nil {
			return nil, err
		}
		return answer(s.build(b, offered, true), nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "offer-build", Method: http.MethodPost, Path: "/builds/{number}/offer", Tags: tags,
		Summary: "Have workstations boot this build from now on",
	}, func(ctx context.Context, in *buildRef) (*struct{}, error) {
		return nil, problem(s.offer(ctx, in.Number))
	})

	huma.Register(h, huma.Operation{
		OperationID: "diff-builds", Method: http.MethodGet, Path: "/builds/{number}/diff/{other}", Tags: tags,
		Summary: "List what another build has that this one has not, and the other way round",
	}, func(ctx context.Context, in *struct {
		Number int `path:"number" minimum:"0"`
		Other  int `path:"other" minimum:"0"`
	}) (*reply[[]api.BuildChange], error) {
		a, err := s.findBuild(ctx, in.Number)
		if err != nil {
			return nil, problem(err)
		}
		b, err := s.findBuild(ctx, in.Other)
		if err != nil {
			return nil, problem(err)
		}
		out := []api.BuildChange{}
		for _, c := range builds.Diff(a, b) {
			out = append(out, api.BuildChange{What: c.What, Path: c.Path, From: c.From, To: c.To})
		}
		return answer(out, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "pin-workstation", Method: http.MethodPut, Path: "/workstations/{ref}/build", Tags: tags, Summary: "Have a workstation boot one build, whatever is offered",
	}, func(ctx context.Context, in *struct {
		WorkstationRef
		Body api.Pin
	}) (*struct{}, error) {
		if err := s.checkPin(ctx, in.Body.Build); err != nil {
			return nil, err
		}
		w, err := s.records.FindWorkstation(ctx, in.Ref)
		if err != nil {
			return nil, problem(err)
		}
		return nil, problem(s.records.PinWorkstation(ctx, w.ID, in.Body.Build))
	})

	huma.Register(h, huma.Operation{
		OperationID: "pin-group", Method: http.MethodPut, Path: "/groups/{group}/build", Tags: tags, Summary: "Have a group boot one build, whatever is offered",
	}, func(ctx context.Context, in *struct {
		Group string `path:"group"`
		Body  api.Pin
	}) (*struct{}, error) {
		if err := s.checkPin(ctx, in.Body.Build); err != nil {
			return nil, err
		}
		return nil, problem(s.records.PinGroup(ctx, in.Group, in.Body.Build))
	})
}

// checkPin makes sure that what is pinned is there; 0 ends a pin.
func (s *Service) checkPin(ctx context.Context, build int) error {
	if build == 0 {
		return nil
	}
	_, err := s.findBuild(ctx, build)
	return problem(err)
}

// mediaRoutes give images for sticks.
func (s *Service) mediaRoutes(h huma.API) {
	huma.Register(h, huma.Operation{
		OperationID: "make-media", Method: http.MethodPost, Path: "/builds/{number}/media", Tags: []string{"boot environment"},
		Summary: "Make the image of a USB stick that boots a build without network boot",
	}, func(ctx context.Context, in *struct {
		Number int `path:"number" minimum:"0" doc:"0 is the one that is offered"`
		Body   api.NewMedia
	}) (*huma.StreamResponse, error) {
		b, err := s.findBuild(ctx, in.Number)
		if err != nil {
			return nil, problem(err)
		}
		set, err := s.mediaSettings(ctx, in.Body, b)
		if err != nil {
			return nil, err
		}
		f, err := os.CreateTemp(s.scratch(), "media")
		if err != nil {
			return nil, problem(err)
		}
		os.Remove(f.Name()) // it is there for as long as it is open
		if err := s.boot.builds.WriteMedia(b, set, f); err != nil {
			f.Close()
			return nil, problem(err)
		}
		s.log.Info("media made", "build", b.Number, "service", set.Service, "fixed", in.Body.Address)
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer f.Close()
			c.SetHeader("Content-Type", "application/octet-stream")
			io.Copy(c.BodyWriter(), io.NewSectionReader(f, 0, math.MaxInt64)) // a client that breaks off knows
		}}, nil
	})
}

// mediaSettings are what media tell the agent, with a key of their own to check in
// with.
func (s *Service) mediaSettings(ctx context.Context, in api.NewMedia, b *builds.Build) (environment.Settings, error) {
	set := environment.Settings{Service: in.Service, Shell: b.Shell, Key: newSecret()[:32]}
	if in.Address != "" {
		p, err := netip.ParsePrefix(in.Address)
		if err != nil || !p.Addr().Is4() {
			return set, fault.Invalid.Errorf("%q is no IPv4 address with the length of its prefix, as 192.0.2.70/24", in.Address)
		}
		set.Network = &environment.FixedNetwork{Address: p.String(), Gateway: in.Gateway}
	}
	key := records.MediaKey{Digest: slabstore.Sum([]byte(set.Key)).String(), Made: s.config.Now(), Note: cmp.Or(in.Note, "media of build "+strconv.Itoa(b.Number)), Group: in.Group}
	if in.Hours > 0 {
		key.Until = sql.NullTime{Time: s.config.Now().Add(time.Duration(in.Hours) * time.Hour), Valid: true}
	}
	return set, problem(s.records.AddMediaKey(ctx, key))
}
