package orders

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"github.com/dustin/go-humanize"
	"github.com/google/uuid"

	"jugate/core/version"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/partition"
	"jugate/core/restore"
)

// placementOf reads how an image is to lie on disks, and holds it against the version.
func placementOf(man *image.Manifest, in api.RestoreOptions) (p restore.Placement, err error) {
	if p, err = restore.ParsePlacement(in.Grow, in.Keep, in.Sizes, in.Partition, in.Onto); err != nil {
		return p, err
	}
	if p.Part != 0 && in.Trim {
		return p, fault.Invalid.Errorf("one partition alone leaves all others of the disk as they are: the disk is not told that nothing on it is needed")
	}
	return p, p.Suits(man)
}

func areaOf(man *image.Manifest, number int) *image.Area {
	for i, a := range man.Areas {
		if a.Partition == number && number > 0 {
			return &man.Areas[i]
		}
	}
	return nil
}

// withoutSystem tells whether one partition comes alone that has no system: there is nothing to
// answer then, and no driver to install.
func withoutSystem(man *image.Manifest, in api.RestoreOptions) bool {
	a := areaOf(man, in.Partition)
	return a != nil && !a.System
}

// onDisk holds a placement against a disk as it was seen last. stays is what of the disk
// stays, in words; remark says what else there is to know.
func onDisk(p restore.Placement, man *image.Manifest, d api.Disk) (stays []string, remark string, err error) {
	fit := partition.Fit{Grow: p.Grow, Layout: p.Layout}
	switch {
	case p.Keep == nil && p.Part == 0:
		_, err = man.Onto(d.Size, d.SectorSize, fit)
		return nil, "", err
	case d.Table == "":
		return nil, "what is on its disk was never looked at, so nobody knows whether it has the partition that is meant", nil
	}
	table, labels := tableOf(d)
	label := func(p partition.Partition) string { return labels[p.Number] }
	if p.Part != 0 {
		onto, err := table.Meant(*p.Onto, label)
		need := areaOf(man, p.Part).Needs
		switch {
		case err != nil:
			return nil, "", err
		case d.SectorSize != man.Table.SectorSize:
			return nil, "", partition.ErrSectorSize
		case table.Size(onto) < need:
			return nil, "", &partition.TooSmallError{Need: need, Have: table.Size(onto), Beside: true}
		}
		return []string{fmt.Sprintf("all but partition %d", onto.Number)}, "", nil
	}
	if fit.Beside, err = table.Keeping(p.Keep, label); err != nil {
		return nil, "", err
	}
	for _, p := range fit.Beside.Partitions {
		name := cmp.Or(labels[p.Number], p.Name)
		if name != "" {
			name = " (" + name + ")"
		}
		stays = append(stays, fmt.Sprintf("partition %d%s, %s", p.Number, name, humanize.IBytes(uint64(table.Size(p)))))
	}
	for _, a := range man.Areas {
		if man.Table.GivesWay(fit.Beside, a.Partition) {
			remark = fmt.Sprintf("its own copy of partition %d stays, so that of the image does not come", a.Partition)
		}
	}
	_, err = man.Onto(d.Size, d.SectorSize, fit)
	return stays, remark, err
}

// tableOf is the partition table of a disk as an agent has told of it, and the labels of its
// file systems.
func tableOf(d api.Disk) (t *partition.Table, labels map[int]string) {
	t, labels = partition.Bare(d.Size, max(d.SectorSize, 1)), map[int]string{}
	t.Scheme, t.Slots = partition.Scheme(d.Table), 4
	if t.FirstUsable = 1; t.Scheme == partition.GPT {
		t.Slots = 128
		t.FirstUsable = 2 + uint64(t.Slots*128/max(d.SectorSize, 512))
	}
	for _, p := range d.Partitions {
		out := partition.Partition{Number: p.Number, First: uint64(p.First), Last: uint64(p.Last), Name: p.Name}
		if t.Scheme == partition.GPT {
			out.Type, _ = uuid.Parse(p.Type)
			out.ID, _ = uuid.Parse(p.Identity)
		} else {
			code, _ := strconv.ParseUint(p.Type, 16, 8)
			out.Code = byte(code)
			signature, _ := strconv.ParseUint(p.Identity, 16, 32)
			t.Signature = uint32(signature)
		}
		if p.Contained {
			out.Record = out.First // wherever that is: it lies in an extended one
		}
		t.Partitions, labels[p.Number] = append(t.Partitions, out), p.Label
	}
	return t, labels
}

// needsAgent is the oldest agent that can do what a delivery asks; one before would write
// over what is to be kept.
func needsAgent(in api.RestoreOptions) (version, what string) {
	switch {
	case len(in.Keep) > 0 || len(in.Sizes) > 0 || in.Partition != 0:
		return "0.5.0", "keep partitions, or give them other sizes"
	case in.Confirm != "":
		return "0.4.0", "ask for a confirmation"
	}
	return "", ""
}

// tooOld says that an agent cannot do what a delivery asks; empty if it can.
func tooOld(agent string, in api.RestoreOptions) string {
	oldest, what := needsAgent(in)
	if oldest == "" {
		return ""
	}
	return tooOldFor(agent, oldest, what)
}

// tooOldFor says that an agent is older than one that can do something; empty if it is not.
func tooOldFor(agent, oldest, what string) string {
	if version.Valid(agent) && !version.Before(agent, oldest) {
		return ""
	}
	return "its build of the boot environment cannot " + what + "; make another: jugate environment build --offer"
}

// leftOut are the areas of a version, by their index, that did not come onto a disk: by what
// was ordered, or because the disk keeps its own, as its agent says. It is nil if an agent
// leaves out what no order allows.
func leftOut(man *image.Manifest, in api.RestoreOptions, told []int) []int {
	areas := []int{}
	for i, a := range man.Areas {
		out := slices.Contains(told, a.Partition)
		if in.Partition != 0 {
			out = a.Partition != in.Partition
		} else if out && (len(in.Keep) == 0 || a.Partition == 0 || a.System) {
			return nil
		}
		if out {
			areas = append(areas, i)
		}
	}
	return areas
}
