package builds

import (
	"bytes"
	"errors"
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
	"drivers/ata", "drivers/nvme/host/nvme", "drivers/block/virtio_blk", "drivers/block/loop", "drivers/mmc/core", "drivers/mmc/host", "drivers/message/fusion",
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

// rareModules are those of baseModules that few workstations need: for adapters and disk controllers of servers, and for what was
// built in long ago. They are in a layer of their own.
var rareModules = []string{
	"drivers/net/ethernet/3com", "drivers/net/ethernet/8390", "drivers/net/ethernet/adaptec", "drivers/net/ethernet/alteon", "drivers/net/ethernet/amazon",
	"drivers/net/ethernet/broadcom/bnx2", "drivers/net/ethernet/broadcom/bnx2x", "drivers/net/ethernet/broadcom/bnxt", "drivers/net/ethernet/broadcom/cnic",
	"drivers/net/ethernet/brocade", "drivers/net/ethernet/cavium", "drivers/net/ethernet/chelsio", "drivers/net/ethernet/cisco", "drivers/net/ethernet/dec",
	"drivers/net/ethernet/dlink", "drivers/net/ethernet/emulex", "drivers/net/ethernet/fujitsu", "drivers/net/ethernet/google", "drivers/net/ethernet/huawei",
	"drivers/net/ethernet/intel/fm10k", "drivers/net/ethernet/intel/i40e", "drivers/net/ethernet/intel/iavf", "drivers/net/ethernet/intel/ice",
	"drivers/net/ethernet/intel/ixgb", "drivers/net/ethernet/intel/ixgbevf", "drivers/net/ethernet/mellanox", "drivers/net/ethernet/micrel",
	"drivers/net/ethernet/microsoft", "drivers/net/ethernet/myricom", "drivers/net/ethernet/natsemi", "drivers/net/ethernet/neterion",
	"drivers/net/ethernet/netronome", "drivers/net/ethernet/packetengines", "drivers/net/ethernet/pensando", "drivers/net/ethernet/qlogic",
	"drivers/net/ethernet/rdc", "drivers/net/ethernet/sfc", "drivers/net/ethernet/silan", "drivers/net/ethernet/sis", "drivers/net/ethernet/smsc",
	"drivers/net/ethernet/sun", "drivers/net/ethernet/tehuti", "drivers/net/ethernet/ti", "drivers/net/ethernet/xircom", "drivers/net/ethernet/fealnx",
	"drivers/ata/pata_*", "drivers/ata/pdc_adma", "drivers/ata/sata_*", "drivers/message/fusion",
	"drivers/scsi/mpt3sas", "drivers/scsi/megaraid/megaraid_sas", "drivers/scsi/aacraid", "drivers/scsi/hpsa",
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

// among tells whether a module, by its path below a kernel's folder, is one of a list of folders and files.
func among(list []string, file string) bool {
	file = strings.TrimPrefix(file, "kernel/")
	return slices.ContainsFunc(list, func(want string) bool {
		fits, _ := path.Match(want+".ko", plainPath(file))
		return fits || strings.HasPrefix(file, want+"/")
	})
}

// chosen are the modules of a build, each after what it needs, without those to leave out. The first ones, as many as base, are in
// the base layer, and the others in the rare one.
func chosen(x *kmod.Index, leave []string) (order []kmod.Info, base int, err error) {
	var names, rare []string
	for _, m := range x.Modules() {
		switch {
		case slices.Contains(leave, m.Name) || !among(baseModules, m.Path):
		case among(rareModules, m.Path):
			rare = append(rare, m.Name)
		default:
			names = append(names, m.Name)
		}
	}
	first, err := x.Order(names...)
	if err != nil {
		return nil, 0, err
	}
	order, err = x.Order(append(names, rare...)...)
	return order, len(first), err
}

// modules are the kernel's part of a build.
type modules struct {
	base, rare []content // files of the two layers; a build without rare modules has no rare layer
	have       known
	missing    []string // why the build cannot be
	problems   []string // what will not work
}

// modules takes the modules of a kernel with the firmware that they may ask for.
func (s *Source) modules(k *kernel, leave []string) (*modules, error) {
	x, err := k.index()
	if err != nil {
		return nil, err
	}
	out := &modules{}
	order, base, err := chosen(x, leave)
	if err != nil {
		out.missing = append(out.missing, strings.Split(err.Error(), "\n")...)
	}
	folder := path.Join("lib/modules", k.release)
	firmware := map[string]bool{}
	for i, m := range order {
		files := &out.base
		if i >= base {
			files = &out.rare
			out.have.Rare = append(out.have.Rare, m.Name)
		}
		if m.Kernel != k.release {
			out.missing = append(out.missing, fmt.Sprintf("%s is for kernel %s, not for %s", m.Path, m.Kernel, k.release))
		}
		name := path.Join(k.modules, m.Path)
		b, err := k.read(name)
		if err != nil {
			return nil, err
		}
		order[i].Path = plainPath(m.Path)
		file := text(path.Join(folder, order[i].Path), 0o644, b)
		file.Origin, file.Package = k.place.origin(name), k.place.pack(name)
		*files = append(*files, file)
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
			*files = append(*files, f)
		}
		if len(lacking) > 0 {
			out.problems = append(out.problems, fmt.Sprintf("%s may ask for firmware that is not there (%s); such a device may not work", m.Name, some(lacking)))
		}
	}
	out.have.Modules = order
	if out.missing != nil {
		return out, nil
	}
	lists, err := moduleLists(folder, order[:base], nil)
	if err != nil {
		return nil, err
	}
	out.base = append(out.base, lists...)
	if base < len(order) {
		if lists, err = moduleLists(folder, order, nil); err != nil {
			return nil, err
		}
		out.rare = append(out.rare, lists...)
	}
	if f, err := k.place.root.Open(path.Join(k.modules, "modules.builtin.modinfo")); err == nil {
		defer f.Close()
		if out.have.Builtin, err = kmod.ReadBuiltin(f); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// moduleLists are modules.dep and modules.alias of what a layer and those before it have.
func moduleLists(folder string, all, builtin []kmod.Info) ([]content, error) {
	var inside []string
	for _, m := range builtin {
		inside = append(inside, m.Name)
	}
	x := kmod.NewIndex(all, inside)
	var dep, alias bytes.Buffer
	if err := errors.Join(x.WriteDep(&dep), x.WriteAlias(&alias)); err != nil {
		return nil, err
	}
	return []content{text(path.Join(folder, "modules.dep"), 0o644, dep.Bytes()), text(path.Join(folder, "modules.alias"), 0o644, alias.Bytes())}, nil
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
	file.Origin, file.Package = f.origin, f.pack()
	return file, nil
}
