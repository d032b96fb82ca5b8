package agent

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"jugate/api"
	"jugate/core/fileview"
	"jugate/core/slabstore"
	"jugate/core/windows"
)

// startFirst puts drivers among what a Windows starts with, for the disk that it is on: their files
// first, then the settings database, which is checked before it is written and read back afterwards.
func startFirst(system SystemVolume, install *api.ToInstall) (did []string, err error) {
	at, there := fileview.FindFold(system, windows.SystemHive)
	if !there {
		return nil, fmt.Errorf("%s: %w", windows.SystemHive, fs.ErrNotExist)
	}
	content, err := fs.ReadFile(system, at)
	if err != nil {
		return nil, err
	}
	var first []windows.First
	for _, f := range install.First {
		if err := placeFirst(system, install, f); err != nil {
			return nil, err
		}
		first = append(first, f.First)
		did = append(did, fmt.Sprintf("the copy starts with %s (%s)", f.Name, f.Binary))
	}
	for _, service := range install.Wake {
		did = append(did, fmt.Sprintf("the copy starts with %s, which it had and did not start first", service))
	}
	changed, err := windows.Start(content, first, install.Wake, func(inf string) bool {
		_, taken := fileview.FindFold(system, "Windows/INF/"+inf)
		return taken
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", at, err)
	}
	if err := system.WriteFile(at, bytes.NewReader(changed)); err != nil {
		return nil, err
	}
	back, err := fs.ReadFile(system, at)
	if err == nil && slabstore.Sum(back) != slabstore.Sum(changed) {
		err = fmt.Errorf("%s is not on the volume as it was written", at)
	}
	return did, err
}

// placeFirst copies a driver's file from its package on the volume to where the loader looks.
func placeFirst(system SystemVolume, install *api.ToInstall, f api.FirstDriver) error {
	i := slices.IndexFunc(install.Packages, func(p api.DriverPackage) bool { return p.ID == f.Of })
	if i < 0 {
		return fmt.Errorf("the package of %s does not come", f.Name)
	}
	files := install.Packages[i].Files
	n := slices.IndexFunc(files, func(d api.DriverFile) bool { return d.Path == f.File })
	if n < 0 {
		return fmt.Errorf("the package of %s has no file %s", f.Name, f.File)
	}
	from, err := system.Open(files[n].To)
	if err != nil {
		return err
	}
	defer from.Close()
	to, _ := fileview.FindFold(system, path.Join(windows.DriverFolder, f.Binary))
	return system.WriteFile(to, from)
}
