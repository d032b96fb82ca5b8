package boot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"jugate/core/environment/builds"
	"jugate/core/hwaddr"
	"jugate/core/netboot"
	"jugate/core/parts"
	"jugate/core/slabstore"
)

// Asker is who asks for a boot file, and by which address of the service.
type Asker struct {
	Client netip.Addr
	Server string // HOST:PORT of HTTP
}

// bootText is a boot file that is made when it is asked for.
type bootText struct{ *bytes.Reader }

func newBootText(s string) bootText { return bootText{bytes.NewReader([]byte(s))} }

// Length is Content's.
func (t bootText) Length() int64 { return t.Size() }

// bootPart is a stored one.
type bootPart struct {
	*builds.Content
	tag string // empty for what the offer may change
}

// Length is Content's.
func (p bootPart) Length() int64 { return p.Size }

// TagOf names the content of a file that never changes under its name; it is empty for
// all others.
func TagOf(c Content) string {
	p, _ := c.(bootPart)
	return p.tag
}

// bootstrapFile is made when it is asked for.
const bootstrapFile = "grub/grub.cfg"

// Open opens what a loader asks for, the same over TFTP and HTTP: the
// loaders, their modules and first script; SCRIPT, made for one machine; and
// BUILD/vmlinuz and BUILD/initrd.
func (b *Boot) Open(ctx context.Context, name string, from Asker) (Content, error) {
	if name == bootstrapFile {
		return newBootText(netboot.Bootstrap(from.Server)), nil
	}
	if l, address, ok := netboot.ScriptRequest(name); ok {
		l.Server = from.Server
		return b.script(ctx, l, address, from)
	}
	if file, is := strings.CutPrefix(name, entryFiles); is {
		return b.openEntry(file, from)
	}
	number, part, numbered := strings.Cut(name, "/")
	n, err := strconv.Atoi(number)
	if !numbered || err != nil {
		part = name
		if n, err = b.buildFor(ctx, from.Client); err != nil {
			return nil, err
		}
	} else if without, with, ok := initrdFile(part); ok {
		return b.openInitrd(n, without, with)
	} else if part != builds.KernelPart && part != builds.InitrdPart {
		return nil, fmt.Errorf("file %q is not served here", name)
	}
	build, err := b.Builds.Build(n)
	if err != nil {
		return nil, b.failed(from.Client, fmt.Errorf("%s: build %d is not there any more; restart the workstation to get the one that is offered", name, n))
	}
	content, err := b.Builds.Open(build, part)
	if errors.Is(err, builds.ErrNoPart) && !isLoader(part) {
		return nil, err // loaders look for things that need not be there
	}
	if err != nil {
		return nil, b.failed(from.Client, err)
	}
	if part == builds.KernelPart {
		b.stepOf(from.Client, netboot.StepKernel, fmt.Sprintf("build %d, %s", n, build.Kernel))
	}
	if part == builds.PlainPart {
		return plainLoader(content, from.Server)
	}
	tag := ""
	if numbered {
		tag = build.Tag(part)
	}
	return bootPart{content, tag}, nil
}

// entryFiles is the folder of the files of boot entries.
const entryFiles = "entry/"

// The names of those that a boot entry starts with.
const (
	EntryKernel  = "kernel"
	EntryProgram = "program.efi"
	EntryDisc    = "disc.iso"
)

// AuthorityFile is a small root file system with the certificate of the service's authority, for installers that fetch by TLS.
const AuthorityFile = entryFiles + "authority"

// EntryFile is the name of a file of a boot entry, which ends with what it is: one of the above, or a name of its own.
func EntryFile(p parts.Part, what string) string { return entryFiles + p.Digest.String() + "/" + what }

// entryFile reads such a name, without its folder.
func entryFile(name string) (d slabstore.Digest, what string, err error) {
	digest, what, _ := strings.Cut(name, "/")
	d, err = slabstore.ParseDigest(digest)
	return d, what, err
}

// openEntry opens a file of a boot entry.
func (b *Boot) openEntry(name string, from Asker) (Content, error) {
	if entryFiles+name == AuthorityFile {
		return bootText{bytes.NewReader(b.Authority)}, nil
	}
	digest, what, err := entryFile(name)
	if err != nil {
		return nil, err
	}
	part, err := b.Entries.Find(digest)
	if err != nil {
		return nil, b.failed(from.Client, fmt.Errorf("%s of a boot entry is not there any more; restart the workstation to see what there is now", what))
	}
	content, err := b.Entries.Open(part)
	if err != nil {
		return nil, b.failed(from.Client, err)
	}
	return bootPart{content, digest.String()}, nil
}

// Initrd is the name, for Choice.Initrd, of a build's layers without one of them, and with one more behind them; either may be
// zero.
func Initrd(without builds.Layer, with builds.Part) string {
	name := builds.InitrdPart
	if without.Part.Size > 0 {
		name += "-" + without.Part.Digest.String()
	}
	if with.Size > 0 {
		name += "+" + with.Digest.String()
	}
	return name
}

// initrdFile reads such a name, unless it is that of all layers; what is not named is zero.
func initrdFile(name string) (without, with slabstore.Digest, ok bool) {
	rest, is := strings.CutPrefix(name, builds.InitrdPart)
	if !is || rest == "" {
		return without, with, false
	}
	less, more, _ := strings.Cut(rest, "+")
	var errs [2]error
	if hex, is := strings.CutPrefix(less, "-"); is {
		without, errs[0] = slabstore.ParseDigest(hex)
	} else if less != "" {
		return without, with, false
	}
	if more != "" || less == "" {
		with, errs[1] = slabstore.ParseDigest(more)
	}
	return without, with, errors.Join(errs[:]...) == nil
}

// Needed is what a machine loads by a choice.
type Needed struct {
	Build   int                // 0 if none
	Parts   []slabstore.Digest // of layers beside it
	Entries []slabstore.Digest // files of boot entries
}

// Needs tells what a machine loads by a choice, also by what stands in its menu.
func Needs(c netboot.Choice) (n Needed) {
	if c.Do == netboot.Environment || c.Menu > 0 {
		n.Build = c.Build
		if _, with, ok := initrdFile(c.Initrd); ok && with != (slabstore.Digest{}) {
			n.Parts = append(n.Parts, with)
		}
	}
	entries := []*netboot.Entry{c.Entry}
	for _, item := range c.Items {
		entries = append(entries, item.Entry)
	}
	for _, e := range entries {
		if e == nil {
			continue
		}
		for _, name := range append([]string{e.Kernel, e.Program}, e.Initrds...) {
			file, is := strings.CutPrefix(name, entryFiles)
			if d, _, err := entryFile(file); is && err == nil && !slices.Contains(n.Entries, d) {
				n.Entries = append(n.Entries, d)
			}
		}
	}
	return n
}

// openInitrd opens the layers of a build without one, and with one for a model behind them.
func (b *Boot) openInitrd(number int, without, with slabstore.Digest) (Content, error) {
	build, err := b.Builds.Build(number)
	if err != nil {
		return nil, err
	}
	var more []builds.Part
	if with != (slabstore.Digest{}) {
		part, err := b.Builds.Parts.Find(with)
		if err != nil {
			return nil, err
		}
		more = append(more, part)
	}
	content, err := b.Builds.OpenInitrd(build, without, more...)
	if err != nil {
		return nil, err
	}
	return bootPart{content, build.Tag(builds.InitrdPart) + "-" + without.Short() + "-" + with.Short()}, nil
}

// plainLoader puts the service's address into the unsigned loader.
func plainLoader(c *builds.Content, server string) (Content, error) {
	defer c.Close()
	b := make([]byte, c.Size)
	if _, err := c.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	place := []byte(builds.PlainServer)
	if len(server) > len(place) {
		return nil, fmt.Errorf("the address %s is too long for the loader", server)
	}
	return bootText{bytes.NewReader(bytes.ReplaceAll(b, place, fmt.Appendf(nil, "%-*s", len(place), server)))}, nil
}

// buildFor is the build that a machine's loaders come from.
func (b *Boot) buildFor(ctx context.Context, client netip.Addr) (int, error) {
	hw, _ := b.whoHas(client)
	n, err := b.Roster.BuildFor(ctx, hw)
	if err == nil && n == 0 {
		err = b.failed(client, errors.New("no build of the boot environment is offered"))
	}
	return n, err
}

// failed notes that a machine could not be given a file.
func (b *Boot) failed(client netip.Addr, err error) error {
	b.stepOf(client, netboot.StepFailed, err.Error())
	return err
}

func isLoader(part string) bool {
	switch part {
	case builds.ShimPart, builds.LoaderPart, builds.PlainPart, builds.BIOSPart, builds.KernelPart, builds.InitrdPart:
		return true
	}
	return false
}

// Sent notes what a machine has got.
func (b *Boot) Sent(name string, client netip.Addr, n int64) {
	if n == 0 {
		return // firmware breaks off once it knows the size, and asks again
	}
	switch {
	case name == builds.ShimPart || name == builds.BIOSPart || name == builds.PlainPart:
		b.stepOf(client, netboot.StepLoader, fmt.Sprintf("%s, %d bytes", name, n))
	case strings.Contains(name, "/"+builds.InitrdPart):
		b.stepOf(client, netboot.StepInitrd, fmt.Sprintf("%d bytes", n))
	case strings.HasPrefix(name, entryFiles):
		b.sentEntry(strings.TrimPrefix(name, entryFiles), client, n)
	}
}

// sentEntry notes that a machine has got a file of a boot entry.
func (b *Boot) sentEntry(name string, client netip.Addr, n int64) {
	digest, what, err := entryFile(name)
	if err != nil {
		return
	}
	b.stepOf(client, netboot.StepEntry, fmt.Sprintf("%s, %d bytes", what, n))
	if what != EntryKernel && what != EntryProgram && what != EntryDisc {
		return
	}
	if a, known := b.whoHas(client); known {
		b.Roster.EntryLoaded(context.Background(), a, digest)
	}
}

// script makes the script for one machine.
func (b *Boot) script(ctx context.Context, l netboot.Loader, a hwaddr.Address, from Asker) (Content, error) {
	if from.Client.IsValid() {
		b.mu.Lock()
		b.knowAddress(from.Client, a)
		b.mu.Unlock()
	}
	b.NoteModel(a, l.Model)
	choice, err := b.Roster.Choose(ctx, l, a)
	if err != nil {
		b.Log.Error("a boot script cannot be made", "workstation", a, "error", err)
		return nil, err
	}
	b.step(a, netboot.StepScript, fmt.Sprintf("%s: %s", choice.Do, choice.Why))
	return newBootText(netboot.Script(l, choice)), nil
}
