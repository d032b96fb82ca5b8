package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// ErrNoHealth says that a disk does not tell how it is: a virtual one, or one behind
// a controller that does not pass the question on.
var ErrNoHealth = errors.New("the disk does not tell how it is")

// Vitals are what a disk says of itself. Counts are 0 where it does not say.
type Vitals struct {
	Serial  string   `json:"disk_serial" maxLength:"200"`
	Silent  bool     `json:"silent" doc:"It says nothing: a virtual disk, or one behind a controller that does not pass the question on"`
	Wrong   []string `json:"wrong" nullable:"false" maxItems:"40" doc:"What is wrong by its own thresholds, in words"`
	Odd     []string `json:"odd" nullable:"false" maxItems:"40" doc:"What is no reason to replace it, and worth knowing"`
	Celsius int      `json:"temperature" doc:"Degrees Celsius"`
	Hours   int64    `json:"hours" minimum:"0" doc:"That it was switched on"`
	Used    int      `json:"life_used_percent" minimum:"0" doc:"Of what its maker thinks it lasts"`
	Defects int64    `json:"defects" minimum:"0" doc:"Sectors that were replaced, wait to be or cannot be read, or errors of the medium"`
}

// String is "good", or in words what is wrong.
func (v *Vitals) String() string {
	if len(v.Wrong)+len(v.Odd) == 0 {
		return "good"
	}
	return strings.Join(slices.Concat(v.Wrong, v.Odd), ", ")
}

// Health is String of ReadVitals.
func Health(path string) (string, error) {
	v, err := ReadVitals(path)
	if err != nil {
		return "", err
	}
	return v.String(), nil
}

// ReadVitals asks a block device how it is, by the NVM Express specification's log of
// SMART data or by the ATA command set's SMART. Errors wrap ErrNoHealth.
func ReadVitals(path string) (*Vitals, error) {
	f, err := os.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if strings.Contains(path, "nvme") {
		log, err := nvmeHealth(f)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNoHealth, err)
		}
		return judgeNVMe(log), nil
	}
	values, err := ataSMART(f, smartReadData)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoHealth, err)
	}
	thresholds, err := ataSMART(f, smartReadThresholds)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoHealth, err)
	}
	return judgeATA(values, thresholds), nil
}

const smartSize = 512 // bytes of each log

// nvmeAdmin is struct nvme_passthru_cmd of linux/nvme_ioctl.h.
type nvmeAdmin struct {
	opcode, flags            uint8
	_                        uint16
	namespace                uint32
	_, _                     uint32
	metadata, addr           uint64
	metadataLength, length   uint32
	cdw                      [6]uint32 // 10 to 15
	timeoutMilliseconds, res uint32
}

const (
	nvmeIoctlAdmin = 0xc0484e41
	nvmeGetLogPage = 0x02
	nvmeLogSMART   = 0x02
	nvmeAll        = 0xffffffff
)

func nvmeHealth(f *os.File) ([]byte, error) {
	b := make([]byte, smartSize)
	c := nvmeAdmin{opcode: nvmeGetLogPage, namespace: nvmeAll, addr: uint64(uintptr(unsafe.Pointer(&b[0]))), length: smartSize,
		cdw: [6]uint32{nvmeLogSMART | (smartSize/4-1)<<16}}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), nvmeIoctlAdmin, uintptr(unsafe.Pointer(&c)))
	runtime.KeepAlive(b)
	if errno != 0 {
		return nil, errno
	}
	return b, nil
}

// judgeNVMe reads the log page SMART / Health Information (NVM Express base
// specification, "SMART / Health Information").
func judgeNVMe(b []byte) *Vitals {
	v := &Vitals{Wrong: []string{}, Odd: []string{}}
	for bit, text := range []string{"its spare blocks run out", "it is too hot or too cold", "it has become unreliable", "it can only be read", "its backup of volatile memory has failed"} {
		if b[0]&(1<<bit) != 0 {
			v.Wrong = append(v.Wrong, text)
		}
	}
	if v.Used = int(b[5]); v.Used >= 100 {
		v.Wrong = append(v.Wrong, fmt.Sprintf("%d %% of its life are used", v.Used))
	}
	if kelvin := int(binary.LittleEndian.Uint16(b[1:])); kelvin > 0 {
		v.Celsius = kelvin - 273
	}
	v.Hours = count64(b[128:])
	if v.Defects = count64(b[160:]); v.Defects > 0 {
		v.Wrong = append(v.Wrong, fmt.Sprintf("%d media errors", v.Defects))
	}
	return v
}

// count64 is the low half of a count of sixteen bytes, which never gets further.
func count64(b []byte) int64 { return int64(min(binary.LittleEndian.Uint64(b), math.MaxInt64)) }

// sgHeader is sg_io_hdr_t of scsi/sg.h.
type sgHeader struct {
	interfaceID, direction    int32
	commandLength, senseRoom  uint8
	_                         uint16
	length                    uint32
	data, command, sense      uintptr
	timeoutMilliseconds       uint32
	flags                     uint32
	_                         int32
	_                         uintptr
	status, _, _, senseLength uint8
	hostStatus, driverStatus  uint16
	_                         int32
	_, _                      uint32
}

const (
	sgIO           = 0x2285
	sgFromDevice   = -3
	ataPassThrough = 0x85 // 16 bytes: SAT, "ATA PASS-THROUGH (16)"
	ataPIOIn       = 4 << 1
	ataOneBlockIn  = 0x0e // direction, unit and place of the length
	ataSMARTCode   = 0xb0

	smartReadData       = 0xd0
	smartReadThresholds = 0xd1
)

func ataSMART(f *os.File, feature byte) ([]byte, error) {
	b, sense := make([]byte, smartSize), make([]byte, 32)
	command := [16]byte{0: ataPassThrough, 1: ataPIOIn, 2: ataOneBlockIn, 4: feature, 6: 1, 10: 0x4f, 12: 0xc2, 14: ataSMARTCode}
	h := sgHeader{interfaceID: 'S', direction: sgFromDevice, commandLength: uint8(len(command)), senseRoom: uint8(len(sense)), length: smartSize,
		data: uintptr(unsafe.Pointer(&b[0])), command: uintptr(unsafe.Pointer(&command)), sense: uintptr(unsafe.Pointer(&sense[0])), timeoutMilliseconds: 5000}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), sgIO, uintptr(unsafe.Pointer(&h)))
	runtime.KeepAlive(b)
	runtime.KeepAlive(sense)
	runtime.KeepAlive(&command)
	if errno != 0 {
		return nil, errno
	}
	if h.status != 0 || h.hostStatus != 0 {
		return nil, errors.New("it refuses the question")
	}
	return b, nil
}

// replacedMany is how many replaced sectors are a reason to replace the disk; a few are what spare ones are for.
const replacedMany = 50

// judgeATA reads the attributes of SMART: thirty of twelve bytes from byte 2, with
// their thresholds at the same places of the second log.
func judgeATA(values, thresholds []byte) *Vitals {
	least := map[byte]byte{}
	for i := range 30 {
		least[thresholds[2+i*12]] = thresholds[2+i*12+1]
	}
	v := &Vitals{Wrong: []string{}, Odd: []string{}}
	for i := range 30 {
		a := values[2+i*12:][:12]
		id, value := a[0], a[3]
		raw := int64(binary.LittleEndian.Uint32(a[5:9]))
		if id == 0 {
			continue
		}
		if limit := least[id]; limit > 0 && value <= limit {
			v.Wrong = append(v.Wrong, fmt.Sprintf("attribute %d has fallen to %d, its limit is %d", id, value, limit))
		}
		if text, counts := map[byte]string{5: "sectors were replaced", 197: "sectors wait to be replaced", 198: "sectors cannot be read"}[id]; counts && raw > 0 {
			v.Defects += raw
			if text = fmt.Sprintf("%d %s", raw, text); id == 5 && raw < replacedMany {
				v.Odd = append(v.Odd, text)
			} else {
				v.Wrong = append(v.Wrong, text)
			}
		}
		switch id {
		case 9:
			v.Hours = raw
		case 194:
			v.Celsius = int(a[5])
		}
	}
	return v
}
