// Package carry has media be an outpost, with what it needs where no line is: who it is, a build for those who start from it, and
// deliveries with their errands, signed ahead, and all that comes with those.
//
//	c := &carry.Carry{Sites: sites, Orders: orders, …}
//	media, made, err := c.Carry(ctx, build, in, key) // stock.Carrier
//
// The volume for data of such media is the data folder of package outpost.
package carry

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"jugate/api"
	"jugate/core/environment"
	"jugate/core/environment/builds"
	"jugate/core/hwaddr"
	"jugate/core/image"
	"jugate/core/parts"
	"jugate/core/rights"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
	"jugate/service/orders"
)

// Sites know the outposts.
type Sites interface {
	AddOnMedia(ctx context.Context, name, note, service string, life time.Duration) (files map[string][]byte, err error)
	// FreeOnMedia is a name that no outpost has.
	FreeOnMedia(ctx context.Context) (string, error)
	Work(ctx context.Context, name string) (api.OutpostWork, error)
	// Remove forgets an outpost, and ends what it carries.
	Remove(ctx context.Context, name string) error
}

// Orders make deliveries.
type Orders interface {
	Carry(ctx context.Context, outpost string, in api.NewDelivery) (api.Delivery, []orders.CarriedErrand, []orders.CarriedFile, error)
}

// Versions are those of images.
type Versions interface {
	Load(v *records.Version) (*image.Manifest, *image.Map, error)
}

// Signer signs errands.
type Signer interface {
	Sign(kind, pass string, v any) (string, error)
}

// Carry fills the volumes for data. All of its fields are set.
type Carry struct {
	Sites    Sites
	Orders   Orders
	Versions Versions
	Signer   Signer
	Records  *records.DB
	Builds   *builds.Store
	Files    image.Files
	Slabs    slabstore.Slabs
	Program  string // file of the outpost's program
}

// roomAlways is what is left free on each volume, for the outpost's database, in bytes.
const roomAlways = 64 << 20

// Carry is stock.Carrier's.
func (c *Carry) Carry(ctx context.Context, b *builds.Build, in api.NewMedia, key slabstore.Digest) (m builds.Media, out api.MediaMade, made func(error), err error) {
	made = func(error) {}
	if err := rights.CheckEverything(ctx, rights.KeepSites); err != nil {
		return m, out, made, err
	}
	if _, err := os.Stat(c.Program); err != nil {
		return m, out, made, fmt.Errorf("media that are an outpost need its program, which lies beside the service's: %w", err)
	}
	m = builds.Media{Outpost: c.Program, Room: roomAlways + in.Room}
	if out.Outpost = in.Outpost; out.Outpost == "" {
		if out.Outpost, err = c.Sites.FreeOnMedia(ctx); err != nil {
			return m, out, made, err
		}
	}
	m.Settings.Outpost = &environment.Outpost{Name: out.Outpost, Netboot: in.Netboot, Pools: in.Pools, Alone: in.Netboot == "", InMemory: in.Room == 0}
	v := volume{Carry: c, media: &m}
	if in.Deliver != nil { // what is damaged is found before anything is entered
		if err := v.slabs(ctx, in.Deliver.Image); err != nil {
			return m, out, made, err
		}
	}
	who, err := c.Sites.AddOnMedia(ctx, out.Outpost, in.Note, in.Service, time.Duration(in.Hours)*time.Hour)
	if err != nil {
		return m, out, made, err
	}
	made = func(failed error) {
		if failed != nil {
			c.Sites.Remove(context.WithoutCancel(ctx), out.Outpost)
		}
	}
	defer func() {
		if err != nil {
			made(err)
		}
	}()
	for _, name := range slices.Sorted(maps.Keys(who)) {
		v.add(name, who[name])
	}
	carried := api.Carried{Alone: in.Netboot == "", Key: key.String(), Workstations: []api.CarriedWorkstation{}, Files: []api.CarriedFile{}}
	if in.Deliver != nil {
		if out.Delivery, err = v.deliver(ctx, out.Outpost, *in.Deliver, &carried); err != nil {
			return m, out, made, err
		}
	}
	if carried.Work, err = c.Sites.Work(ctx, out.Outpost); err != nil {
		return m, out, made, err
	}
	if err := v.build(b, &carried.Work); err != nil {
		return m, out, made, err
	}
	if err := v.versions(carried.Work); err != nil {
		return m, out, made, err
	}
	text, err := json.Marshal(carried)
	if err != nil {
		return m, out, made, err
	}
	v.add("carried.json", text)
	return m, out, made, nil
}

// volume is one that is being filled.
type volume struct {
	*Carry
	media *builds.Media
	has   map[string]bool
}

// add adds a file of some bytes, and addFile one that is read when it is written. One that is there is not added again.
func (v *volume) add(path string, content []byte) {
	v.addFile(path, int64(len(content)), func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil })
}

func (v *volume) addFile(path string, size int64, open func() (io.ReadCloser, error)) {
	if v.has == nil {
		v.has = map[string]bool{}
	}
	if !v.has[path] {
		v.has[path] = true
		v.media.Data = append(v.media.Data, builds.MediaFile{Path: path, Size: size, Open: open})
	}
}

// slabs adds those of a version, each checked.
func (v *volume) slabs(ctx context.Context, image string) error {
	ref, err := roster.ParseRef(image)
	if err != nil {
		return err
	}
	version, err := v.Records.Version(ctx, ref)
	if err != nil {
		return err
	}
	_, slabs, err := v.Versions.Load(version)
	if err != nil {
		return err
	}
	var scratch []byte
	for _, d := range slabs.Distinct() {
		if err := ctx.Err(); err != nil {
			return err
		}
		frame, err := v.Slabs.Frame(d)
		if err == nil {
			scratch, err = slabstore.ExpandChecked(scratch[:0], frame, d)
		}
		if err != nil {
			return fmt.Errorf("a slab of %s: %w", version.Ref(), err)
		}
		v.addFile("slabs/"+slabstore.FrameFile(d), int64(len(frame)), func() (io.ReadCloser, error) {
			frame, err := v.Slabs.Frame(d)
			return io.NopCloser(bytes.NewReader(frame)), err
		})
	}
	return nil
}

// deliver orders a delivery, and adds what its workstations ask for.
func (v *volume) deliver(ctx context.Context, outpost string, in api.NewDelivery, carried *api.Carried) (int64, error) {
	d, errands, files, err := v.Orders.Carry(ctx, outpost, in)
	if err != nil {
		return 0, err
	}
	for _, e := range errands {
		w := api.CarriedWorkstation{Delivery: e.Errand.Receive.Delivery, Workstation: e.Workstation.ID, Name: e.Workstation.Label(), Serial: e.Workstation.Serial, UUID: e.Workstation.UUID, Keyboard: e.Keyboard,
			Addresses: e.Workstation.Addresses(), Label: e.Errand.Receive.Label, Pass: rand.Text()}
		if w.Addresses == nil {
			w.Addresses = []hwaddr.Address{}
		}
		if w.Signed, err = v.Signer.Sign(api.SignedErrand, w.Pass, e.Errand); err != nil {
			return 0, err
		}
		carried.Workstations = append(carried.Workstations, w)
	}
	for _, f := range files {
		carried.Files = append(carried.Files, api.CarriedFile{Asked: f.Asked, File: api.OutpostFile{Digest: f.Digest, Size: f.Size}})
		v.addFile("files/"+f.Digest.String(), f.Size, f.Open)
	}
	return d.ID, nil
}

// build adds the build that those get who start from the outpost, the only one there at first.
func (v *volume) build(b *builds.Build, work *api.OutpostWork) error {
	text, err := v.Builds.Description(b.Number)
	if err != nil {
		return err
	}
	_, needs, err := builds.Describe(text)
	if err != nil {
		return err
	}
	work.Offered, work.Builds, work.Entries = b.Number, []api.OutpostBuild{{Number: b.Number, Description: text}}, []api.OutpostFile{}
	v.add(fmt.Sprintf("bootenv/builds/%d.json", b.Number), text)
	for _, p := range needs {
		v.addFile("bootenv/parts/"+p.Digest.String(), p.Size, func() (io.ReadCloser, error) {
			c, err := v.Builds.Parts.Open(parts.Part(p))
			if err != nil {
				return nil, err
			}
			return content{io.NewSectionReader(c, 0, c.Size), c}, nil
		})
	}
	return nil
}

type content struct {
	io.Reader
	io.Closer
}

// versions adds manifests and slab maps of what is delivered. Payloads that streams carry are there, as workstations ask for them.
func (v *volume) versions(work api.OutpostWork) error {
	for i := range work.Deliveries {
		d := &work.Deliveries[i]
		d.Before = nil // all slabs are there
		for _, p := range d.Payloads {
			if !v.has["files/"+p.Digest] {
				return fmt.Errorf("the payload %s of delivery %d is not among those that its workstations ask for", p.Digest, d.ID)
			}
		}
		manifest, slabs := v.Files.Paths(roster.Ref{Image: d.Image, Version: d.Version})
		for path, f := range map[string]api.OutpostFile{manifest: d.Manifest, slabs: d.Map} {
			v.addFile("files/"+f.Digest.String(), f.Size, func() (io.ReadCloser, error) { return os.Open(path) })
		}
	}
	return nil
}
