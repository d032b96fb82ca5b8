package agent

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"jugate/api"
	"jugate/core/partition"
	"jugate/core/volume"
)

// among tells which partitions of the disk can have the system that was in one of the
// image's (0 is any): nobody looks into what was there before.
func (r *receiver) among(number int) func(number int) bool {
	if r.place.Partition.Number != 0 {
		return func(n int) bool { return n == r.place.Partition.Number }
	}
	return func(n int) bool {
		kept := slices.ContainsFunc(r.restore.Kept(), func(p partition.Partition) bool { return p.Number == n })
		return !kept && (number == 0 || n == number)
	}
}

// anywhere is every partition of a disk.
func anywhere(int) bool { return true }

// stayed says in words what the delivery has left alone.
func (r *receiver) stayed() (said []string) {
	if p := r.place.Partition; p.Number != 0 {
		return []string{fmt.Sprintf("partition %d of the image lies in partition %d of the disk, whose others were left alone", r.to.Partition, p.Number)}
	}
	for _, p := range r.restore.Kept() {
		said = append(said, fmt.Sprintf("partition %d was kept%s", p.Number, named(p.Name)))
	}
	for _, number := range r.restore.LeftOut() {
		said = append(said, fmt.Sprintf("partition %d of the image did not come, as the disk keeps its own", number))
	}
	return said
}

func named(name string) string {
	if name == "" {
		return ""
	}
	return " (" + name + ")"
}

// seeDisks adds what is on the machine's disks to an inventory. A disk that is in use or
// cannot be read is left as it is.
func (a *Agent) seeDisks(inv *api.Inventory) {
	for i := range inv.Disks {
		d, err := a.machine.OpenDisk(i)
		if err != nil {
			continue
		}
		if table, err := partition.Read(d, d.Size(), d.SectorSize()); err == nil {
			inv.Disks[i].Table, inv.Disks[i].Partitions = string(table.Scheme), seen(d, table)
		}
		d.Close()
	}
}

// tellDisks tells the service what is on the machine's disks after one of them was written.
// Nothing depends on it but plans, which are made again: it is tried once.
func (a *Agent) tellDisks(ctx context.Context) {
	inv, err := a.machine.Inventory()
	if err == nil {
		a.seeDisks(&inv)
		err = a.pass().TellDisks(ctx, inv.Disks)
	}
	if err != nil {
		a.options.Log.Warn("the service was not told what is on the disks now", "error", err)
	}
}

// seen are the partitions of a disk, with what their file systems say of themselves.
func seen(d io.ReaderAt, table *partition.Table) (all []api.DiskPartition) {
	const most = 256
	for _, p := range table.Partitions[:min(len(table.Partitions), most)] {
		out := api.DiskPartition{Number: p.Number, First: int64(p.First), Last: int64(p.Last), Type: fmt.Sprintf("%02x", p.Code), Name: strings.ToValidUTF8(p.Name, "�"), Contained: p.Logical()}
		if table.Scheme == partition.GPT {
			out.Type, out.Identity = p.Type.String(), p.ID.String()
		} else {
			out.Identity = fmt.Sprintf("%08x", table.Signature)
		}
		if v, err := volume.Open(io.NewSectionReader(d, table.Start(p), table.Size(p)), table.Size(p)); err == nil && !p.Extended() {
			out.Kind, out.Label = string(v.Kind), strings.ToValidUTF8(v.Label, "�")
		}
		all = append(all, out)
	}
	return all
}
