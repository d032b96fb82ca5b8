package steps

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime/pprof"
)

// ProfilesIn is the variable that says in which folder processes leave profiles.
const ProfilesIn = "JUGATE_BENCH_PROFILES"

// Profiled runs main, and leaves a profile of it where they are wanted, named after what it is.
func Profiled(what string, main func() int) int {
	folder := os.Getenv(ProfilesIn)
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
