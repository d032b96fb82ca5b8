package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"github.com/zeebo/blake3"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/answers"
	"jugate/core/driver"
	"jugate/core/fileview"
	"jugate/core/kmod"
	"jugate/core/slabstore"
	"jugate/core/volume"
	"jugate/core/windows"
)

// SystemVolume is a volume with a system on it that can be written. Names are those of
// io/fs.
type SystemVolume interface {
	fs.FS
	// WriteFile makes a file and its folders, or puts another in its place: as a whole, or not at
	// all. It may be larger than memory.
	WriteFile(name string, content io.Reader) error
	Close() error
}

// SystemMounter is a Disk whose volumes can be written.
type SystemMounter interface {
	MountSystem(start int64, v *volume.Volume) (SystemVolume, error)
}

// install does an errand that installs drivers into the system on the disk.
func (a *Agent) install(ctx context.Context, e *api.ToErrand) error {
	did, err := a.installOnto(ctx, e.Install)
	return a.endInstall(ctx, e.ID, "the drivers", err, func(c *apiclient.Client) error {
		return c.Installed(ctx, e.ID, api.Installed{Packages: labels(e.Install), Did: did})
	})
}

// endInstall tells the service how an errand ended that changes the system on the disk.
func (a *Agent) endInstall(ctx context.Context, id int64, what string, err error, done func(*apiclient.Client) error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		why := err.Error()
		a.show("%s could not be installed: %v", what, err)
		a.options.Log.Warn("not installed", "what", what, "error", err)
		done = func(c *apiclient.Client) error { return c.FailErrand(ctx, id, api.Failure{Error: why}) }
	} else {
		a.show("%s are installed and checked", what)
	}
	_, err = authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, done(c) })
	return forgiven(err)
}

// forgiven drops the error that says that the errand was stopped meanwhile.
func forgiven(err error) error {
	if isTold(err) {
		return nil
	}
	return err
}

func labels(install *api.ToInstall) (all []string) {
	for _, p := range install.Packages {
		all = append(all, p.Label)
	}
	return all
}

func (a *Agent) installOnto(ctx context.Context, install *api.ToInstall) ([]string, error) {
	if install == nil {
		return nil, errors.New("the service did not say which")
	}
	disk, err := a.openDisk(install.Disk)
	if err != nil {
		return nil, err
	}
	defer disk.Close()
	return a.installDrivers(ctx, disk, anywhere, install)
}

// installDrivers finds the system on a disk, copies the files, checks the copies, and has
// the system know them. did says in words what was done.
func (a *Agent) installDrivers(ctx context.Context, d Disk, among func(number int) bool, install *api.ToInstall) (did []string, err error) {
	if install.Problem != "" {
		return nil, errors.New(install.Problem)
	}
	none := fmt.Errorf("there is no %s on this disk that these drivers are for", install.System)
	return onSystem(ctx, d, among, none, driver.ErrNoSystem, func(system SystemVolume, _ volume.Kind) ([]string, error) {
		return a.installInto(ctx, system, install)
	})
}

func (a *Agent) installInto(ctx context.Context, system SystemVolume, install *api.ToInstall) (did []string, err error) {
	in, err := driver.ReadInside(system)
	if err != nil {
		return nil, err
	}
	if string(in.System) != install.System || install.Kernel != "" && in.Kernel != install.Kernel {
		return nil, fmt.Errorf("%w: %s with kernel %q is here, the drivers are for %s with kernel %q", driver.ErrNoSystem, in.Name, in.Kernel, install.System, install.Kernel)
	}
	usr := ""
	if _, err := fs.Stat(system, "usr/lib/modules/"+in.Kernel); err == nil && in.System == driver.Linux {
		usr = "usr/"
	}
	count := 0
	for _, p := range install.Packages {
		for _, f := range p.Files {
			a.show("installing %s: %s", p.Label, f.Path)
			if err := a.installFile(ctx, system, p.ID, f, usr+f.To); err != nil {
				return nil, fmt.Errorf("%s: %w", p.Label, err)
			}
			count++
		}
		did = append(did, "installed "+p.Label)
	}
	var more []string
	if in.System == driver.Windows {
		more, err = a.registerWindows(system, in, install)
	} else {
		more, err = a.registerLinux(ctx, system, in, usr+"lib/modules/"+in.Kernel)
	}
	a.options.Log.Info("drivers installed", "files", count, "system", in.Name, "did", more)
	return append(did, more...), err
}

// installFile copies one file and reads the copy back.
func (a *Agent) installFile(ctx context.Context, system SystemVolume, id string, f api.DriverFile, to string) error {
	err := a.withDriver(ctx, id, f, func(content io.Reader) error { return system.WriteFile(to, content) })
	if err != nil {
		return fmt.Errorf("write %s: %w", to, err)
	}
	back, err := system.Open(to)
	if err != nil {
		return fmt.Errorf("read back %s: %w", to, err)
	}
	defer back.Close()
	got, err := digestOf(back)
	if err != nil {
		return fmt.Errorf("read back %s: %w", to, err)
	}
	if got.String() != f.Digest {
		return fmt.Errorf("%s is not on the volume as it was written", to)
	}
	return nil
}

func digestOf(r io.Reader) (d slabstore.Digest, err error) {
	h := blake3.New()
	_, err = io.Copy(h, r)
	copy(d[:], h.Sum(nil))
	return d, err
}

// registerLinux has the system's own programs find the modules, and put those of the
// disk into what it loads first. Where it has none, the lists are written here.
func (a *Agent) registerLinux(ctx context.Context, system SystemVolume, in *driver.Inside, folder string) (did []string, err error) {
	commander, can := system.(Commander)
	has := func(program string) bool {
		for _, dir := range []string{"usr/sbin/", "sbin/", "usr/bin/", "bin/"} {
			if _, err := fs.Stat(system, dir+program); err == nil {
				return true
			}
		}
		return false
	}
	if can && has("depmod") {
		if err := runIn(ctx, commander, "depmod", "-a", in.Kernel); err != nil {
			return nil, err
		}
		did = append(did, "depmod has run in the system")
	} else {
		if err := writeLists(system, folder); err != nil {
			return nil, err
		}
		did = append(did, "the lists of modules were written anew; the system's own depmod could not be run")
	}
	for _, c := range [][]string{{"update-initramfs", "-u", "-k", in.Kernel}, {"dracut", "--force", "--kver", in.Kernel}} {
		if can && has(c[0]) {
			a.show("%s in the system", c[0])
			if err := runIn(ctx, commander, c...); err != nil {
				return did, err
			}
			return append(did, c[0]+" has run in the system"), nil
		}
	}
	return append(did, "what the system loads first (its initramfs) was left as it is"), nil
}

// writeLists adds the modules below updates to modules.dep and modules.alias.
func writeLists(system SystemVolume, folder string) error {
	dep, err := fs.ReadFile(system, folder+"/modules.dep")
	if err != nil {
		return err
	}
	alias, err := fs.ReadFile(system, folder+"/modules.alias")
	if err != nil {
		return err
	}
	x, err := kmod.ReadIndex(bytes.NewReader(dep), bytes.NewReader(alias))
	if err != nil {
		return err
	}
	var more []kmod.Info
	err = fs.WalkDir(system, folder+"/updates", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !driver.IsModule(name) {
			return err
		}
		f, err := system.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		b, err := driver.Expand(f, name)
		if err != nil {
			return err
		}
		info, err := kmod.ReadInfo(bytes.NewReader(b))
		info.Path = "updates" + name[len(folder+"/updates"):]
		more = append(more, info)
		return err
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	x = x.With(more)
	var newDep, newAlias bytes.Buffer
	if err := errors.Join(x.WriteDep(&newDep), x.WriteAlias(&newAlias)); err != nil {
		return err
	}
	return errors.Join(system.WriteFile(folder+"/modules.dep", &newDep), system.WriteFile(folder+"/modules.alias", &newAlias))
}

// registerWindows has the system start with the drivers that its disk hangs on, and the first start
// take the packages.
func (a *Agent) registerWindows(system SystemVolume, in *driver.Inside, install *api.ToInstall) (did []string, err error) {
	if len(install.First)+len(install.Wake) > 0 {
		a.show("having the system start with the driver of its disk controller")
		if did, err = startFirst(system, install); err != nil {
			return nil, fmt.Errorf("the driver of the disk controller: %w", err)
		}
	}
	if len(install.Packages) == 0 {
		return did, nil
	}
	more, err := registerInAnswerFile(system, in)
	return append(did, more...), err
}

// registerInAnswerFile has the first start take the packages.
func registerInAnswerFile(system SystemVolume, in *driver.Inside) (did []string, err error) {
	at, there := "", false
	for _, name := range answers.AnswerFiles {
		if at, there = fileview.FindFold(system, name); there {
			break
		}
	}
	var existing []byte
	if there {
		if existing, err = fs.ReadFile(system, at); err != nil {
			return nil, err
		}
	} else {
		at = answers.AnswerFiles[len(answers.AnswerFiles)-1]
		if folder, there := fileview.FindFold(system, path.Dir(at)); there {
			at = path.Join(folder, path.Base(at))
		}
	}
	text, err := answers.RegisterInAnswerFile(existing, in.Arch)
	if err != nil {
		return nil, fmt.Errorf("the answer file /%s: %w", at, err)
	}
	if !bytes.Equal(text, existing) {
		if err := system.WriteFile(at, bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("write %s: %w", at, err)
		}
	}
	did = append(did, "the first start takes them, by "+at)
	if state, err := windows.SetupState(system); err == nil && state == windows.Complete {
		did = append(did, `this system has had its first start: run pnputil /add-driver C:\Jugate\Drivers\*.inf /subdirs /install on it`)
	}
	return did, nil
}

// Lacks asks the service for modules that the boot environment lacks.
func (a *Agent) Lacks(ctx context.Context, in api.Lacks) (api.ToInstall, error) {
	return authorized(ctx, a, func(c *apiclient.Client) (api.ToInstall, error) { return c.Lacks(ctx, in) })
}

// DriverFile fetches a file of a driver package, checked and expanded.
func (a *Agent) DriverFile(ctx context.Context, id string, f api.DriverFile) (content []byte, err error) {
	err = a.withDriver(ctx, id, f, func(r io.Reader) (err error) {
		content, err = driver.Expand(r, f.Path)
		return errors.Join(err, drain(r))
	})
	return content, err
}

func drain(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	return err
}

// withDriver hands a file of a package to use while it is received.
func (a *Agent) withDriver(ctx context.Context, id string, f api.DriverFile, use func(io.Reader) error) error {
	return a.fetched(ctx, f.Path, f.Digest, func(c *apiclient.Client) (io.ReadCloser, error) { return c.DriverFile(ctx, id, f.Path) }, use)
}

// fetched hands what open opens to use while it is received, and compares its digest. If the
// connection breaks, it is fetched again from its beginning.
func (a *Agent) fetched(ctx context.Context, name, digest string, open func(*apiclient.Client) (io.ReadCloser, error), use func(io.Reader) error) error {
	want, err := slabstore.ParseDigest(digest)
	if err != nil {
		return err
	}
	_, err = authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) {
		body, err := open(c)
		if err != nil {
			return struct{}{}, err
		}
		defer body.Close()
		in := &line{Reader: body}
		err = checked(name, want, in, use)
		if in.broken != nil {
			err = fmt.Errorf("%w: %w", apiclient.ErrAway, in.broken)
		}
		return struct{}{}, err
	})
	return err
}

// checked hands content to use, and compares its digest.
func checked(name string, want slabstore.Digest, content io.Reader, use func(io.Reader) error) error {
	h := blake3.New()
	if err := use(io.TeeReader(content, h)); err != nil {
		return err
	}
	if slabstore.Digest(h.Sum(nil)) != want {
		return fmt.Errorf("%s came damaged", name)
	}
	return nil
}

// line notes whether the connection that it reads from has broken.
type line struct {
	io.Reader
	broken error
}

func (l *line) Read(b []byte) (int, error) {
	n, err := l.Reader.Read(b)
	if err != nil && err != io.EOF {
		l.broken = err
	}
	return n, err
}
