package image

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"

	lru "github.com/hashicorp/golang-lru/v2"

	"jugate/core/slabstore"
)

// Frames is where the frames of slabs come from: a store, or a packed image.
type Frames interface {
	Frame(d slabstore.Digest) ([]byte, error)
}

// View is an area of an image, read from its slabs without writing it to a disk:
// what no slab has is zero. It is for one goroutine.
type View struct {
	from  Frames
	slabs []Slab // of the area, that are stored, in order
	area  Area
	size  int64 // of a slab's stretch

	plain *lru.Cache[slabstore.Digest, []byte]
}

// viewCache is how many slabs a View keeps, of SlabSize bytes each.
const viewCache = 16

// NewView opens the area that a partition has become.
func NewView(m *Manifest, slabs *Map, partition int, from Frames) (*View, error) {
	i := slices.IndexFunc(m.Areas, func(a Area) bool { return a.Partition == partition })
	if i < 0 {
		return nil, fmt.Errorf("the image has no partition %d", partition)
	}
	plain, err := lru.New[slabstore.Digest, []byte](viewCache)
	if err != nil {
		return nil, err
	}
	v := &View{from: from, area: m.Areas[i], size: m.SlabSize, plain: plain}
	for n := range slabs.Len() {
		if s := slabs.Slab(n); s.Area == i && !s.Zero {
			v.slabs = append(v.slabs, s)
		}
	}
	return v, nil
}

// Area is what the view is of.
func (v *View) Area() Area { return v.area }

// ReadAt reads from the area.
func (v *View) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= v.area.Size {
		return 0, io.EOF
	}
	n := int(min(int64(len(b)), v.area.Size-off))
	clear(b[:n])
	first := sort.Search(len(v.slabs), func(i int) bool { return v.slabs[i].Start+v.size > off })
	for _, s := range v.slabs[first:] {
		if s.Start >= off+int64(n) {
			break
		}
		if err := v.copy(b[:n], off, s); err != nil {
			return 0, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// copy puts what a slab has of b's bytes into b.
func (v *View) copy(b []byte, off int64, s Slab) error {
	var plain []byte
	at := int64(0) // in plain
	for _, e := range s.Extents {
		from, to := max(e.Start, off), min(e.End(), off+int64(len(b)))
		if from < to {
			if plain == nil {
				var err error
				if plain, err = v.expand(s.Digest); err != nil {
					return err
				}
			}
			if at+e.Length > int64(len(plain)) {
				return fmt.Errorf("%w: slab %s is shorter than the map says", ErrManifest, s.Digest.Short())
			}
			copy(b[from-off:to-off], plain[at+from-e.Start:at+to-e.Start])
		}
		at += e.Length
	}
	return nil
}

func (v *View) expand(d slabstore.Digest) ([]byte, error) {
	if plain, known := v.plain.Get(d); known {
		return plain, nil
	}
	frame, err := v.from.Frame(d)
	if err != nil {
		return nil, err
	}
	plain, err := slabstore.ExpandChecked(nil, frame, d)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("slab %s", d.Short()), err)
	}
	v.plain.Add(d, plain)
	return plain, nil
}
