// Command bench measures capture and restore on a disk like those that people
// have, against ordinary tools in the same run, and prints the tables of
// docs/performance.md. It needs root, to fill the disk's volumes.
//
//	go run ./bench [-dir FOLDER] [-size GIB] [-profiles FOLDER] disk|slabs|month|next|pack|multicast|outposts|console|scale|terabytes|drivers ROOT|boot ROOT
package main

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"jugate/bench/steps"
	"jugate/core/disk"
)

func main() {
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + disk.Waiting) // as the programs do
	if filepath.Base(os.Args[0]) == filepath.Base(executable) {
		os.Exit(asJugate())
	}
	if config, err := os.MkdirTemp("", "jugate-bench-config"); err == nil { // services leave nothing with this machine's user
		defer os.RemoveAll(config)
		os.Setenv("XDG_CONFIG_HOME", config)
	}
	log.SetFlags(0)
	dir := flag.String("dir", os.TempDir(), "where to put the disks; needs room for about five times their size")
	size := flag.Float64("size", 4, "GiB of the disk; five eighths of it get filled")
	profiles := flag.String("profiles", "", "a folder for profiles of the processor time of every process")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if *profiles != "" {
		if err := wantProfiles(*profiles); err != nil {
			log.Fatal("bench: ", err)
		}
	}
	code := steps.Profiled(cmp.Or(flag.Arg(0), "bench"), func() int {
		if err := run(ctx, *dir, *size, flag.Args()); err != nil {
			log.Print("bench: ", err)
			return 1
		}
		return 0
	})
	if code != 0 {
		os.Exit(code)
	}
}

func run(ctx context.Context, dir string, gib float64, args []string) error {
	if len(args) == 0 {
		return fmt.Errorf("say what to measure: disk, slabs, month, next, pack, multicast, outposts, console, drivers, boot, scale or terabytes")
	}
	switch args[0] {
	case "scale-fill":
		return fill(ctx, args[1])
	case "scale-run":
		return scaleRun(ctx, args[1], dir)
	}
	work, err := os.MkdirTemp(dir, "jugate-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	rest := args[1:]
	withDisksOfTheirOwn := map[string]func(context.Context, string) error{
		"console": console, "month": month, "next": next, "outposts": outposts, "pack": pack, "scale": scale, "stores": stores, "takeover": takeover, "terabytes": terabytes,
		"multicast": func(ctx context.Context, dir string) error { return multicast(ctx, dir, strings.Join(rest, " ")) },
		"boot":      func(ctx context.Context, dir string) error { return boot(ctx, dir, strings.Join(rest, " ")) },
		"drivers":   func(ctx context.Context, dir string) error { return drivers(ctx, dir, strings.Join(rest, " ")) },
	}
	if measure, is := withDisksOfTheirOwn[args[0]]; is {
		describeMachine()
		return measure(ctx, work)
	}
	b := &bench{dir: work, size: int64(gib*1024) << 20}
	if err := b.build(ctx); err != nil {
		return err
	}
	describeMachine()
	switch args[0] {
	case "disk":
		return b.disk(ctx)
	case "slabs":
		return b.slabs(ctx)
	}
	return fmt.Errorf("there is no benchmark %q", args[0])
}

func describeMachine() {
	model := "unknown processor"
	if f, err := os.Open("/proc/cpuinfo"); err == nil {
		defer f.Close()
		for s := bufio.NewScanner(f); s.Scan(); {
			if name, value, _ := strings.Cut(s.Text(), ":"); strings.TrimSpace(name) == "model name" {
				model = strings.TrimSpace(value)
				break
			}
		}
	}
	kernel, _ := exec.Command("uname", "-sr").Output()
	fmt.Printf("machine: %d of %s, %s, %s\n", runtime.NumCPU(), model, strings.TrimSpace(string(kernel)), runtime.Version())
}

// step runs one step in a process of its own, by the program beside this one, and tells what that took.
func step(ctx context.Context, args ...string) (seconds float64, r steps.Result, err error) {
	exe, err := os.Executable()
	if err != nil {
		return 0, r, err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(filepath.Dir(exe), "step"), args...)
	cmd.Stderr = os.Stderr
	out, seconds, err := timed(cmd)
	if err != nil {
		return seconds, r, fmt.Errorf("%s: %w", args[0], err)
	}
	err = json.Unmarshal(out, &r)
	return seconds, r, err
}

func path(parts ...string) string { return filepath.Join(parts...) }
