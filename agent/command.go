package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/volume"
)

// Program is something to run.
type Program struct {
	Argv []string
	Env  []string  // NAME=VALUE, besides PATH and LC_ALL
	Out  io.Writer // is written what it says
}

// Commander runs programs: of the system on a volume within that, or of the boot environment.
type Commander interface {
	// Run returns an ExitStatus if the program does not end well. All that it has started ends with it, or with ctx.
	Run(ctx context.Context, p Program) error
}

// ExitStatus is how a program has ended that has not ended well, as shells have it: 128 and the number of the signal, if one has
// ended it.
type ExitStatus int

func (s ExitStatus) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// programPath is where programs are looked for.
const programPath = "/usr/sbin:/usr/bin:/sbin:/bin"

// runAlone has a command be the first process of a name space of its own, with which all ends that it has started.
func runAlone(cmd *exec.Cmd, p Program) error {
	cmd.Env = append([]string{"PATH=" + programPath, "LC_ALL=C"}, p.Env...)
	cmd.Stdout, cmd.Stderr = p.Out, p.Out
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Cloneflags |= unix.CLONE_NEWPID
	err := cmd.Run()
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	if s, is := exit.Sys().(syscall.WaitStatus); is && s.Signaled() {
		return ExitStatus(128 + int(s.Signal()))
	}
	return ExitStatus(exit.ExitCode())
}

// runIn runs a program whose last words are what matters if it fails.
func runIn(ctx context.Context, c Commander, argv ...string) error {
	out := &tail{most: 4 << 10}
	if err := c.Run(ctx, Program{Argv: argv, Out: out}); err != nil {
		return fmt.Errorf("%s in the system: %w: %s", argv[0], err, lastLine(out.kept))
	}
	return nil
}

// Run runs a program of the boot environment.
func (h Hardware) Run(ctx context.Context, p Program) error {
	for dir := range strings.SplitSeq(programPath, ":") { // the first process of a machine has no PATH
		path := filepath.Join(dir, p.Argv[0])
		if _, err := os.Stat(path); err == nil {
			return runAlone(exec.CommandContext(ctx, path, p.Argv[1:]...), p)
		}
	}
	return fmt.Errorf("the boot environment has no program %s: make a build with a shell (jugate environment build --shell), or with programs (--programs)", p.Argv[0])
}

// outputKept is how much of a command's output is kept: the end of it. In bytes.
const outputKept = 64 << 10

// tail keeps the end of what is written to it.
type tail struct {
	most    int
	kept    []byte
	dropped int64
}

// Write is io.Writer's.
func (t *tail) Write(b []byte) (int, error) {
	t.kept = append(t.kept, b...)
	if over := len(t.kept) - t.most; over > 0 {
		t.kept = append(t.kept[:0], t.kept[over:]...)
		t.dropped += int64(over)
	}
	return len(b), nil
}

// command runs a command of the engineer's own.
func (a *Agent) command(ctx context.Context, e *api.ToErrand) error {
	to := e.Command
	if to == nil {
		return a.decline(ctx, e)
	}
	within, standing := a.stands(ctx, e.ID)
	defer standing.news.end()
	began := time.Now()
	limited, cancel := context.WithDeadline(within, began.Add(time.Duration(to.Limit)*time.Minute))
	defer cancel()
	out := &tail{most: outputKept}
	stop := standing.now(limited, "running the command "+to.Name)
	err := a.runCommand(limited, to, Program{Argv: []string{"sh", "-c", to.Script}, Env: []string{"JUGATE_WORKSTATION=" + a.called()}, Out: out})
	stop()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(context.Cause(within), errWithdrawn):
		a.show("the command %s was stopped", to.Name)
		return nil
	}
	ended := api.CommandEnded{Output: strings.ToValidUTF8(string(out.kept), "?"), Dropped: out.dropped, Seconds: time.Since(began).Seconds(), Late: err != nil && limited.Err() != nil}
	var exit ExitStatus
	switch {
	case errors.As(err, &exit):
		ended.Status = int(exit)
	case ended.Late:
		ended.Status = 128 + int(unix.SIGKILL)
	case err != nil:
		why := fmt.Sprintf("the command %s could not be run: %v", to.Name, err)
		a.show("%s", why)
		_, err := authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) {
			return struct{}{}, c.FailErrand(ctx, e.ID, api.Failure{Error: why})
		})
		return forgiven(err)
	}
	a.show("the command %s ended with %d", to.Name, ended.Status)
	_, err = authorized(ctx, a, func(c *apiclient.Client) (struct{}, error) { return struct{}{}, c.Ran(ctx, e.ID, ended) })
	return a.leaveAfter(to.WhenDone, err)
}

// now tells each second for how long something runs, so that the service can withdraw it.
func (l *longErrand) now(ctx context.Context, what string) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for began := time.Now(); ; {
			l.tell(fmt.Sprintf("%s, for %.0f s", what, time.Since(began).Seconds()), 0, 0)
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
	return func() { cancel(); <-done }
}

// runCommand runs a command where it is to run.
func (a *Agent) runCommand(ctx context.Context, to *api.Command, p Program) error {
	if to.Place == api.InEnvironment {
		machine, can := a.machine.(Commander)
		if !can {
			return errors.New("nothing can be run here")
		}
		return machine.Run(ctx, p)
	}
	disk, err := a.openDisk(to.Disk)
	if err != nil {
		return err
	}
	defer disk.Close()
	_, err = onSystem(ctx, disk, anywhere, errors.New("the disk has no system to run it in; one of Windows runs commands at its first start (answers)"), errNoShell,
		func(system SystemVolume, _ volume.Kind) ([]string, error) {
			if !hasShell(system) {
				return nil, errNoShell
			}
			runs, can := system.(Commander)
			if !can {
				return nil, errors.New("programs of this system cannot be run from here")
			}
			return nil, runs.Run(ctx, p)
		})
	return err
}

var errNoShell = errors.New("no system with a shell is on it")

func hasShell(system fs.FS) bool {
	for _, name := range []string{"bin/sh", "usr/bin/sh"} {
		if _, err := fs.Stat(system, name); err == nil {
			return true
		}
	}
	return false
}
