package sim

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"jugate/agent"
	"jugate/api"
	"jugate/core/answers"
	"jugate/core/disk"
	"jugate/core/partition"
	"jugate/core/volume"
)

// ErrNothingToReport says that the system on a disk does not report its first start.
var ErrNothingToReport = errors.New("the system on this disk does not report its first start")

// FirstStart is what the system on the workstation's disk would do when it starts first: it
// takes a machine-id, reports its arrival, and removes what was written for that.
func (w *Workstation) FirstStart(ctx context.Context) error {
	d, err := disk.Open(w.Disks[0], disk.Options{Write: true, SectorSize: w.SectorSize})
	if err != nil {
		return err
	}
	defer d.Close()
	table, err := partition.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return err
	}
	for _, p := range table.Partitions {
		start, size := table.Start(p), table.Size(p)
		v, err := volume.Open(io.NewSectionReader(d, start, size), size)
		if err != nil || v.Kind != volume.Ext {
			continue
		}
		e := &extVolume{disk: fileDisk{d, w.Disks[0]}, start: start, size: size}
		if err := e.look(); err != nil {
			return err
		}
		if err := w.startIn(ctx, e); !errors.Is(err, ErrNothingToReport) {
			return err
		}
	}
	return ErrNothingToReport
}

// home is where the system that has started keeps what must not be in the image.
func (w *Workstation) home() string { return w.Disks[0] + ".system" }

// Stay runs the helper that has stayed on the workstation's system, for one start of it.
func (w *Workstation) Stay(ctx context.Context, service string, certificate []byte, boot string, sys agent.System) error {
	c, err := agent.ArrivalClient(answers.Arrival{Service: service, Certificate: string(certificate), Helper: true}, w.home())
	if err != nil {
		return err
	}
	return agent.Stay(ctx, c, boot, sys)
}

func (w *Workstation) startIn(ctx context.Context, e *extVolume) error {
	text, err := fs.ReadFile(e.FS, "var/lib/jugate/arrival.json")
	if err != nil {
		return ErrNothingToReport
	}
	var a answers.Arrival
	if err := json.Unmarshal(text, &a); err != nil {
		return err
	}
	os.RemoveAll(w.home()) // of an earlier system
	c, err := agent.ArrivalClient(a, w.home())
	if err != nil {
		return err
	}
	read := func(name string) string {
		text, _ := fs.ReadFile(e.FS, name)
		return strings.TrimSpace(string(text))
	}
	r := api.ArrivalReport{Helper: a.Helper, ComputerName: read("etc/hostname"), MachineID: read("etc/machine-id"), System: "a simulated system", Kernel: "none", Uptime: 1, Addresses: []string{}, IPs: []string{}}
	if r.MachineID == "" {
		sum := sha256.Sum256(fmt.Append(nil, "first start of ", w.Addresses))
		r.MachineID = hex.EncodeToString(sum[:16])
	}
	for _, address := range w.Addresses {
		r.Addresses = append(r.Addresses, address.String())
	}
	if err := c.Arrive(ctx, r); err != nil {
		return err
	}
	changes := []answers.Change{{Do: answers.Write, Path: "etc/machine-id", Content: []byte(r.MachineID + "\n"), Mode: 0o444}}
	for _, name := range answers.ArrivalFiles {
		changes = append(changes, answers.Change{Do: answers.Remove, Path: name})
	}
	for _, change := range changes {
		if err := e.Change(change); err != nil {
			return err
		}
	}
	return nil
}
