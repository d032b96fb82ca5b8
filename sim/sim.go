// Package sim is a simulated workstation: agent.Machine over disk files, a
// made-up hardware address and inventory, and a network that can lose packets.
// Around it runs the very same agent as on a real one.
package sim

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"sync"

	"golang.org/x/sys/unix"
	"golang.org/x/time/rate"

	"jugate/agent"
	"jugate/api"
	"jugate/core/check"
	"jugate/core/disk"
	"jugate/core/hwaddr"
	"jugate/wire"
)

// Workstation is a simulated machine. Only Addresses has no default.
type Workstation struct {
	Addresses []hwaddr.Address
	Maker     string
	Model     string
	Serial    string
	Memory    int64    // bytes
	Disks     []string // files
	Firmware  string   // UEFI or BIOS; empty says nothing of it
	// Also adds to what is told of its parts; nil adds nothing.
	Also func(inv *api.Inventory)
	// Devices that want drivers, as Linux names them.
	Devices []string
	// SectorSize of the disks in bytes, 512 by default.
	SectorSize int
	// Interface carries the multicast.
	Interface string
	// Loss is the share of received multicast packets that are lost, 0 to 1; with
	// all of them lost the network carries no multicast to this workstation.
	Loss float64
	// DiskSpeed is how many bytes a second the disks take; 0 sets no bound.
	DiskSpeed float64

	// BadBytes are where the first disk cannot be read: from, to. Without any it can be read as a whole.
	BadBytes [2]int64
	// StuckBit has a word of memory keep a bit set, whatever is written.
	StuckBit bool
	// Says is what the disks say of their health; nil says nothing, as virtual disks do.
	Says *disk.Vitals

	// Runs stands for the programs of the boot environment: what it is to say, and how to end. Without it nothing can be run.
	Runs func(ctx context.Context, script string, env []string) (said string, status int)

	mu   sync.Mutex
	left string // how it was left
}

// Become changes the fields of a workstation that runs.
func (w *Workstation) Become(change func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	change()
}

// FreeMemory is a little memory, which may have a fault.
func (w *Workstation) FreeMemory() (check.Memory, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return &memory{words: make([]uint64, 1<<16), stuck: w.StuckBit}, nil
}

type memory struct {
	words []uint64
	stuck bool
}

func (m *memory) Pieces(context.Context) ([][]uint64, error) { return [][]uint64{m.words}, nil }
func (m *memory) Settle() {
	if m.stuck {
		m.words[4711] |= 1 << 13
	}
}
func (m *memory) Address(_, word int) (uint64, bool) { return 0x1_4000_0000 + uint64(word)*8, true }
func (m *memory) Close() error                       { return nil }

// Vitals are Says.
func (w *Workstation) Vitals(int) (*disk.Vitals, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.Says == nil {
		return nil, disk.ErrNoHealth
	}
	says := *w.Says
	return &says, nil
}

// LinkRate says nothing.
func (w *Workstation) LinkRate() int64 { return 0 }

// Left tells how the workstation was left: "restart", "power-off", or not at all.
func (w *Workstation) Left() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.left
}

// Program stands for what reports the first start: a simulated workstation has no system
// that could run it. FirstStart reports in its place.
func (w *Workstation) Program() ([]byte, error) {
	return []byte("#!/bin/sh\n# A simulated workstation starts nothing.\n"), nil
}

// Run has Runs run the script of a shell.
func (w *Workstation) Run(ctx context.Context, p agent.Program) error {
	w.mu.Lock()
	runs := w.Runs
	w.mu.Unlock()
	if runs == nil {
		return errors.New("a simulated workstation has no programs")
	}
	said, status := runs(ctx, p.Argv[len(p.Argv)-1], p.Env)
	if _, err := io.WriteString(p.Out, said); err != nil || status == 0 {
		return err
	}
	return agent.ExitStatus(status)
}

// Leave notes how the workstation was left.
func (w *Workstation) Leave(how string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.left = how
	return nil
}

func (w *Workstation) sectorSize() int {
	if w.SectorSize == 0 {
		return 512
	}
	return w.SectorSize
}

// Inventory is made up of the fields.
func (w *Workstation) Inventory() (api.Inventory, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	inv := api.Inventory{Maker: w.Maker, Model: w.Model, Serial: w.Serial, Memory: w.Memory, Firmware: w.Firmware, Disks: []api.Disk{}, Cards: []api.Card{}}
	for i, path := range w.Disks {
		info, err := os.Stat(path)
		if err != nil {
			return inv, fmt.Errorf("the disk of the simulated workstation: %w", err)
		}
		inv.Disks = append(inv.Disks, api.Disk{
			Model: "simulated disk", Serial: fmt.Sprintf("%s-D%d", w.Serial, i+1), Size: info.Size(), SectorSize: w.sectorSize()})
	}
	for _, id := range w.Devices {
		inv.Devices = append(inv.Devices, api.Device{ID: id})
	}
	for _, a := range w.Addresses {
		inv.Cards = append(inv.Cards, api.Card{Address: a.String(), Model: "simulated network card"})
	}
	if w.Also != nil {
		w.Also(&inv)
	}
	return inv, nil
}

// OpenDisk opens the file.
func (w *Workstation) OpenDisk(i int) (agent.Disk, error) {
	if i < 0 || i >= len(w.Disks) {
		return nil, fmt.Errorf("there is no disk %d", i+1)
	}
	d, err := disk.Open(w.Disks[i], disk.Options{Write: true, SectorSize: w.sectorSize()})
	if err != nil {
		return nil, err
	}
	if i == 0 && w.BadBytes[1] > 0 {
		return &badDisk{fileDisk{d, w.Disks[i]}, w.BadBytes}, nil
	}
	if w.DiskSpeed == 0 {
		return fileDisk{d, w.Disks[i]}, nil
	}
	return &slowDisk{fileDisk: fileDisk{d, w.Disks[i]}, budget: rate.NewLimiter(rate.Limit(w.DiskSpeed), 1<<20)}, nil
}

// badDisk cannot be read in a place.
type badDisk struct {
	fileDisk
	bad [2]int64
}

func (d *badDisk) ReadAt(b []byte, off int64) (int, error) {
	if off < d.bad[1] && off+int64(len(b)) > d.bad[0] {
		return 0, unix.EIO
	}
	return d.Disk.ReadAt(b, off)
}

// slowDisk takes no more than its budget of bytes.
type slowDisk struct {
	fileDisk
	budget *rate.Limiter
}

func (d *slowDisk) WriteAt(b []byte, off int64) (int, error) {
	for left := len(b); left > 0; left -= d.budget.Burst() {
		if err := d.budget.WaitN(context.Background(), min(left, d.budget.Burst())); err != nil {
			return 0, err
		}
	}
	return d.Disk.WriteAt(b, off)
}

// Listen joins a real multicast group and then loses what Loss says.
func (w *Workstation) Listen(group netip.AddrPort) (agent.PacketReader, error) {
	socket, err := wire.Listen(wire.Config{Group: group, Interface: w.Interface, TTL: ttl(w.Interface)})
	if err != nil || w.Loss == 0 {
		return socket, err
	}
	return &lossy{PacketReader: socket, share: w.Loss, dice: rand.New(rand.NewPCG(seed(w.Addresses[0]), 5740))}, nil
}

// ttl keeps what a workstation on the loopback interface says on this machine.
func ttl(interfaceName string) int {
	if interfaceName == "lo" {
		return wire.NoTTL
	}
	return 0
}

// seed makes the losses of different workstations independent, and those of one
// the same in every run.
func seed(a hwaddr.Address) uint64 {
	n := uint64(0)
	for _, b := range a {
		n = n<<8 | uint64(b)
	}
	return n
}

// lossy drops packets at random.
type lossy struct {
	agent.PacketReader
	share float64

	mu   sync.Mutex
	dice *rand.Rand
}

func (l *lossy) ReadBatch(ms []wire.Message, flags int) (int, error) {
	n, err := l.PacketReader.ReadBatch(ms, flags)
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range max(n, 0) {
		if l.dice.Float64() < l.share {
			ms[i].N = 0 // an empty packet is ignored
		}
	}
	return n, err
}
