package stock

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jugate/core/answers"
	"jugate/core/driver"
	"jugate/core/durable"
	"jugate/core/fileview"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/slabstore"
	"jugate/core/volume"
	"jugate/records"
)

// system is what is on an image; inside is nil if that cannot be told, and why says
// why.
type system struct {
	// Looked is the version of the way to look. A result of an earlier way is looked for
	// again.
	Looked int            `json:"looked"`
	Inside *driver.Inside `json:"inside,omitempty"`
	Why    string         `json:"why,omitempty"`
	// Linux is the number of the partition with the root of a Linux system; 0 if there is none.
	Linux int `json:"linux,omitempty"`
	// Broken says why answers cannot be merged with the answer file of a Windows; empty if they can.
	Broken string `json:"broken,omitempty"`
}

// words describe a system in a line.
func (s system) words() string {
	switch {
	case s.Inside == nil:
		return s.Why
	case s.Inside.Kernel != "":
		return fmt.Sprintf("%s, kernel %s", s.Inside.Name, s.Inside.Kernel)
	}
	return strings.TrimSpace(s.Inside.Name + " " + s.Inside.Arch)
}

// systemOf looks into an image: once, then it is on disk.
func (k *Stock) systemOf(ctx context.Context, v *records.Version) (system, error) {
	return k.systems.Get(v.Digest, func() (found system, err error) {
		path := filepath.Join(k.Dir, "systems", v.Digest+".json")
		text, err := os.ReadFile(path)
		if err == nil {
			err = json.Unmarshal(text, &found)
		}
		if err != nil || found.Looked != lookedNow {
			found, err = k.lookInto(ctx, v)
			found.Looked = lookedNow
			if err == nil {
				err = keep(path, found)
			}
		}
		if err == nil && found.Inside != nil {
			found.Inside.Prepare()
		}
		return found, err
	})
}

// lookedNow is the present way to look, which begins with the system's own volume and reads when a
// Windows starts what.
const lookedNow = 4

// keep writes a file that is there as a whole or not at all.
func keep(path string, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return err
	}
	return durable.Write(path, text, 0o640)
}

// lookInto reads the volumes of an image from its slabs until one has a system: first the
// one that is the system's own, as the survey has seen or its size tells, as others may hold
// a small one for recovery.
func (k *Stock) lookInto(ctx context.Context, v *records.Version) (system, error) {
	digest, err := slabstore.ParseDigest(v.Digest)
	if err != nil {
		return system{}, err
	}
	man, slabs, err := k.Files.Load(v.Ref(), digest)
	if err != nil {
		return system{}, err
	}
	var closed []string
	var found system
	own, _ := man.Growing(partition.GrowSystem)
	areas := slices.SortedStableFunc(slices.Values(man.Areas), func(a, b image.Area) int {
		return cmp.Or(cmp.Compare(oneIf(b.Partition == int(own)), oneIf(a.Partition == int(own))), cmp.Compare(b.Size, a.Size))
	})
	for _, a := range areas {
		if a.Partition == 0 || a.Kind == volume.Swap {
			continue
		}
		if err := ctx.Err(); err != nil {
			return system{}, err
		}
		view, err := image.NewView(man, slabs, a.Partition, k.Slabs)
		if err != nil {
			return system{}, err
		}
		files, err := fileview.Open(view, a.Size, a.Kind)
		if err == nil {
			if found.Linux == 0 && answers.IsLinux(files) {
				found.Linux = a.Partition
			}
			var in *driver.Inside
			if in, err = driver.ReadInside(files); err == nil {
				in.Volume = a.Partition
				if in.System == driver.Windows {
					if err := answers.CheckAnswerFile(files, in.Arch); err != nil {
						found.Broken = err.Error()
					}
				}
				k.Log.Info("system of an image", "image", v.Ref(), "system", in.Name, "kernel", in.Kernel, "partition", a.Partition)
				found.Inside = in
				return found, nil
			}
		}
		if !errors.Is(err, driver.ErrNoSystem) && a.Partition == int(own) {
			found.Why = fmt.Sprintf("its system cannot be looked into: partition %d (%s): %v", a.Partition, a.Kind, err)
			return found, nil
		}
		if !errors.Is(err, driver.ErrNoSystem) {
			closed = append(closed, fmt.Sprintf("partition %d (%s): %v", a.Partition, a.Kind, err))
		}
	}
	if found.Why = "there is no operating system on it that is known here"; closed != nil {
		found.Why = "its system cannot be looked into: " + strings.Join(closed, "; ")
	}
	return found, nil
}

func oneIf(is bool) int {
	if is {
		return 1
	}
	return 0
}
