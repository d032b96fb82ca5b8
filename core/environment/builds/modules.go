package builds

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jugate/core/driver"
	"jugate/core/kmod"
)

// baseModules are what every environment needs, as folders and files below a
// kernel's folder of modules: wired network cards, disks and what they hang on, file
// systems to look into and to grow, keyboards.
var baseModules = []string{
	"drivers/net/ethernet", "drivers/net/mdio", "drivers/net/phy", "drivers/net/pcs", "drivers/net/usb", "drivers/net/hyperv", "drivers/net/vmxnet3",
	"drivers/net/virtio_net", "drivers/net/net_failover", "drivers/net/mii",
	"drivers/ata", "drivers/nvme/host", "drivers/block/virtio_blk", "drivers/block/loop", "drivers/mmc/core", "drivers/mmc/host", "drivers/message/fusion",
	"drivers/scsi/scsi_mod", "drivers/scsi/scsi_common", "drivers/scsi/sd_mod", "drivers/scsi/sr_mod", "drivers/scsi/virtio_scsi", "drivers/scsi/vmw_pvscsi",
	"drivers/scsi/hv_storvsc", "drivers/scsi/mpt3sas", "drivers/scsi/megaraid/megaraid_sas", "drivers/scsi/aacraid", "drivers/scsi/hpsa",
	"drivers/pci/controller/vmd", "drivers/virtio", "drivers/hv/hv_vmbus",
	"drivers/usb/core", "drivers/usb/common", "drivers/usb/host", "drivers/usb/storage", "drivers/usb/typec/ucsi", "drivers/thunderbolt",
	"drivers/hid/hid", "drivers/hid/hid-generic", "drivers/hid/usbhid", "drivers/hid/hid-hyperv", "drivers/hid/hid-logitech-dj", "drivers/hid/hid-microsoft",
	"drivers/hid/hid-apple", "drivers/hid/hid-cherry", "drivers/hid/hid-lenovo", "drivers/hid/i2c-hid", "drivers/i2c/busses/i2c-designware-platform",
	"fs/ext4", "fs/xfs", "fs/btrfs", "fs/fat", "fs/exfat", "fs/ntfs3", "fs/hfsplus", "fs/isofs", "fs/efivarfs", "fs/fuse/fuse",
	"fs/nls/nls_ascii", "fs/nls/nls_cp437", "fs/nls/nls_iso8859-1", "fs/nls/nls_utf8",
	"crypto/crc32c_generic", "crypto/xxhash_generic", "crypto/blake2b_generic", "arch/x86/crypto/crc32c-intel", "arch/x86/crypto/sha256-ssse3",
	"drivers/char/hw_random/virtio-rng",
}

// index reads what a kernel's modules say of themselves.
func (k *kernel) index() (*kmod.Index, error) {
	var modules []kmod.Info
	root := k.place.root.FS()
	err := fs.WalkDir(root, path.Join(k.modules, "kernel"), func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !driver.IsModule(name) {
			return err
		}
		b, err := k.read(name)
		if err != nil {
			return err
		}
		info, err := kmod.ReadInfo(bytes.NewReader(b))
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		info.Path = strings.TrimPrefix(name, k.modules+"/")
		modules = append(modules, info)
		return nil
	})
	if err != nil {
		return nil, err
	}
	var builtin []string
	if text, err := fs.ReadFile(root, path.Join(k.modules, "modules.builtin")); err == nil {
		builtin = strings.Fields(string(text))
	}
	return kmod.NewIndex(modules, builtin), nil
}

// read reads a module, expanded: the layer is compressed as a whole.
func (k *kernel) read(name string) ([]byte, error) {
	f, err := k.place.root.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return driver.Expand(f, name)
}

// plainPath is a module's path without the compression.
func plainPath(name string) string {
	return strings.TrimSuffix(strings.TrimSuffix(name, ".xz"), ".zst")
}

// chosen are the base modules with all that they need, needs first, but for those
// that are to be left out.
func chosen(x *kmod.Index, leave []string) ([]kmod.Info, error) {
	var names []string
	for _, m := range x.Modules() {
		file := strings.TrimPrefix(m.Path, "kernel/")
		if !slices.Contains(leave, m.Name) && slices.ContainsFunc(baseModules, func(want string) bool {
			return strings.HasPrefix(file, want+"/") || plainPath(file) == want+".ko"
		}) {
			names = append(names, m.Name)
		}
	}
	return x.Order(names...)
}

// moduleFiles are the files of the base layer that belong to the kernel, and in
// words what lacks: missing is why the build cannot be, problems is what will not
// work.
func (s *Source) moduleFiles(k *kernel, leave []string) (files []content, have known, missing, problems []string, err error) {
	x, err := k.index()
	if err != nil {
		return nil, have, nil, nil, err
	}
	order, err := chosen(x, leave)
	if err != nil {
		missing = append(missing, strings.Split(err.Error(), "\n")...)
	}
	folder := path.Join("lib/modules", k.release)
	firmware := map[string]bool{}
	for i, m := range order {
		if m.Kernel != k.release {
			missing = append(missing, fmt.Sprintf("%s is for kernel %s, not for %s", m.Path, m.Kernel, k.release))
		}
		name := path.Join(k.modules, m.Path)
		b, err := k.read(name)
		if err != nil {
			return nil, have, nil, nil, err
		}
		order[i].Path = plainPath(m.Path)
		file := text(path.Join(folder, order[i].Path), 0o644, b)
		file.Origin = k.place.origin(name)
		files = append(files, file)
		var lacking []string
		for _, want := range m.Firmware {
			if firmware[want] {
				continue
			}
			f, err := s.firmwareFile(want)
			if err != nil {
				lacking = append(lacking, want)
				continue
			}
			firmware[want] = true
			files = append(files, f)
		}
		if len(lacking) > 0 {
			problems = append(problems, fmt.Sprintf("%s may ask for firmware that is not there (%s); such a device may not work", m.Name, some(lacking)))
		}
	}
	written := kmod.NewIndex(order, nil)
	var dep, alias bytes.Buffer
	if missing == nil {
		if err := written.WriteDep(&dep); err != nil {
			return nil, have, nil, nil, err
		}
	}
	if err := written.WriteAlias(&alias); err != nil {
		return nil, have, nil, nil, err
	}
	files = append(files, text(path.Join(folder, "modules.dep"), 0o644, dep.Bytes()), text(path.Join(folder, "modules.alias"), 0o644, alias.Bytes()))
	have.Modules = order
	if f, err := k.place.root.Open(path.Join(k.modules, "modules.builtin.modinfo")); err == nil {
		defer f.Close()
		if have.Builtin, err = kmod.ReadBuiltin(f); err != nil {
			return nil, have, nil, nil, err
		}
	}
	return files, have, missing, problems, nil
}

// some names the first few.
func some(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// firmwareFile finds a file that a module may ask for, expanded.
func (s *Source) firmwareFile(name string) (content, error) {
	var names []string
	for _, folder := range []string{"usr/lib/firmware", "lib/firmware"} {
		for _, end := range []string{"", ".xz", ".zst"} {
			names = append(names, path.Join(folder, name)+end)
		}
	}
	f, err := s.find(names...)
	if err != nil {
		return content{}, err
	}
	in, err := f.open()
	if err != nil {
		return content{}, err
	}
	defer in.Close()
	b, err := driver.Expand(in, f.name)
	if err != nil {
		return content{}, err
	}
	file := text(path.Join("lib/firmware", name), 0o644, b)
	file.Origin = f.origin
	return file, nil
}
