package builds

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"github.com/google/uuid"

	"jugate/core/environment"
	"jugate/core/partition"
)

const (
	mediaSector = 512
	mediaStart  = 2048 // sector where the volume begins
)

// mediaScript loads kernel and layers from the volume that it lies on.
const mediaScript = `set pager=0
search --no-floppy --set=root --file /jugate/vmlinuz
echo "Jugate: boot environment, build %[1]d"
linux /jugate/vmlinuz %[2]s
initrd /jugate/initrd /jugate/settings
boot
`

// MediaSink is what media are written to: an empty file.
type MediaSink interface {
	io.ReaderAt
	io.WriterAt
	Truncate(size int64) error
}

// WriteMedia writes a disk for a USB stick that boots a build by UEFI, with Secure
// Boot too: a GPT with one FAT32 volume. settings go before the build's.
func (s *Store) WriteMedia(b *Build, settings environment.Settings, to MediaSink) error {
	told, err := json.MarshalIndent(settings, "", "\t")
	if err != nil {
		return err
	}
	var layer bytes.Buffer
	if _, err := writeLayer(&layer, []content{text(environment.SettingsFile, 0o600, told)}); err != nil {
		return err
	}
	script := fmt.Sprintf(mediaScript, b.Number, b.Words)
	files := []fatFile{
		{path: "EFI/debian/grub.cfg", size: int64(len(script)), content: bytes.NewReader([]byte(script))},
		{path: "jugate/settings", size: int64(layer.Len()), content: bytes.NewReader(layer.Bytes())},
	}
	for name, part := range map[string]string{"EFI/BOOT/BOOTX64.EFI": ShimPart, "EFI/BOOT/grubx64.efi": MediaPart, "EFI/BOOT/mmx64.efi": KeysPart,
		"jugate/vmlinuz": KernelPart, "jugate/initrd": InitrdPart} {
		c, err := s.Open(b, part)
		if part == KeysPart && err != nil {
			continue // convenient, not needed
		}
		if err != nil {
			return err
		}
		defer c.Close()
		files = append(files, fatFile{name, c.Size, c})
	}
	volume, err := planFAT("JUGATE", mediaStart, files)
	if err != nil {
		return err
	}
	last := uint64(mediaStart) + uint64(volume.sectors()) - 1
	sectors := last + 1 + mediaStart // the backup table at the end
	if err := to.Truncate(int64(sectors) * mediaSector); err != nil {
		return err
	}
	table := &partition.Table{Scheme: partition.GPT, SectorSize: mediaSector, Sectors: sectors, DiskID: uuid.New(), FirstUsable: 34, LastUsable: sectors - 34, Slots: 128,
		Partitions: []partition.Partition{{Number: 1, Type: partition.EFISystem, ID: uuid.New(), First: mediaStart, Last: last, Name: "jugate"}}}
	if err := table.Write(to); err != nil {
		return err
	}
	return volume.write(to, mediaStart*mediaSector)
}
