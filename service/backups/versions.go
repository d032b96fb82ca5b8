package backups

import (
	"context"
	"fmt"

	"jugate/core/backup"
	"jugate/core/image"
	"jugate/core/objects"
	"jugate/core/roster"
)

// within has the paths that the files of versions have in a backup.
var within = image.Files{Dir: "images"}

func mapOf(version string) string {
	ref, err := roster.ParseRef(version)
	if err != nil {
		return ""
	}
	_, slabs := within.Paths(ref)
	return slabs
}

// versionIn reads the slab map of a version from a backup; nothing if it has gone while that was made.
func versionIn(ctx context.Context, from objects.Store, files map[string]backup.File, name string) (*image.Map, error) {
	ref, err := roster.ParseRef(name)
	if err != nil {
		return nil, err
	}
	manifest, slabs := within.Paths(ref)
	m, there := files[manifest]
	s, too := files[slabs]
	if !there || !too {
		return nil, nil
	}
	text, err := backup.ReadFile(ctx, from, m)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", manifest, err)
	}
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", manifest, err)
	}
	raw, err := backup.ReadFile(ctx, from, s)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", slabs, err)
	}
	return image.ParseMap(raw, man)
}
