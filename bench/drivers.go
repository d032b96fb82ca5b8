package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"jugate/bench/steps"
	"jugate/core/environment/builds"

	"jugate/core/driver"
)

// drivers measures reading a whole kernel's modules beside depmod, matching a large
// roster against a large library, and a layer more for a build. root is a folder with
// Debian's kernel package and loaders, as lab/prepare makes it.
func drivers(ctx context.Context, dir, root string) error {
	entries, err := os.ReadDir(filepath.Join(root, "lib/modules"))
	if err != nil || len(entries) == 0 {
		return errors.Join(errors.New("there is no kernel package; run `make lab` or lab/prepare first"), err)
	}
	release := entries[len(entries)-1].Name()
	fmt.Println("\n| measured | seconds | beside it | ratio | wanted | peak memory |\n|---|---|---|---|---|---|")
	var reads, depmods []float64
	var read steps.Result
	for range 3 {
		forget()
		seconds, r, err := step(ctx, "drivers-read", root)
		if err != nil {
			return err
		}
		reads, read = append(reads, seconds), r
		forget()
		if seconds, err = shell(ctx, fmt.Sprintf("depmod -n -b %s %s >/dev/null", root, release)); err != nil {
			return err
		}
		depmods = append(depmods, seconds)
	}
	fmt.Printf("| reading all %d modules of kernel %s / depmod over the same files | %s | %s | %.2f | | %d MiB |\n",
		read.Slabs, release, span(reads), span(depmods), median(reads)/median(depmods), read.Peak>>20)
	var matches []float64
	var match steps.Result
	for range 3 {
		seconds, r, err := step(ctx, "drivers-match")
		if err != nil {
			return err
		}
		matches, match = append(matches, seconds), r
	}
	fmt.Printf("| matching %d workstations of %d models against %d packages; of that the matching itself %.2f s | %s | | | under 5 s, 300 MiB | %d MiB |\n",
		steps.Workstations, steps.Models, steps.Packages, match.Written, span(matches), match.Peak>>20)
	layer, base, err := layerTimes(ctx, dir, root, release)
	if err != nil {
		return err
	}
	fmt.Printf("| a layer of drivers (all wireless cards, %d modules) added to a build / the build itself | %s | %s | %.2f | under 2 s | |\n", layer.modules, span(layer.seconds), span(base), median(layer.seconds)/median(base))
	return nil
}

type layerTime struct {
	seconds []float64
	modules int
}

// layerTimes measures a build, and one more with a layer of drivers.
func layerTimes(ctx context.Context, dir, root, release string) (layer layerTime, base []float64, err error) {
	store, err := builds.Open(filepath.Join(dir, "builds"))
	if err != nil {
		return layer, nil, err
	}
	agent, err := exec.LookPath("true")
	if err != nil {
		return layer, nil, err
	}
	tree := os.DirFS(filepath.Join(root, "lib/modules"))
	found, _, err := driver.Find(tree)
	if err != nil {
		return layer, nil, err
	}
	set := driver.Set{System: driver.Linux, Rules: []driver.Rule{{Class: driver.Network}}}
	for n := range 3 {
		from := &builds.Source{}
		if err := from.AddRoot(root); err != nil {
			return layer, nil, err
		}
		began := time.Now()
		b, err := store.Make(ctx, from, builds.Options{Number: 2*n + 1, Created: began, Agent: agent, Kernel: release})
		if err = errors.Join(err, from.Close()); err != nil {
			return layer, nil, err
		}
		base = append(base, time.Since(began).Seconds())
		in, err := store.Inside(b)
		if err != nil {
			return layer, nil, err
		}
		choices := set.Whole(found, nil, in.Target())
		modules, err := driver.Bring(wireless(choices), found, release, in.Names)
		if err != nil {
			return layer, nil, err
		}
		layer.modules = len(modules)
		began = time.Now()
		_, err = store.Extend(b, builds.Extension{Number: 2*n + 2, Created: began, Drivers: []builds.Drivers{{Set: "wireless", Modules: modules,
			Open: func(_ *driver.Package, name string) (io.ReadCloser, error) { return tree.Open(name) }}}})
		if err != nil {
			return layer, nil, err
		}
		layer.seconds = append(layer.seconds, time.Since(began).Seconds())
	}
	return layer, base, nil
}

// wireless keeps the modules of one folder of the kernel's tree.
func wireless(choices []driver.Choice) []driver.Choice {
	for i, c := range choices {
		choices[i].Modules = nil
		for _, m := range c.Package.Modules {
			if ok, _ := filepath.Match("kernel/drivers/net/wireless/*/*/*.ko", m.Path); ok {
				choices[i].Modules = append(choices[i].Modules, m.Name)
			}
		}
	}
	return choices
}
