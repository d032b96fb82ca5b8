package stock

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/environment"
	"jugate/core/environment/builds"
	"jugate/core/fault"
	"jugate/records"
)

func buildOf(b *builds.Build, offered int, files bool) api.Build {
	out := api.Build{Number: b.Number, Created: b.Created, Note: b.Note, Kernel: b.Kernel, Words: b.Words, Shell: b.Shell, Modules: b.Modules,
		Bytes: b.Size(), Offered: b.Number == offered, Problems: b.Problems, Program: b.Program, Packages: append([]string{}, b.Packages...), Layers: []api.BuildLayer{}}
	for _, l := range b.Layers {
		layer := api.BuildLayer{Name: l.Name, Digest: l.Part.Digest.String(), Bytes: l.Part.Size, Count: len(l.Files), Packages: l.Packages}
		for _, f := range l.Files {
			if files {
				layer.Files = append(layer.Files, api.BuildFile{Path: "/" + f.Path, Bytes: f.Size, Digest: f.Digest.String(), Origin: f.Origin})
			}
		}
		out.Layers = append(out.Layers, layer)
	}
	if files {
		for name, p := range b.Parts {
			out.Parts = append(out.Parts, api.BuildFile{Path: name, Bytes: p.Size, Digest: p.Digest.String(), Origin: b.Origins[name]})
		}
		slices.SortFunc(out.Parts, func(a, b api.BuildFile) int { return strings.Compare(a.Path, b.Path) })
	}
	return out
}

// makeBuild makes the next build.
func (k *Stock) makeBuild(ctx context.Context, in api.NewBuild) (*builds.Build, error) {
	for _, path := range slices.Concat(in.Folders, in.Packages, in.Programs) {
		if err := k.mayBuildFrom(path); err != nil {
			return nil, err
		}
	}
	more := len(in.Drivers)+len(in.Cover)+len(in.Programs) > 0
	if more && len(in.Folders)+len(in.Packages) == 0 {
		_, err := k.findBuild(ctx, in.Base)
		if err == nil || in.Base > 0 {
			return k.extendBuild(ctx, in)
		}
	}
	from := &builds.Source{}
	defer from.Close()
	for _, file := range in.Packages {
		if err := from.AddPackage(file); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
	}
	roots := in.Folders
	if len(roots)+len(in.Packages) == 0 {
		roots = []string{"/"}
	}
	for _, dir := range roots {
		if err := from.AddRoot(dir); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
	}
	b, err := k.makePlain(ctx, from, in)
	if err != nil || !more {
		return b, err
	}
	layers, err := k.driverLayers(ctx, b, in)
	if err != nil {
		return nil, err
	}
	return k.addLayers(b, layers, in)
}

// mayBuildFrom tells whether a build may read a path of this machine. It must lie in one
// of the folders that the service was started with, also after symbolic links are
// resolved.
func (k *Stock) mayBuildFrom(path string) error {
	refused := fault.Forbidden.Errorf("builds do not read %s: whoever runs the service names the folders that they may read (serve --build-from DIR)", path)
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return refused // and not whether it is there
	}
	for _, dir := range k.BuildFrom {
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
func (k *Stock) makePlain(ctx context.Context, from *builds.Source, in api.NewBuild) (*builds.Build, error) {
	k.making.Lock()
	defer k.making.Unlock()
	next, err := k.Builds.Next()
	if err != nil {
		return nil, err
	}
	b, err := k.Builds.Make(ctx, from, builds.Options{Program: k.Version, Number: next, Created: k.Now(), Note: in.Note, Kernel: in.Kernel, Words: in.Words, Leave: in.LeaveOut,
		Agent: k.Agent, Certificate: k.Certificate, Settings: environment.Settings{Shell: in.Shell}})
	return b, incomplete(err)
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
func (k *Stock) findBuild(ctx context.Context, number int) (*builds.Build, error) {
	if number == 0 {
		var err error
		if number, err = k.Records.Offered(ctx); err != nil {
			return nil, err
		}
		if number == 0 {
			return nil, fault.NotFound.Errorf("no build of the boot environment is offered")
		}
	}
	b, err := k.Builds.Build(number)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.NotFound.Errorf("there is no build %d", number)
	}
	return b, err
}

// Offer has workstations boot a build from now on.
func (k *Stock) Offer(ctx context.Context, number int) error {
	if _, err := k.findBuild(ctx, number); err != nil {
		return err
	}
	if err := k.Records.Offer(ctx, k.Now(), number, actor.From(ctx).String()); err != nil {
		return err
	}
	k.Log.Info("build offered", "build", number)
	k.Publish(api.BootStepped{})
	return nil
}

// RemoveBuild removes a build that nobody boots: it is neither offered nor pinned.
func (k *Stock) RemoveBuild(ctx context.Context, number int) error {
	k.making.Lock()
	defer k.making.Unlock()
	b, err := k.findBuild(ctx, number)
	if err != nil {
		return err
	}
	offered, err := k.Records.Offered(ctx)
	if err != nil {
		return err
	}
	if number == 0 || offered == b.Number {
		return fault.Conflict.Errorf("build %d is offered; offer another one first", b.Number)
	}
	pinned, err := k.Records.PinnedTo(ctx, b.Number)
	if err != nil {
		return err
	}
	if len(pinned) > 0 {
		return fault.Conflict.Errorf("build %d is what %s boots; jugate environment pin NAME 0 ends that", b.Number, strings.Join(pinned, ", "))
	}
	if err := k.Builds.Remove(b.Number); err != nil {
		return err
	}
	k.Log.Info("build removed", "build", b.Number, "by", actor.From(ctx))
	k.Publish(api.BootStepped{})
	return nil
}

// checkPin makes sure that what is pinned is there; 0 ends a pin.
func (k *Stock) checkPin(ctx context.Context, build int) error {
	if build == 0 {
		return nil
	}
	_, err := k.findBuild(ctx, build)
	return err
}

// BuildList lists builds of the boot environment, the newest first.
func (k *Stock) BuildList(ctx context.Context, p records.Page) ([]api.Build, int, error) {
	numbers, err := k.Builds.Builds()
	if err != nil {
		return nil, 0, err
	}
	offered, err := k.Records.Offered(ctx)
	if err != nil {
		return nil, 0, err
	}
	total := len(numbers)
	slices.Reverse(numbers)
	all := []api.Build{}
	for _, n := range numbers[min(p.Offset, total):min(p.Offset+p.Limit, total)] {
		b, err := k.Builds.Build(n)
		if err != nil {
			return nil, 0, err
		}
		all = append(all, buildOf(b, offered, false))
	}
	return all, total, nil
}

// MakeBuild makes the next build, and offers it if that is asked for.
func (k *Stock) MakeBuild(ctx context.Context, in api.NewBuild) (api.Build, error) {
	b, err := k.makeBuild(ctx, in)
	if err != nil {
		return api.Build{}, err
	}
	k.Log.Info("build made", "build", b.Number, "kernel", b.Kernel, "modules", b.Modules, "problems", len(b.Problems), "by", actor.From(ctx))
	if in.Offer {
		if err := k.Offer(ctx, b.Number); err != nil {
			return api.Build{}, err
		}
	}
	offered, err := k.Records.Offered(ctx)
	return buildOf(b, offered, false), err
}

// Build shows a build with all its files; 0 is the one that is offered.
func (k *Stock) Build(ctx context.Context, number int) (api.Build, error) {
	b, err := k.findBuild(ctx, number)
	if err != nil {
		return api.Build{}, err
	}
	offered, err := k.Records.Offered(ctx)
	return buildOf(b, offered, true), err
}

// DiffBuilds lists what another build has that one has not, and the other way round.
func (k *Stock) DiffBuilds(ctx context.Context, one, other int) ([]api.BuildChange, error) {
	a, err := k.findBuild(ctx, one)
	if err != nil {
		return nil, err
	}
	b, err := k.findBuild(ctx, other)
	if err != nil {
		return nil, err
	}
	out := []api.BuildChange{}
	for _, c := range builds.Diff(a, b) {
		out = append(out, api.BuildChange{What: c.What, Path: c.Path, OriginA: c.From, OriginB: c.To})
	}
	return out, nil
}

// PinWorkstation has a workstation boot one build, whatever is offered; 0 ends that.
func (k *Stock) PinWorkstation(ctx context.Context, ref string, build int) error {
	if err := k.checkPin(ctx, build); err != nil {
		return err
	}
	w, err := k.Records.FindWorkstation(ctx, ref)
	if err != nil {
		return err
	}
	return k.Records.PinWorkstation(ctx, w.ID, build)
}

// PinGroup has a group boot one build, whatever is offered; 0 ends that.
func (k *Stock) PinGroup(ctx context.Context, group string, build int) error {
	if err := k.checkPin(ctx, build); err != nil {
		return err
	}
	return k.Records.PinGroup(ctx, group, build)
}
