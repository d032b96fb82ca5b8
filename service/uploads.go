package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugate/core/fault"

	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/durable"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// upload is a version on its way into the store: a workstation's capture, or what
// a person imports.
type upload struct {
	key         string // names it among all that are open
	image, note string
	errand      *records.Errand // of a capture
}

func uploadOf(errand int64) string { return fmt.Sprintf("errand-%d", errand) }

// openCapture returns the capture that the caller is doing; anything else, an
// errand that was stopped included, is a problem.
func (s *Service) openCapture(ctx context.Context, id int64) (*records.Errand, error) {
	return s.openErrand(ctx, id, records.ErrandCapture)
}

// openErrand finds an errand of the calling workstation that is running.
func (s *Service) openErrand(ctx context.Context, id int64, kinds ...string) (*records.Errand, error) {
	e, err := s.records.Errand(ctx, id)
	if err != nil {
		return nil, err
	}
	if e.WorkstationID != caller(ctx) || !slices.Contains(kinds, e.Kind) {
		return nil, fault.Forbidden.Errorf("errand %d is not a %s of this workstation", id, strings.Join(kinds, " or "))
	}
	if e.State != records.ErrandRunning {
		return nil, fault.Conflict.Errorf("errand %d is %s", id, e.State)
	}
	return e, nil
}

func (s *Service) missingSlabs(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.Digests
}) (*reply[api.Digests], error) {
	if _, err := s.openCapture(ctx, in.ID); err != nil {
		return nil, problem(err)
	}
	return answer(s.missing(uploadOf(in.ID), in.Body))
}

// missing tells which slabs the store lacks, and keeps those it has from being
// swept while the upload is open.
func (s *Service) missing(upload string, ask api.Digests) (api.Digests, error) {
	missing := api.Digests{Digests: []string{}}
	for _, text := range ask.Digests {
		d, err := slabstore.ParseDigest(text)
		if err != nil {
			return missing, fault.Invalid.Mark(err)
		}
		s.pins.pin(upload, d)
		if !s.slabs.Has(d) {
			missing.Digests = append(missing.Digests, text)
		}
	}
	return missing, nil
}

func (s *Service) failErrand(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.Failure
}) (*struct{}, error) {
	e, err := s.failing(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	if err := s.records.EndErrand(ctx, s.config.Now(), e.ID, records.ErrandFailed, in.Body.Error); err != nil {
		return nil, problem(err)
	}
	s.log.Warn("errand failed", "kind", e.Kind, "workstation", e.Workstation, "image", e.Image, "errand", e.ID, "error", in.Body.Error)
	s.captures.take(uploadOf(e.ID))
	s.pins.release(uploadOf(e.ID))
	os.Remove(s.uploadedMap(uploadOf(e.ID)))
	s.tellErrand(ctx, e.ID)
	return nil, nil
}

// failing finds the errand that an agent cannot do: any kind but a delivery's part, which
// reports there.
func (s *Service) failing(ctx context.Context, id int64) (*records.Errand, error) {
	e, err := s.records.Errand(ctx, id)
	if err != nil {
		return nil, err
	}
	if e.Kind == records.ErrandReceive {
		return nil, fault.Forbidden.Errorf("errand %d is part of a delivery, which is told how it ends", id)
	}
	return s.openErrand(ctx, id, e.Kind)
}

// body reads a capture's request with a body of raw bytes.
func (s *Service) body(w http.ResponseWriter, r *http.Request, limit int64) (*upload, []byte, error) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		return nil, nil, fault.NotFound.Errorf("there is no such errand")
	}
	e, err := s.openCapture(r.Context(), id)
	if err != nil {
		return nil, nil, err
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	var tooLong *http.MaxBytesError
	if errors.As(err, &tooLong) {
		err = fault.TooLarge.Errorf("more than %d bytes", limit)
	} else if err != nil {
		err = fault.CutOff.Errorf("the request was cut off")
	}
	return &upload{key: uploadOf(id), image: e.Image, note: e.Note, errand: e}, body, err
}

// slabInPath is the slab that a plain request is about.
func slabInPath(r *http.Request) (slabstore.Digest, error) {
	d, err := slabstore.ParseDigest(chi.URLParam(r, "digest"))
	if err != nil {
		err = fault.Invalid.Mark(err)
	}
	return d, err
}

func (s *Service) putSlab(w http.ResponseWriter, r *http.Request) {
	u, frame, err := s.body(w, r, 2*slabstore.MaxSlab)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d, err := slabInPath(r)
	if err == nil {
		err = s.mayStore(r.Context(), u, int64(len(frame)))
	}
	if err == nil {
		err = s.store(u.key, d, frame)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// quotaBeyond is what a capture may store beyond the size of its workstation's disks:
// frames of slabs that cannot be compressed are a little longer.
const quotaBeyond = 64 << 20

// mayStore keeps a capture from storing more than its workstation has disks.
func (s *Service) mayStore(ctx context.Context, u *upload, n int64) error {
	if u.errand == nil {
		return nil
	}
	quota := s.captures.quota(u.key)
	if quota == 0 {
		w, err := s.records.Workstation(ctx, u.errand.WorkstationID)
		if err != nil {
			return err
		}
		var inv api.Inventory
		if err := json.Unmarshal([]byte(w.Inventory), &inv); err != nil {
			return err
		}
		quota = quotaBeyond
		for _, d := range inv.Disks {
			quota += d.Size
		}
		s.captures.setQuota(u.key, quota)
	}
	if stored := s.captures.stored(u.key); stored+n > quota {
		return fault.TooLarge.Errorf("this capture has stored %d bytes, more than the workstation's disks have", stored)
	}
	return nil
}

// store takes a slab of an upload.
func (s *Service) store(upload string, d slabstore.Digest, frame []byte) error {
	if err := s.roomForSlabs(); err != nil {
		return err
	}
	s.pins.pin(upload, d)
	added, err := s.slabs.Put(d, frame)
	if added {
		s.captures.count(upload, int64(len(frame)))
	}
	return err
}

func (s *Service) uploadedMap(upload string) string {
	return filepath.Join(s.config.Data, "uploads", upload+".map")
}

func (s *Service) putMap(w http.ResponseWriter, r *http.Request) {
	u, raw, err := s.body(w, r, image.MaxMap)
	if err == nil {
		err = durable.Write(s.uploadedMap(u.key), raw, 0o640)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// putManifest makes a capture a version.
func (s *Service) putManifest(w http.ResponseWriter, r *http.Request) {
	u, text, err := s.body(w, r, image.MaxManifest)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v, err := s.commit(r.Context(), u, text)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.tellErrand(r.Context(), u.errand.ID)
	writeJSON(w, http.StatusOK, "application/json", api.Committed{Image: v.Image, Version: v.Number, Digest: v.Digest})
}

// commit checks that an upload is whole, writes its files, and then makes it
// visible in one transaction. What the manifest of a capture says of its source
// and time is replaced by what the service knows; that of an import stays as it
// is, so that one version has one digest everywhere.
func (s *Service) commit(ctx context.Context, u *upload, text []byte) (*records.Version, error) {
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(s.uploadedMap(u.key))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.Conflict.Errorf("the slab map has to come before the manifest")
	} else if err != nil {
		return nil, err
	}
	slabs, err := image.ParseMap(raw, man)
	if err != nil {
		return nil, err
	}
	for i, d := range slabs.Distinct() {
		s.pins.pin(u.key, d)
		if !s.slabs.Has(d) {
			return nil, fault.Conflict.Errorf("slab %d (%s) is not in the store; try again, which sends just what is missing", i, d.Short())
		}
	}
	if err := s.slabs.Flush(); err != nil {
		return nil, err
	}
	if u.errand != nil {
		source, err := s.records.Workstation(ctx, u.errand.WorkstationID)
		if err != nil {
			return nil, err
		}
		man.Captured = s.config.Now().UTC().Truncate(time.Second)
		man.Source = image.Source{Workstation: source.Name, Address: source.Address(), Model: source.Model}
		if man.Despite != nil {
			man.Despite.By = administrator
		}
		if text, err = man.Encode(); err != nil {
			return nil, err
		}
	}

	s.captures.commit.Lock()
	defer s.captures.commit.Unlock()
	number, err := s.records.NextVersion(ctx, u.image)
	if err != nil {
		return nil, err
	}
	ref := roster.Ref{Image: u.image, Version: number}
	if err := s.files.Save(ref, text, raw); err != nil {
		return nil, err
	}
	v := recorded(ref, man, text)
	v.Note = u.note
	counts := s.captures.take(u.key)
	v.NewSlabs, v.StoredBytes = counts.slabs, counts.bytes
	errand := int64(0)
	if u.errand != nil {
		errand = u.errand.ID
	}
	if err := s.records.AddVersion(ctx, s.config.Now(), errand, v); err != nil {
		return nil, err
	}
	if v.Note != "" {
		if err := s.keepState(ctx, ref); err != nil {
			s.log.Warn("what was said of a version cannot be kept beside it", "image", ref, "error", err)
		}
	}
	s.pins.release(u.key)
	s.log.Info("version committed", "image", v.Ref(), "workstation", v.Workstation, "used_bytes", v.UsedBytes, "new_slabs", v.NewSlabs)
	s.events.publish(version(v))
	return &v, os.Remove(s.uploadedMap(u.key))
}

// recorded is what the records say of a version, from its manifest.
func recorded(ref roster.Ref, man *image.Manifest, text []byte) records.Version {
	v := records.Version{
		Image: ref.Image, Number: ref.Version, Digest: slabstore.Sum(text).String(), Captured: man.Captured,
		Workstation: man.Source.Workstation, DiskBytes: man.Table.DiskSize(), UsedBytes: man.UsedBytes, Slabs: man.Slabs,
		Unreadable: man.UnreadableBytes(),
	}
	if man.Despite != nil {
		v.Despite = man.Despite.Reason
	}
	return v
}
