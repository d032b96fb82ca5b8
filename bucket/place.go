package bucket

import (
	"path/filepath"
	"strings"

	"jugate/core/fault"
	"jugate/core/objects"
)

// OpenPlace opens what is at a place: a bucket, given by a URL, or a folder, given by its whole path.
func OpenPlace(place, region, key, secret string) (objects.Store, error) {
	if strings.Contains(place, "://") {
		return Open(Config{URL: place, Region: region, Key: key, Secret: secret})
	}
	if !filepath.IsAbs(place) {
		return nil, fault.Invalid.Errorf("a folder is given by its whole path, not as %q", place)
	}
	return objects.OpenFolder(place), nil
}
