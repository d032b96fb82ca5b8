package agent

import (
	"encoding/binary"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// RunningSystem is the Linux system that the helper runs on, by what systemd and util-linux
// bring.
type RunningSystem struct{}

// Boot names this start of the system.
func (RunningSystem) Boot() string {
	text, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(text))
}

// SignedIn counts the sessions of people (loginctl(1)); on a system without a bus, those at
// terminals (who(1)).
func (RunningSystem) SignedIn() (people int) {
	list, err := exec.Command("loginctl", "list-sessions", "--no-legend").Output()
	if err != nil {
		list, err := exec.Command("who").Output()
		if err != nil {
			slog.Warn("nobody can say who is signed in", "error", err)
			return 1 // there may be somebody
		}
		return strings.Count(string(list), "\n")
	}
	for line := range strings.Lines(string(list)) {
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		kind, err := exec.Command("loginctl", "show-session", fields[0], "--property=Class", "--value").Output()
		if err != nil || strings.TrimSpace(string(kind)) == "user" {
			people++
		}
	}
	return people
}

// Warn writes to all terminals (wall(1)), and into the notifications of each desktop.
func (RunningSystem) Warn(text string) {
	if err := exec.Command("wall", text).Run(); err != nil {
		slog.Warn("the terminals could not be written to", "error", err)
	}
	buses, _ := filepath.Glob("/run/user/*/bus")
	for _, bus := range buses {
		uid, err := strconv.ParseUint(filepath.Base(filepath.Dir(bus)), 10, 32)
		if err != nil {
			continue
		}
		// Desktop Notifications Specification 1.2, Notify; as that user, as the bus wants it.
		notify := exec.Command("busctl", "--address=unix:path="+bus, "call", "org.freedesktop.Notifications", "/org/freedesktop/Notifications",
			"org.freedesktop.Notifications", "Notify", "susssasa{sv}i", "Jugate", "0", "", "This computer", text, "0", "1", "urgency", "y", "2", "0")
		notify.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
		if err := notify.Run(); err != nil {
			slog.Info("a desktop shows no notifications", "user", uid, "error", err)
		}
	}
}

// Restart has the firmware start from the network next, if it can be told so.
func (RunningSystem) Restart() error {
	slog.Info("restarting, as the service asks")
	if err := nextBootFromNetwork(); err != nil {
		slog.Warn("the firmware was not told to start from the network next; it does so if that is its first way", "error", err)
	}
	return exec.Command("systemctl", "reboot").Run()
}

// PowerOff switches the machine off.
func (RunningSystem) PowerOff() error {
	slog.Info("switching off, as the service asks")
	return exec.Command("systemctl", "poweroff").Run()
}

// nextBootFromNetwork sets BootNext to the first entry, in the firmware's order, that stands for
// a network card (UEFI specification, 3.1).
func nextBootFromNetwork() error {
	return nextBoot(startsNetwork)
}

// startsNetwork tells whether a load option stands for a network card.
func startsNetwork(b []byte) bool {
	network := false
	walk(b, func(kind, sub byte) bool {
		network = network || kind == pathMessaging && sub == messagingMAC
		return true
	})
	return network && binary.LittleEndian.Uint32(b)&optionActive != 0
}
