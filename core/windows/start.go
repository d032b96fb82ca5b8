package windows

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"jugate/core/fileview"
	"jugate/core/hive"
)

// DriverFolder is where drivers lie that the loader brings, from the root of the volume.
const DriverFolder = "Windows/System32/drivers"

// BootStart is the start of a service that the system's loader brings, before any disk can be read
// otherwise.
const BootStart = 0

// Service is an entry of the services in the settings database, as the INF reference's "AddService
// directive" has it.
type Service struct {
	Name    string `json:"name"`
	Type    uint32 `json:"type"`
	Start   uint32 `json:"start"`
	OnError uint32 `json:"on_error"`
	Group   string `json:"group,omitempty"`  // of the order in which drivers are loaded
	Binary  string `json:"binary,omitempty"` // name of its file
	// Settings are what else stands below its key.
	Settings []Setting `json:"settings,omitempty"`
}

// Setting is a value below a service's key.
type Setting struct {
	Key string `json:"key,omitempty"` // path from the service's own
	hive.Value
}

// First is a driver that a system starts with.
type First struct {
	Service
	INF         string    `json:"inf"`     // name of the INF file, with its ending
	Package     string    `json:"package"` // name of the package, which no other has
	Provider    string    `json:"provider"`
	Version     string    `json:"version"`
	Date        time.Time `json:"date"`
	ClassID     string    `json:"class_id"` // GUID of the devices' class
	Section     string    `json:"section"`  // that installs it
	Description string    `json:"description"`
	Maker       string    `json:"maker"`
	Devices     []string  `json:"devices"` // identifiers, such as PCI\VEN_FE03&DEV_3000
}

// Starts tells when services are started, by their names in small letters: BootStart, or later. Those
// that the installation does not have are left out.
func Starts(volume fs.FS, names []string) (map[string]uint32, error) {
	starts := map[string]uint32{}
	s := &System{}
	return starts, s.lookInto(volume, SystemHive, func(h *hive.Hive) error {
		set, err := controlSet(h)
		if err != nil {
			return err
		}
		services, err := h.Find(set + `\Services`)
		if errors.Is(err, hive.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		for _, name := range names {
			start, err := startOf(services, name)
			switch {
			case err == nil:
				starts[strings.ToLower(name)] = start
			case !errors.Is(err, hive.ErrNotFound):
				return err
			}
		}
		return nil
	})
}

// startOf is when a service is started. What setup has measured comes before what the driver asked for.
func startOf(services *hive.Key, name string) (uint32, error) {
	k, err := services.Key(name)
	if err != nil {
		return 0, err
	}
	v, err := k.Value("Start")
	if err != nil {
		return 0, err
	}
	if over, err := k.Key("StartOverride"); err == nil {
		if w, err := over.Value("0"); err == nil {
			v = w
		}
	}
	n, is := v.Number()
	if !is {
		return 0, fmt.Errorf("%w: the start of %s is not a number", hive.ErrFormat, name)
	}
	return uint32(n), nil
}

// Closed says why the settings database of an installation cannot be changed; empty if it can.
func Closed(volume fs.FS) string {
	s := &System{}
	switch err := s.lookInto(volume, SystemHive, func(*hive.Hive) error { return nil }); {
	case err != nil:
		return err.Error()
	case s.Unclean != "":
		return hive.ErrUnclean.Error()
	}
	if _, there := fileview.FindFold(volume, SystemHive); !there {
		return SystemHive + " is not there"
	}
	return ""
}

// Start changes the settings database, whose content is that of SystemHive, so that the system starts
// with some drivers: first are new, wake are services that it has and does not start at once. taken tells
// which oemN.inf the system has.
//
// Services, and devices in CriticalDeviceDatabase, are as the vendor describes them. Systems that have a
// DriverDatabase in there find the drivers of their first devices in it; that is described nowhere, and
// written here as installed systems have it.
func Start(content []byte, first []First, wake []string, taken func(inf string) bool) ([]byte, error) {
	h, err := hive.Read(content)
	if err != nil {
		return nil, err
	}
	set, err := controlSet(h)
	if err != nil {
		return nil, err
	}
	for _, name := range wake {
		if _, err := h.Find(set + `\Services\` + name); err != nil {
			return nil, err
		}
		if err := startAtOnce(h, set+`\Services\`+name); err != nil {
			return nil, err
		}
	}
	for _, f := range first {
		if err := f.register(h, set); err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		if _, err := h.Find(driverDatabase); err == nil {
			if err := f.enlist(h, taken); err != nil {
				return nil, fmt.Errorf("%s: %w", f.Name, err)
			}
		}
	}
	return h.Bytes()
}

// startAtOnce has the loader bring a service.
func startAtOnce(h *hive.Hive, path string) error {
	k, err := h.Make(path)
	if err != nil {
		return err
	}
	if err := k.Set("Start", hive.Number(BootStart)); err != nil {
		return err
	}
	over, err := k.Key("StartOverride")
	if errors.Is(err, hive.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	all, err := over.Values()
	if err != nil {
		return err
	}
	for _, v := range all {
		if err := over.Set(v.Name, hive.Number(BootStart)); err != nil {
			return err
		}
	}
	return nil
}

// values are set below a key, which is made.
type values map[string]hive.Value

func setAll(h *hive.Hive, path string, all values) error {
	k, err := h.Make(path)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if err := k.Set(name, all[name]); err != nil {
			return err
		}
	}
	return nil
}

// register makes the driver's service, and has its devices started by it.
func (f First) register(h *hive.Hive, set string) error {
	path := set + `\Services\` + f.Name
	own := values{"Type": hive.Number(f.Type), "ErrorControl": hive.Number(f.OnError), "ImagePath": hive.OfExpand(`System32\drivers\` + f.Binary)}
	if f.Group != "" {
		own["Group"] = hive.Of(f.Group)
	}
	if err := errors.Join(setAll(h, path, own), startAtOnce(h, path)); err != nil {
		return err
	}
	for _, s := range f.Settings {
		at := path
		if s.Key != "" {
			at += `\` + s.Key
		}
		if err := setAll(h, at, values{s.Name: s.Value}); err != nil {
			return err
		}
	}
	for _, id := range f.Devices {
		at := set + `\Control\CriticalDeviceDatabase\` + strings.ToLower(strings.ReplaceAll(id, `\`, "#"))
		if err := setAll(h, at, values{"ClassGUID": hive.Of(f.ClassID), "Service": hive.Of(f.Name)}); err != nil {
			return err
		}
	}
	return nil
}

// driverDatabase has the packages of the system, and which of them are for which devices.
const driverDatabase = `DriverDatabase`

// enlist makes the driver's package known to the system.
func (f First) enlist(h *hive.Hive, taken func(inf string) bool) error {
	at := driverDatabase + `\DriverPackages\` + f.Package
	inf, err := f.infName(h, at, taken)
	if err != nil {
		return err
	}
	version, err := f.versionBytes()
	if err != nil {
		return err
	}
	return errors.Join(
		setAll(h, driverDatabase+`\DriverInfFiles\`+inf, values{"": hive.OfAll(f.Package), "Active": hive.Of(f.Package), "Configurations": hive.OfAll(f.Section)}),
		setAll(h, at, values{"": hive.Of(inf), "InfName": hive.Of(strings.ToLower(f.INF)), "Provider": hive.Of(f.Provider), "Version": hive.OfBytes(version), "SignerScore": hive.Number(unsigned), "OemPath": hive.Of("")}),
		setAll(h, at+`\Configurations\`+f.Section, values{"ConfigScope": hive.Number(wholeConfiguration), "Service": hive.Of(f.Name)}),
		f.enlistDevices(h, at, inf),
	)
}

// Numbers in the driver database.
const (
	unsigned           = 0x80000000 // the rank of a package whose signature nobody has looked at
	wholeConfiguration = 7
)

func (f First) enlistDevices(h *hive.Hive, at, inf string) error {
	for _, id := range f.Devices {
		err := errors.Join(
			setAll(h, driverDatabase+`\DeviceIds\`+id, values{inf: hive.OfBytes([]byte{1, 0xff, 0, 0})}),
			setAll(h, at+`\Descriptors\`+id, values{"Configuration": hive.Of(f.Section), "Description": hive.Of(f.Description), "Manufacturer": hive.Of(f.Maker)}),
		)
		if err != nil {
			return err
		}
	}
	return nil
}

// infName is what the system calls the INF file of a package: the name that it has given it, or one
// that is free.
func (f First) infName(h *hive.Hive, at string, taken func(inf string) bool) (string, error) {
	if k, err := h.Find(at); err == nil {
		v, err := k.Value("")
		return v.Text(), err
	} else if !errors.Is(err, hive.ErrNotFound) {
		return "", err
	}
	for n := 0; n < 1<<16; n++ {
		name := "oem" + strconv.Itoa(n) + ".inf"
		_, err := h.Find(driverDatabase + `\DriverInfFiles\` + name)
		if errors.Is(err, hive.ErrNotFound) && !taken(name) {
			return name, nil
		}
		if err != nil && !errors.Is(err, hive.ErrNotFound) {
			return "", err
		}
	}
	return "", errors.New("the system has more INF files than can be numbered")
}

// versionBytes are the class, date and version of a package, as its key has them.
func (f First) versionBytes() ([]byte, error) {
	id, err := uuid.Parse(f.ClassID)
	if err != nil {
		return nil, fmt.Errorf("the class %q: %w", f.ClassID, err)
	}
	le := binary.LittleEndian
	b := []byte{0, 0xff, 9, 0, 0, 0, 0, 0}
	b = le.AppendUint32(b, binary.BigEndian.Uint32(id[0:]))
	b = le.AppendUint16(b, binary.BigEndian.Uint16(id[4:]))
	b = le.AppendUint16(b, binary.BigEndian.Uint16(id[6:]))
	b = append(b, id[8:]...)
	b = le.AppendUint64(b, fileTime(f.Date))
	version := uint64(0)
	for i, part := range strings.SplitN(f.Version, ".", 4) {
		n, err := strconv.ParseUint(part, 10, 16)
		if err != nil {
			return nil, fmt.Errorf("the version %q: %w", f.Version, err)
		}
		version |= n << (48 - 16*i)
	}
	return le.AppendUint64(b, version), nil
}

// fileTime counts tenths of microseconds since 1601 (MS-DTYP, 2.3.3).
func fileTime(t time.Time) uint64 {
	const between = 11644473600 // seconds from 1601 to 1970
	return uint64(t.Unix()+between) * 10_000_000
}
