package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime/pprof"

	"jugate/cli"
)

// executable is what services, workstations and commands are started from: the one that is shipped, or, where profiles are wanted,
// this one by that name.
var executable = "bin/jugate"

// profilesIn tells the processes that are started from here where their profiles go.
const profilesIn = "JUGATE_BENCH_PROFILES"

// wantProfiles has this process and all that it starts leave a profile of their processor time in a folder.
func wantProfiles(folder string) error {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	executable = filepath.Join(folder, "jugate")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := os.Remove(executable); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := os.Symlink(self, executable); err != nil {
		return err
	}
	return os.Setenv(profilesIn, folder)
}

// profiled runs main, and leaves a profile of it where they are wanted, named after what it is.
func profiled(what string, main func() int) int {
	folder := os.Getenv(profilesIn)
	if folder == "" {
		return main()
	}
	f, err := os.Create(filepath.Join(folder, fmt.Sprintf("%s-%d.pprof", what, os.Getpid())))
	if err == nil {
		err = pprof.StartCPUProfile(f)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench: profile:", err)
		return 1
	}
	code := main()
	pprof.StopCPUProfile()
	if err := f.Close(); err != nil {
		fmt.Fprintln(os.Stderr, "bench: profile:", err)
		return 1
	}
	return code
}

// asJugate is this program by the other's name.
func asJugate() int {
	what := "jugate"
	for _, arg := range os.Args[1:] {
		switch arg {
		case "serve", "simulate", "wire", "disk", "image":
			what = arg
		case "send", "receive", "pack":
			what += "-" + arg
		}
	}
	return profiled(what, func() int { return cli.Main(os.Args[1:], os.Stdout, os.Stderr) })
}
