package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jugate/api"
	"jugate/core/environment/builds"
	"jugate/core/netboot"
	"jugate/demo/golddisk"
	"jugate/lab"
)

// nothing is a program that says that it runs, and then sleeps for ever: the least that a kernel can start.
const nothing = `
.globl _start
_start:
	mov $1, %eax; mov $1, %edi; lea text(%rip), %rsi; mov $14, %edx; syscall
1:	mov $34, %eax; syscall; jmp 1b
text:	.ascii "nothing to do\n"
`

// bootRuns is how often each is booted, one after the other.
const bootRuns = 3

// bootWords have the kernel say as little as it does at a workstation.
const bootWords = builds.DefaultWords + " console=tty0 console=ttyS0,115200"

// boot measures how long a machine with UEFI firmware takes from its power button to the agent's call, beside the same kernel with
// an initial root file system that has nothing, by the same loader; root has Debian's kernel and loaders.
func boot(ctx context.Context, dir, root string) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Minute)
	defer cancel()
	n, err := lab.NewNetwork(ctx, "desk")
	if err != nil {
		return err
	}
	defer n.Close()
	s, err := serveIn(ctx, n.Host("desk"), path(dir, "data"), "--build-from", "/", "--netboot", lab.Interface+"=whole", "--pool", "192.0.2.100-192.0.2.150/24 lease 10m")
	if err != nil {
		return err
	}
	defer s.stop()
	root, err = filepath.Abs(root)
	if err != nil {
		return err
	}
	b, err := s.client.MakeBuild(ctx, api.NewBuild{Folders: []string{root}, Words: bootWords, Offer: true})
	if err != nil {
		return err
	}
	kernel, initrd := path(root, "boot", "vmlinuz-"+b.Kernel), path(dir, "nothing.img")
	if err := emptyInitrd(ctx, initrd); err != nil {
		return err
	}
	if err := s.run(ctx, "entry", "add", "nothing", "--from", kernel+","+initrd); err != nil {
		return err
	}
	if err := s.run(ctx, "entry", "edit", "nothing", "--words", bootWords); err != nil {
		return err
	}
	disk := path(dir, "disk")
	if err := golddisk.Blank(disk, 1<<30); err != nil {
		return err
	}
	const address, name = "00:00:5e:00:53:21", "herb-01"
	if _, err := s.client.Admit(ctx, address, api.Admission{Name: name}); err != nil {
		return err
	}
	o := lab.MachineOptions{Name: name, Address: address, Firmware: lab.UEFI, Disk: disk, Dir: dir, Maker: "Alder Works", Model: "A310"}
	var agents, empties []float64
	for i := range bootRuns + 1 {
		if err := s.run(ctx, "check", "run", name); err != nil { // so that it starts the boot environment
			return err
		}
		seconds, steps, err := bootAgent(ctx, n, s, o)
		if err != nil {
			return err
		}
		if i == 0 {
			continue // now its devices are known, and its firmware knows what it starts from
		}
		agents = append(agents, seconds)
		fmt.Println(steps)
		if err := s.run(ctx, "entry", "next", name, "nothing"); err != nil {
			return err
		}
		if seconds, err = bootNothing(ctx, n, o); err != nil {
			return err
		}
		empties = append(empties, seconds)
	}
	fmt.Printf("| UEFI, power button to the agent's call / the same kernel with nothing to do | %s | %s | %.2f | at most 1.25 | |\n", span(agents), span(empties), median(agents)/median(empties))
	rare := slices.IndexFunc(b.Layers, func(l api.BuildLayer) bool { return l.Name == builds.RareLayer })
	all := b.Bytes
	if of, err := os.Stat(kernel); err == nil {
		all -= of.Size()
	}
	fmt.Printf("the layers have %.1f MiB, for a workstation whose devices are known %.1f\n", float64(all)/mib, float64(all-b.Layers[rare].Bytes)/mib)
	return nil
}

// emptyInitrd writes an initial root file system that has nothing.
func emptyInitrd(ctx context.Context, to string) error {
	cmd := exec.CommandContext(ctx, "sh", "-ec", `mkdir "$1.d" && cd "$1.d" && as -o init.o - && ld -s -o init init.o && rm init.o && echo init | cpio -o -H newc --quiet > "$1"`, "sh", to)
	cmd.Stdin = strings.NewReader(nothing)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// bootAgent switches a machine on and waits until its agent has called; steps tells when the service saw what.
func bootAgent(ctx context.Context, n *lab.Network, s *ownService, o lab.MachineOptions) (seconds float64, steps string, err error) {
	began := time.Now()
	m, err := n.PowerOn(ctx, o)
	if err != nil {
		return 0, "", err
	}
	defer m.Off()
	for {
		status, err := s.client.Netboot(ctx)
		if err != nil {
			return 0, "", err
		}
		for _, machine := range status.Machines {
			var told strings.Builder
			for _, mark := range machine.Steps {
				if since := mark.At.Sub(began).Seconds(); since > 0 {
					fmt.Fprintf(&told, "%s %.1f s  ", mark.Step, since)
					if mark.Step == string(netboot.StepAgent) {
						return since, told.String(), nil
					}
				}
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// bootNothing switches a machine on and waits until there is nothing to do.
func bootNothing(ctx context.Context, n *lab.Network, o lab.MachineOptions) (seconds float64, err error) {
	began := time.Now()
	m, err := n.PowerOn(ctx, o)
	if err != nil {
		return 0, err
	}
	defer m.Off()
	err = m.Expect(ctx, "nothing to do")
	return time.Since(began).Seconds(), err
}
