package lab

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Container is a Debian with its own systemd in a folder, on this machine's kernel (systemd-nspawn), whose network is that of a host.
type Container struct {
	Root string

	host   *Host
	log    *os.File
	cmd    *exec.Cmd
	leader int // its first process, as this machine numbers it
}

// freshScript makes a Debian that has nothing but what it needs to start, and takes packages from where this machine does.
const freshScript = `
suite=$(. /etc/os-release; echo $VERSION_CODENAME)
site=$(apt-get indextargets --format '$(SITE)' "Codename: $suite" | head -n 1)
debootstrap --variant=minbase --include=systemd-sysv,udev,dbus,ca-certificates,iproute2 "$suite" "$ROOT" "$site"
cp -r /etc/apt/apt.conf.d /etc/apt/auth.conf.d "$ROOT/etc/apt/" 2>/dev/null || true
rm -f "$ROOT"/etc/apt/apt.conf.d/*packagekit "$ROOT"/etc/apt/apt.conf.d/*appstream
echo images > "$ROOT/etc/hostname"
`

// MakeFresh makes a fresh Debian in a folder, with debootstrap.
func MakeFresh(ctx context.Context, root string) error {
	cmd := exec.CommandContext(ctx, "sh", "-e", "-c", freshScript)
	cmd.Env = append(os.Environ(), "ROOT="+root, "PATH=/usr/sbin:/usr/bin:/sbin:/bin")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make a fresh Debian: %w: %s", err, lastLines(string(out), 15))
	}
	return nil
}

// Prepare runs a shell script in a Debian that is not switched on, with this machine's network, for what comes from Debian's archives.
func Prepare(ctx context.Context, root, script string) (string, error) {
	cmd := exec.CommandContext(ctx, "systemd-nspawn", "--quiet", "--directory="+root, "--register=no", "--keep-unit", "--resolv-conf=copy-host", "--setenv=DEBIAN_FRONTEND=noninteractive", "sh", "-e", "-c", script)
	out, err := cmd.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("prepare the Debian in %s: %w: %s", root, err, lastLines(string(out), 25))
	}
	return string(out), err
}

// SwitchOn starts a Debian on the host, and returns when its systemd says that it is up. What it writes to its console goes to the
// file of that name.
func (h *Host) SwitchOn(ctx context.Context, root, console string) (*Container, error) {
	c := &Container{Root: root, host: h}
	var err error
	if c.log, err = os.OpenFile(console, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err != nil {
		return nil, err
	}
	c.cmd = exec.CommandContext(context.WithoutCancel(ctx), "systemd-nspawn", "--directory="+root, "--register=no", "--keep-unit", "--network-namespace-path=/run/netns/"+h.namespace(),
		"--capability=CAP_NET_ADMIN,CAP_NET_RAW", "--machine="+filepath.Base(root)+strconv.Itoa(os.Getpid()), "--boot")
	c.cmd.Stdout, c.cmd.Stderr = c.log, c.log
	if err := c.cmd.Start(); err != nil {
		return nil, errors.Join(err, c.log.Close())
	}
	ctx, cancel := context.WithTimeout(ctx, startsWithin)
	defer cancel()
	for {
		if c.leader == 0 {
			c.leader = child(c.cmd.Process.Pid)
		}
		if c.leader != 0 {
			out, _ := c.Command(ctx, "systemctl", "is-system-running").CombinedOutput()
			if state := strings.TrimSpace(string(out)); state == "running" || state == "degraded" {
				return c, nil
			}
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(fmt.Errorf("the Debian in %s did not start: %w", root, ctx.Err()), c.Off())
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// startsWithin is how long its systemd may take.
const startsWithin = 3 * time.Minute

// child is the first child of a process; 0 if it has none yet.
func child(pid int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text))
	if len(fields) == 0 {
		return 0
	}
	n, _ := strconv.Atoi(fields[0])
	return n
}

// Command is a program that root runs inside.
func (c *Container) Command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "nsenter", append([]string{"--target", strconv.Itoa(c.leader), "--all", "env", "--chdir=/root", name}, args...)...)
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "DEBIAN_FRONTEND=noninteractive", "LANG=C.UTF-8"}
	return cmd
}

// Off shuts it down.
func (c *Container) Off() error {
	if c.cmd == nil {
		return nil
	}
	c.cmd.Process.Signal(syscall.SIGTERM) // it has its systemd shut down
	c.cmd.Wait()
	c.cmd = nil
	return c.log.Close()
}
