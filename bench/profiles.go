package main

import (
	"os"
	"path/filepath"

	"jugate/bench/steps"
	"jugate/cli"
)

// executable is what services, workstations and commands are started from: the one that is shipped, or, where profiles are wanted,
// this one by that name.
var executable = "bin/jugate"

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
	return os.Setenv(steps.ProfilesIn, folder)
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
	return steps.Profiled(what, func() int { return cli.Main(os.Args[1:], os.Stdout, os.Stderr) })
}
