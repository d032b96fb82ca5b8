package stores

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/objects"
	"jugate/records"
)

// markName is the object that says whose store it is: a folder that is not mounted, or another
// service's store, has none, or another one.
const markName = "jugate-store.json"

type mark struct {
	Format  string `json:"format"`
	Service string `json:"service"`
}

const format = "jugate store 1"

// claim makes a store this service's, or sees that it is.
func (s *Stores) claim(ctx context.Context, store objects.Store) error {
	raw, err := objects.Read(ctx, store, markName, 4096)
	if errors.Is(err, objects.ErrNotFound) {
		text, err := json.Marshal(mark{format, s.Service})
		if err != nil {
			return err
		}
		_, err = store.Put(ctx, markName, text, objects.Absent)
		return err
	}
	if err != nil {
		return err
	}
	var m mark
	if err := json.Unmarshal(raw, &m); err != nil || m.Format != format {
		return fault.Conflict.Errorf("%s there is not that of a store", markName)
	}
	if m.Service != s.Service {
		return fault.Conflict.Errorf("the place is another service's: take one of your own")
	}
	return nil
}

// probe tries all that is asked of a store, with an object of its own, and tells what is wrong.
func probe(ctx context.Context, store objects.Store) (faults []string) {
	name := "probes/" + rand.Text()
	content := bytes.Repeat([]byte("herbarium "), 1000)
	wrong := func(format string, args ...any) { faults = append(faults, fmt.Sprintf(format, args...)) }
	tag, err := store.Put(ctx, name, content, objects.Absent)
	if err != nil {
		return append(faults, err.Error())
	}
	defer func() {
		if err := store.Remove(context.WithoutCancel(ctx), name); err != nil {
			wrong("%v", err)
		}
	}()
	if back, err := objects.Read(ctx, store, name, int64(len(content))); err != nil {
		wrong("%v", err)
	} else if !bytes.Equal(back, content) {
		wrong("what was written is not what is read")
	}
	if r, err := store.Open(ctx, name, 10, 9); err != nil {
		wrong("%v", err)
	} else {
		part := new(bytes.Buffer)
		part.ReadFrom(r)
		r.Close()
		if part.String() != "herbarium" {
			wrong("a part of an object is not what was asked for: %d bytes", part.Len())
		}
	}
	if _, err := store.Put(ctx, name, []byte("second"), objects.Absent); !errors.Is(err, objects.ErrCondition) {
		wrong("it writes over an object although there must be none: two services could both believe to be the one (%v)", err)
	}
	if tag, err = store.Put(ctx, name, []byte("second"), objects.Condition(tag)); err != nil {
		wrong("it does not write in the place of an object that is as expected: %v", err)
	}
	if _, err := store.Put(ctx, name, []byte("third"), objects.Condition(strings.Repeat("0", len(tag)))); !errors.Is(err, objects.ErrCondition) {
		wrong("it writes over an object that is not as expected (%v)", err)
	}
	listed := false
	for o, err := range store.List(ctx, "probes/") {
		if err != nil {
			wrong("%v", err)
			break
		}
		listed = listed || o.Name == name
	}
	if !listed {
		wrong("its list lacks an object that is there")
	}
	return faults
}

// maxFaults is how many faults a check lists.
const maxFaults = 100

// Check tries what is asked of a store, learns anew what is in it, and holds the versions that are
// there against that. It reads every slab of theirs if that is wanted.
func (s *Stores) Check(ctx context.Context, name string, in api.NewStoreCheck) (api.StoreCheck, error) {
	out := api.StoreCheck{Faults: []string{}}
	o, err := s.opened(name)
	if err != nil {
		if strings.EqualFold(name, records.FolderStore) {
			err = fault.Invalid.Errorf("what is in the data folder is checked by version: jugate image verify")
		}
		return out, err
	}
	known, err := s.Show(ctx, name)
	if err != nil {
		return out, err
	}
	out.Store, out.Faults = known.Name, append(out.Faults, probe(ctx, o.objects)...)
	s.changing.Lock()
	err = s.learn(ctx, o)
	s.note(o, err)
	s.changing.Unlock()
	if err != nil {
		out.Faults = append(out.Faults, err.Error())
		return out, nil
	}
	versions, err := s.Records.AllVersions(ctx)
	if err != nil {
		return out, err
	}
	for _, v := range versions {
		if v.Pruned.Valid || v.Store != known.Name {
			continue
		}
		_, slabs, err := s.Versions.Load(&v)
		if err != nil {
			out.Faults = append(out.Faults, fmt.Sprintf("%s: %v", v.Ref(), err))
			continue
		}
		missing := 0
		for _, d := range slabs.Distinct() {
			if err := ctx.Err(); err != nil {
				return out, err
			}
			if o.packs.Has(d) && in.Read {
				size, err := s.Slabs.CheckBehind(o.packs, d)
				out.Slabs, out.Bytes = out.Slabs+1, out.Bytes+size
				if err != nil && len(out.Faults) < maxFaults {
					out.Faults = append(out.Faults, fmt.Sprintf("%s: %v", v.Ref(), err))
				}
			} else if !o.packs.Has(d) {
				missing++
			}
		}
		if missing > 0 {
			out.Faults = append(out.Faults, fmt.Sprintf("%s lacks %d of %d slabs there; jugate store move folder %s, and back, mends it as long as the data folder has them", v.Ref(), missing, slabs.Len(), v.Ref()))
		}
	}
	if out.Sound = len(out.Faults) == 0; !out.Sound {
		s.Log.Error("a store is not sound", "store", out.Store, "faults", len(out.Faults))
	}
	return out, nil
}
