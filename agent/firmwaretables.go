package agent

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// product is what the firmware's tables say of the machine (SMBIOS, 7.2), as the kernel
// shows them below /sys/class/dmi/id; what it does not say is empty.
func product(sys, field string) string {
	text, err := os.ReadFile(filepath.Join(sys, "class/dmi/id", field))
	if err != nil {
		return ""
	}
	return known(string(text))
}

// memory is the size of the machine's memory, in bytes: the blocks that the kernel manages
// or, if it does not list them, what it can use.
func memory(sys string) int64 {
	dir := filepath.Join(sys, "devices/system/memory")
	text, err := os.ReadFile(filepath.Join(dir, "block_size_bytes"))
	if size, parseErr := strconv.ParseInt(strings.TrimSpace(string(text)), 16, 64); err == nil && parseErr == nil {
		blocks, _ := filepath.Glob(filepath.Join(dir, "memory[0-9]*"))
		online := int64(0)
		for _, b := range blocks {
			if state, err := os.ReadFile(filepath.Join(b, "online")); err == nil && strings.TrimSpace(string(state)) == "1" {
				online++
			}
		}
		if online > 0 {
			return online * size
		}
	}
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err != nil {
		return 0
	}
	return int64(info.Totalram) * int64(info.Unit)
}
