package restore

import (
	"cmp"
	"errors"

	"jugate/core/disk"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/partition"
)

// Placement is how an image is to lie on disks, whichever these are.
type Placement struct {
	Grow   partition.Grow
	Keep   []partition.Ref
	Layout partition.Layout
	Part   int            // the partition of the image that comes alone; 0 for all of it
	Onto   *partition.Ref // the partition of the disk that it replaces
}

// ParsePlacement reads what partition.ParseGrow (nothing is "system"), ParseRef and
// ParseLayout read, and refuses what contradicts itself.
func ParsePlacement(grow string, keep, sizes []string, part int, onto string) (p Placement, err error) {
	p.Part = part
	if p.Grow, err = partition.ParseGrow(cmp.Or(grow, "system")); err != nil {
		return p, err
	}
	if p.Keep, err = partition.ParseRefs(keep); err != nil {
		return p, err
	}
	if p.Layout, err = partition.ParseLayout(sizes); err != nil {
		return p, err
	}
	if onto != "" {
		k, err := partition.ParseRef(onto)
		if err != nil {
			return p, err
		}
		p.Onto = &k
	}
	switch {
	case p.Layout != nil && p.Grow != partition.GrowSystem:
		return p, fault.Invalid.Errorf("say either which partition grows, or which sizes they have")
	case part == 0 && onto != "":
		return p, fault.Invalid.Errorf("say which partition of the image goes onto partition %s", p.Onto)
	case part != 0 && onto == "":
		return p, fault.Invalid.Errorf("say onto which partition of the disk partition %d of the image goes", part)
	case part != 0 && (p.Keep != nil || p.Layout != nil || p.Grow != partition.GrowSystem):
		return p, fault.Invalid.Errorf("one partition alone leaves all others of the disk as they are: none of them is kept beside that, grows or has another size")
	}
	return p, nil
}

// Whole tells whether the image has the disk for itself, as it is.
func (p Placement) Whole() bool { return p.Keep == nil && p.Layout == nil && p.Part == 0 }

// Suits says why a version cannot lie so on any disk; nil if it can.
func (p Placement) Suits(man *image.Manifest) error {
	has := func(number int) error {
		if q, ok := man.Table.Partition(number); !ok || q.Extended() {
			return fault.Invalid.Errorf("the image has no partition %d that holds anything", number)
		}
		return nil
	}
	if man.Table.Scheme == partition.None && !p.Whole() {
		return fault.Invalid.Errorf("the image has no partition table and takes the whole disk: nothing of that can be kept, and no partition has a size")
	}
	var errs []error
	if p.Part != 0 {
		errs = append(errs, has(p.Part))
	}
	if p.Grow > 0 {
		errs = append(errs, has(int(p.Grow)))
	}
	for _, s := range p.Layout {
		if s.Number != 0 {
			errs = append(errs, has(s.Number))
		}
	}
	return errors.Join(errs...)
}

// Disk is a whole disk that something is to be placed on.
type Disk interface {
	Target
	Size() int64 // bytes
	SectorSize() int
}

// Place is where on a disk a version goes: to all of it, or onto one partition.
type Place struct {
	Target
	Size int64 // bytes
	// Partition is the disk's own that is replaced; the zero value for the whole disk.
	Partition partition.Partition
}

// On finds the place on a disk, and how New is to be told of it. Errors say that the
// partition to be replaced is not there.
func (p Placement) On(d Disk) (at Place, o Options, err error) {
	at, o = Place{Target: d, Size: d.Size()}, Options{Grow: p.Grow, Keep: p.Keep, Layout: p.Layout}
	if p.Part == 0 {
		return at, o, nil
	}
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return at, o, err
	}
	if at.Partition, err = table.Meant(*p.Onto, disk.Labels(d, table)); err != nil {
		return at, o, err
	}
	at.Size = table.Size(at.Partition)
	at.Target = Section(d, table.Start(at.Partition), at.Size)
	o.Part = &Part{Number: p.Part, First: at.Partition.First}
	return at, o, nil
}
