package lab

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Firmware is what a machine starts with.
type Firmware string

// The firmware of Debian's package ovmf, and QEMU's own.
const (
	UEFI       Firmware = "UEFI"
	SecureUEFI Firmware = "UEFI with Secure Boot"
	BIOS       Firmware = "BIOS"
)

// MachineOptions say what a machine is made of.
type MachineOptions struct {
	Name     string
	Address  string // hardware address
	Firmware Firmware
	Disk     string   // file
	Card     string   // virtio-net-pci by default; on BIOS e1000
	OnlyHTTP bool     // UEFI without PXE
	Media    string   // file of a USB stick, to start from
	Written  bool     // the stick can be written
	Disc     string   // file of optical media, to start from
	Maker    string   // told by SMBIOS
	Model    string   // told by SMBIOS
	Dir      string   // for logs, screenshots and the firmware's variables
	Memory   int      // MiB, 512 by default
	Extra    []string // for QEMU
}

// Machine is a machine that is switched on: real firmware on simulated silicon.
type Machine struct {
	MachineOptions
	network *Network
	tap     string
	cmd     *exec.Cmd
	qmp     net.Conn
	reply   *bufio.Reader
	ended   chan struct{}
	keys    io.WriteCloser // what is typed at the serial console
	off     bool

	mu     sync.Mutex
	serial strings.Builder
	more   chan struct{} // closed when more has come
}

// taps counts the machines, for the names of their links.
var taps atomic.Int64

// PowerOn switches a machine on. It is off at the latest when ctx ends.
func (n *Network) PowerOn(ctx context.Context, o MachineOptions) (_ *Machine, err error) {
	m := &Machine{MachineOptions: o, network: n, tap: fmt.Sprintf("tap%d", taps.Add(1)), more: make(chan struct{}), ended: make(chan struct{})}
	for _, args := range [][]string{
		{"ip", "tuntap", "add", "dev", m.tap, "mode", "tap"},
		{"ip", "link", "set", m.tap, "master", "br0", "up"},
	} {
		if err := n.in(ctx, args...); err != nil {
			return nil, err
		}
	}
	args, err := m.arguments()
	if err != nil {
		return nil, err
	}
	m.cmd = exec.CommandContext(ctx, "ip", append([]string{"netns", "exec", n.name, "qemu-system-x86_64"}, args...)...)
	out, err := m.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if m.keys, err = m.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	var complaints strings.Builder
	m.cmd.Stderr = &complaints
	log, err := os.OpenFile(filepath.Join(o.Dir, o.Name+".serial.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	if err := m.cmd.Start(); err != nil {
		return nil, errors.Join(err, log.Close())
	}
	go func() {
		defer close(m.ended)
		defer log.Close()
		m.listen(io.TeeReader(out, log))
		m.cmd.Wait()
	}()
	if err := m.connect(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("%s does not start: %w: %s", o.Name, err, complaints.String()), m.Off())
	}
	return m, nil
}

func (m *Machine) socket() string {
	return filepath.Join(os.TempDir(), fmt.Sprintf("jugate-%d-%s", os.Getpid(), m.tap))
}

// arguments are QEMU's.
func (m *Machine) arguments() ([]string, error) {
	card, network := m.Card, "netdev=n0,mac="+m.Address
	args := []string{"-accel", "tcg,thread=multi", "-cpu", "max", "-m", strconv.Itoa(cmp.Or(m.Memory, 512)), "-display", "none", "-vga", "std", "-monitor", "none", "-serial", "stdio",
		"-qmp", "unix:" + m.socket() + ",server=on,wait=off", "-netdev", "tap,id=n0,ifname=" + m.tap + ",script=no,downscript=no",
		"-smbios", fmt.Sprintf("type=1,manufacturer=%s,product=%s,serial=%s", m.Maker, m.Model, strings.ToUpper(m.Name)),
		"-drive", "file=" + m.Disk + ",format=raw,if=none,id=d0,cache=unsafe", "-device", "virtio-blk-pci,drive=d0,serial=" + m.Name + ",bootindex=2"}
	if m.Media != "" {
		only := ",readonly=on"
		if m.Written {
			only = ""
		}
		args = append(args, "-drive", "file="+m.Media+",format=raw,if=none,id=m0"+only, "-device", "qemu-xhci", "-device", "usb-storage,drive=m0,bootindex=0,removable=on")
	}
	if m.Disc != "" {
		args = append(args, "-drive", "file="+m.Disc+",format=raw,if=none,id=c0,media=cdrom,readonly=on", "-device", "ide-cd,drive=c0,bootindex=0")
	}
	if m.Firmware == BIOS {
		if card == "" {
			card = "e1000"
		}
		args = append(args, "-machine", "pc", "-device", card+","+network+",bootindex=1")
		return append(args, m.Extra...), nil
	}
	if card == "" {
		card = "virtio-net-pci"
	}
	if card == "virtio-net-pci" {
		network += ",rx_queue_size=1024" // a simulated processor is slow to take packets out
	}
	args = append(args, "-device", card+","+network+",bootindex=1,romfile=")
	code, vars, machine := "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd", "q35"
	if m.Firmware == SecureUEFI {
		code, vars, machine = "OVMF_CODE_4M.secboot.fd", "OVMF_VARS_4M.ms.fd", "q35,smm=on"
		args = append(args, "-global", "driver=cfi.pflash01,property=secure,value=on")
	}
	if m.OnlyHTTP {
		args = append(args, "-fw_cfg", "name=opt/org.tianocore/IPv4PXESupport,string=n", "-fw_cfg", "name=opt/org.tianocore/IPv6PXESupport,string=n")
	}
	own := filepath.Join(m.Dir, m.Name+".vars") // kept from one power-on to the next
	if _, err := os.Stat(own); errors.Is(err, os.ErrNotExist) {
		b, err := os.ReadFile(filepath.Join("/usr/share/OVMF", vars))
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(own, b, 0o644); err != nil {
			return nil, err
		}
	}
	args = append(args, "-machine", machine,
		"-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/"+code, "-drive", "if=pflash,format=raw,file="+own)
	return append(args, m.Extra...), nil
}

// listen takes what comes from the serial console.
func (m *Machine) listen(r io.Reader) {
	buf := make([]byte, 4096)
	for {
		n, err := r.Read(buf)
		m.mu.Lock()
		m.serial.Write(buf[:n])
		close(m.more)
		m.more = make(chan struct{})
		m.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// Serial is all that has come from the serial console since the machine was switched
// on.
func (m *Machine) Serial() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.serial.String()
}

// Expect waits until a text has come from the serial console.
func (m *Machine) Expect(ctx context.Context, text string) error {
	for {
		m.mu.Lock()
		there, more := strings.Contains(m.serial.String(), text), m.more
		m.mu.Unlock()
		if there {
			return nil
		}
		select {
		case <-more:
		case <-m.ended:
			return fmt.Errorf("%s went off and never said %q: %s", m.Name, text, lastLines(m.Serial(), 10))
		case <-ctx.Done():
			return fmt.Errorf("%s did not say %q: %w; its last words: %s", m.Name, text, ctx.Err(), lastLines(m.Serial(), 10))
		}
	}
}

// Type types a line at the serial console.
func (m *Machine) Type(line string) error {
	_, err := io.WriteString(m.keys, line+"\r")
	return err
}

// Forget drops what has come from the serial console, so that Expect waits for what
// is new.
func (m *Machine) Forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.serial.Reset()
}

// connect opens QEMU's control socket (its protocol is QMP: a line of JSON each way).
func (m *Machine) connect(ctx context.Context) error {
	for {
		conn, err := net.Dial("unix", m.socket())
		if err == nil {
			m.qmp, m.reply = conn, bufio.NewReader(conn)
			if _, err := m.reply.ReadString('\n'); err != nil {
				return err
			}
			return m.control("qmp_capabilities", nil)
		}
		select {
		case <-time.After(50 * time.Millisecond): // the socket is not there yet
		case <-m.ended:
			return errors.New("QEMU has ended")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (m *Machine) control(command string, arguments map[string]any) error {
	order := map[string]any{"execute": command}
	if arguments != nil {
		order["arguments"] = arguments
	}
	text, err := json.Marshal(order)
	if err != nil {
		return err
	}
	if _, err := m.qmp.Write(append(text, '\n')); err != nil {
		return err
	}
	for {
		line, err := m.reply.ReadBytes('\n')
		if err != nil {
			return err
		}
		var answer struct {
			Return json.RawMessage
			Error  *struct{ Desc string }
		}
		if err := json.Unmarshal(line, &answer); err != nil {
			return err
		}
		if answer.Error != nil {
			return fmt.Errorf("%s: %s", command, answer.Error.Desc)
		}
		if answer.Return != nil {
			return nil
		}
	}
}

// Screenshot writes what is on the machine's screen as a PNG.
func (m *Machine) Screenshot(path string) error {
	return m.control("screendump", map[string]any{"filename": path, "format": "png"})
}

// Press presses keys one after the other, by QEMU's names for them.
func (m *Machine) Press(keys ...string) error {
	for _, k := range keys {
		if err := m.Chord(k); err != nil {
			return err
		}
	}
	return nil
}

// Chord presses keys together.
func (m *Machine) Chord(keys ...string) error {
	var all []map[string]any
	for _, k := range keys {
		all = append(all, map[string]any{"type": "qcode", "data": k})
	}
	return m.control("send-key", map[string]any{"keys": all})
}

// Ended waits until the machine has switched itself off.
func (m *Machine) Ended(ctx context.Context) error {
	select {
	case <-m.ended:
		return nil
	case <-ctx.Done():
		return fmt.Errorf("%s is still on: %w; its last words: %s", m.Name, ctx.Err(), lastLines(m.Serial(), 10))
	}
}

// Off pulls the plug, and takes the machine's link away. It may be called again.
func (m *Machine) Off() error {
	if m.off {
		return nil
	}
	m.off = true
	if m.qmp != nil {
		m.qmp.Close()
	}
	m.cmd.Process.Kill() // "ip netns exec" has become QEMU
	<-m.ended
	os.Remove(m.socket())
	return m.network.in(context.Background(), "ip", "link", "delete", m.tap)
}
