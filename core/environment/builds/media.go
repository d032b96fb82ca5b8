package builds

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strings"

	"github.com/google/uuid"

	"jugate/core/environment"
	"jugate/core/netboot"
	"jugate/core/partition"
)

const (
	mediaSector = 512
	mediaStart  = 2048 // sector where the volume begins
)

// mediaFirst has the loader look for its script on the volume that it lies on, or on the disc.
const mediaFirst = `search --no-floppy --set=root --file /jugate/media.cfg
configfile /jugate/media.cfg
`

// mediaConfig is where the signed loader has its first script.
const mediaConfig = "EFI/debian/grub.cfg"

// MediaSink is what media are written to: an empty file.
type MediaSink interface {
	io.ReaderAt
	io.WriterAt
	Truncate(size int64) error
}

// MediaEntry is a boot entry that media carry.
type MediaEntry struct {
	Title  string
	Words  string // for the kernel
	Starts []MediaStart
}

// MediaStart is a way to start one.
type MediaStart struct {
	EFI, BIOS bool     // by which firmware
	Signed    bool     // with Secure Boot, too
	Bits32    bool     // for processors of 32 bits, and no others
	Program   *Content // of UEFI
	Kernel    *Content // or a kernel, and what belongs to it
	Initrds   []*Content
}

// Media are what media have beside a build.
type Media struct {
	Settings environment.Settings // go before the build's
	Entries  []MediaEntry
	// Outpost is the path of the outpost's program. If it is empty, the media are not an outpost, and get no volume for data.
	Outpost string
	Data    []MediaFile // of that volume
	Room    int64       // bytes that are free on it, about
}

// MediaFile is a file on the volume for data.
type MediaFile struct {
	Path string // with slashes
	Size int64
	Open func() (io.ReadCloser, error)
}

// WriteMedia writes media that boot a build: a disk for a USB stick (GPT with one FAT32 volume, and for an outpost another one for
// its data) that is an image of optical media, too. It starts by UEFI, with Secure Boot too, and by a BIOS if the build has the loader
// for that.
func (s *Store) WriteMedia(b *Build, m Media, to MediaSink) error {
	files, opened, err := s.mediaFiles(b, m)
	defer func() {
		for _, c := range opened {
			c.Close()
		}
	}()
	if err != nil {
		return err
	}
	volume, err := planFAT(fatOptions{label: "JUGATE", hidden: mediaStart}, files)
	if err != nil {
		return err
	}
	last := uint64(mediaStart) + uint64(volume.sectors()) - 1
	parts := []partition.Partition{{Number: 1, Type: partition.EFISystem, ID: uuid.New(), First: mediaStart, Last: last, Name: "jugate"}}
	var data *fatLayout
	if m.Outpost != "" {
		first := (last + mediaStart) / mediaStart * mediaStart
		if data, err = planData(m, first); err != nil {
			return err
		}
		last = first + uint64(data.sectors()) - 1
		parts = append(parts, partition.Partition{Number: 2, Type: partition.BasicData, ID: uuid.New(), First: first, Last: last, Name: environment.DataVolume})
	}
	sectors := (last + 1 + mediaStart + 3) &^ 3 // the backup table at the end
	size := int64(sectors) * mediaSector
	if err := to.Truncate(size); err != nil {
		return err
	}
	table := &partition.Table{Scheme: partition.GPT, SectorSize: mediaSector, Sectors: sectors, DiskID: uuid.New(), FirstUsable: 34, LastUsable: sectors - 34, Slots: 128, Partitions: parts}
	if err := table.Write(to); err != nil {
		return err
	}
	if err := volume.write(to, mediaStart*mediaSector); err != nil {
		return err
	}
	if data != nil {
		if err := data.write(to, int64(parts[1].First)*mediaSector); err != nil {
			return err
		}
	}
	return s.writeDisc(b, volume, size, to)
}

// planData lays out the volume for data, from a sector on.
func planData(m Media, first uint64) (*fatLayout, error) {
	if first > math.MaxUint32 {
		return nil, fmt.Errorf("media of more than %d sectors", uint32(math.MaxUint32))
	}
	files := make([]fatFile, len(m.Data))
	for i, f := range m.Data {
		files[i] = fatFile{f.Path, f.Size, f.Open}
	}
	return planFAT(fatOptions{label: "JUGATEDATA", hidden: uint32(first), room: m.Room, long: true}, files)
}

// mediaFiles are the files of media; what was opened is to be closed.
func (s *Store) mediaFiles(b *Build, m Media) (files []fatFile, opened []*Content, err error) {
	told, err := json.MarshalIndent(m.Settings, "", "\t")
	if err != nil {
		return nil, nil, err
	}
	var layer bytes.Buffer
	if _, err := writeLayer(&layer, []content{text(environment.SettingsFile, 0o600, told)}); err != nil {
		return nil, nil, err
	}
	files = append(files, inMemory(mediaConfig, []byte(mediaFirst)), inMemory("jugate/settings", layer.Bytes()))
	if m.Outpost != "" {
		var layer bytes.Buffer
		if err := writeProgram(&layer, environment.OutpostProgram, m.Outpost); err != nil {
			return nil, nil, err
		}
		files = append(files, inMemory("jugate/outpost", layer.Bytes()))
	}
	for name, part := range map[string]string{"EFI/BOOT/BOOTX64.EFI": ShimPart, "EFI/BOOT/grubx64.efi": MediaPart, "EFI/BOOT/mmx64.efi": KeysPart,
		"jugate/vmlinuz": KernelPart, "jugate/initrd": InitrdPart} {
		c, err := s.Open(b, part)
		if part == KeysPart && err != nil {
			continue // convenient, not needed
		}
		if err != nil {
			return nil, opened, err
		}
		opened = append(opened, c)
		files = append(files, read(name, c, c.Size))
	}
	menu := netboot.MediaMenu{Title: fmt.Sprintf("Boot environment, build %d", b.Number), Words: b.Words, Outpost: m.Outpost != ""}
	for i, e := range m.Entries {
		for j, start := range e.Starts {
			item := netboot.MediaItem{Title: e.Title, EFI: start.EFI, BIOS: start.BIOS, Signed: start.Signed, Bits32: start.Bits32}
			item.Entry.Name, item.Entry.Words = e.Title, e.Words
			put := func(name string, c *Content) string {
				path := fmt.Sprintf("jugate/e%d-%d/%s", i+1, j+1, name)
				files = append(files, read(path, c, c.Size))
				return "/" + path
			}
			if start.Program != nil {
				item.Entry.Program = put("program.efi", start.Program)
			} else {
				item.Entry.Kernel = put("kernel", start.Kernel)
			}
			for n, c := range start.Initrds {
				item.Entry.Initrds = append(item.Entry.Initrds, put(fmt.Sprintf("initrd%d", n+1), c))
			}
			menu.Items = append(menu.Items, item)
		}
	}
	return append(files, inMemory("jugate/media.cfg", []byte(menu.Script()))), opened, nil
}

// writeProgram writes a layer with a program.
func writeProgram(w io.Writer, name, file string) error {
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("the outpost's program: %w", err)
	}
	_, err = writeLayer(w, []content{{File: File{Path: name, Mode: 0o755, Size: info.Size(), Origin: "jugate-outpost"}, open: func() (io.ReadCloser, error) { return os.Open(file) }}})
	return err
}

// Places in the loader's programs for a BIOS, as its own tools fill them in: in the sector that firmware loads, where the rest
// begins, and a jump that is taken out so that what a BIOS says of the disk is looked at; in the first sector of the rest, where
// what follows it lies.
const (
	bootCode       = 440 // bytes of the first sector that are no table
	bootRest       = 0x5c
	bootDriveCheck = 0x66
	restFollows    = 0x1f4
)

// writeDisc makes the disk one of optical media, too, and one that a BIOS starts, if the build has the loader for that.
func (s *Store) writeDisc(b *Build, volume *fatLayout, size int64, to MediaSink) error {
	var files []isoFile
	for _, n := range volume.order {
		// The loader of UEFI comes from the volume, and takes the whole disc for where it came from.
		if n.file != nil && (n.file.path == mediaConfig || strings.HasPrefix(n.file.path, "jugate/")) {
			files = append(files, isoFile{n.file.path, mediaStart*mediaSector + volume.at(n), n.file.size})
		}
	}
	var first, rest, disc []byte
	for part, into := range map[string]*[]byte{MediaFirstPart: &first, MediaRestPart: &rest, MediaDiscPart: &disc} {
		c, err := s.Open(b, part)
		if errors.Is(err, ErrNoPart) {
			return writeISO(to, size, "JUGATE", files, nil) // a build of before, or without the loader's modules
		}
		if err != nil {
			return err
		}
		*into, err = io.ReadAll(io.NewSectionReader(c, 0, c.Size))
		if err := errors.Join(err, c.Close()); err != nil {
			return err
		}
	}
	if err := writeISO(to, size, "JUGATE", files, disc); err != nil {
		return err
	}
	at := int64(isoPrograms*isoSector+len(disc)+isoSector-1) / isoSector * isoSector
	if len(first) != mediaSector || len(rest) < mediaSector || at+int64(len(rest)) > mediaStart*mediaSector {
		return fmt.Errorf("the loader for a BIOS has %d and %d bytes, which cannot be", len(first), len(rest))
	}
	binary.LittleEndian.PutUint64(first[bootRest:], uint64(at/mediaSector))
	first[bootDriveCheck], first[bootDriveCheck+1] = 0x90, 0x90
	binary.LittleEndian.PutUint64(rest[restFollows:], uint64(at/mediaSector)+1)
	if _, err := to.WriteAt(rest, at); err != nil {
		return err
	}
	_, err := to.WriteAt(first[:bootCode], 0)
	return err
}
