package driver

import (
	"encoding/binary"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"jugate/core/hive"
	"jugate/core/windows"
)

// Service is how a model's driver is started.
type Service struct {
	windows.Service
	File string `json:"file,omitempty"` // of Package.Files: its Binary; empty if the package has none
}

// isDriver is the flag of AddService that tells the driver from what else a section starts.
const isDriver = 2

// service reads [DDInstall.Services] of the section that installs a model; nil if it starts nothing.
func (r *infReader) service(section, arch string) *Service {
	s := r.sections[section+".SERVICES"]
	if s == nil {
		return nil
	}
	for _, l := range s.lines {
		if !strings.EqualFold(l.key, "AddService") || len(l.values) < 3 {
			continue
		}
		if flags, err := strconv.ParseUint(r.expand(l.values[1]), 0, 32); err != nil || flags&isDriver == 0 {
			continue
		}
		of := r.expand(l.values[2])
		own := &Service{Service: windows.Service{Name: r.expand(l.values[0]), Type: r.number(of, "ServiceType"), Start: r.number(of, "StartType"), OnError: r.number(of, "ErrorControl"),
			Group: r.value(of, "LoadOrderGroup")}}
		own.Binary = path.Base(slash(r.value(of, "ServiceBinary")))
		if !r.installed {
			if there, want, _ := r.locate(own.Binary, arch); there != "" && fs.ValidPath(want) {
				own.File, r.wanted[there] = there, true
			}
			own.Settings = r.settings(of)
		}
		return own
	}
	return nil
}

// number is a value as a number; what is none is the largest that there is.
func (r *infReader) number(section, key string) uint32 {
	n, err := strconv.ParseUint(r.value(section, key), 0, 32)
	if err != nil {
		return ^uint32(0)
	}
	return uint32(n)
}

// Kinds of values (the reference's "AddReg directive", flags). Other flags say when a value is set.
const (
	kindMask   = 0x00010001
	kindBytes  = 0x00000001
	kindTexts  = 0x00010000
	kindNumber = 0x00010001
	kindExpand = 0x00020000
	onlyKey    = 0x00000010
	removes    = 0x00000004 | 0x00000008 // a value, or from a list
)

// settings are what AddReg of a service sets below its key.
func (r *infReader) settings(section string) (all []windows.Setting) {
	lists, _ := r.values(section, "AddReg")
	for _, list := range lists {
		s := r.sections[strings.ToUpper(list)]
		if s == nil {
			continue
		}
		for _, l := range s.lines {
			v := make([]string, max(5, len(l.values)))
			for i, text := range l.values {
				v[i] = r.expand(text)
			}
			if len(all) == maxSettings || len(l.values) < 2 || !strings.EqualFold(v[0], "HKR") {
				continue
			}
			if one, is := setting(v[1], v[2], v[3], v[4:]); is {
				all = append(all, one)
			}
		}
	}
	return all
}

// maxSettings is how many of one service are taken.
const maxSettings = 500

func setting(key, name, flagText string, data []string) (windows.Setting, bool) {
	flags, err := strconv.ParseUint(flagText, 0, 32)
	if flagText != "" && err != nil || flags&(onlyKey|removes) != 0 {
		return windows.Setting{}, false
	}
	var v hive.Value
	switch flags & kindMask {
	case kindNumber:
		n, err := strconv.ParseUint(data[0], 0, 32)
		if err != nil {
			return windows.Setting{}, false
		}
		v = hive.Number(uint32(n))
	case kindBytes:
		var b []byte
		for _, one := range data {
			n, err := strconv.ParseUint(one, 16, 8)
			if err != nil {
				return windows.Setting{}, false
			}
			b = append(b, byte(n))
		}
		v = hive.OfBytes(b)
	case kindTexts:
		v = hive.OfAll(data...)
	default:
		if v = hive.Of(data[0]); flags&kindExpand != 0 {
			v = hive.OfExpand(data[0])
		}
	}
	v.Name = name
	return windows.Setting{Key: key, Value: v}, true
}

// classIDs are those of the classes of disk controllers, for INF files that do not say it.
var classIDs = map[string]string{"SCSIADAPTER": "{4d36e97b-e325-11ce-bfc1-08002be10318}", "HDC": "{4d36e96a-e325-11ce-bfc1-08002be10318}"}

// First is a driver as a system starts with it, for the devices that a model names.
func (p *Package) First(m *Model, arch string) windows.First {
	ids := append([]string{m.Hardware}, m.Compatible...)
	digest := binary.BigEndian.Uint64(p.Digest[:])
	return windows.First{Service: m.Service.Service, INF: p.Name + ".inf", Package: p.Name + ".inf_" + arch + "_" + strconv.FormatUint(digest|1<<63, 16), Provider: p.Provider, Version: p.Version,
		Date: p.Date, ClassID: p.ClassID, Section: m.Section, Description: m.Name, Maker: m.Maker, Devices: ids}
}
