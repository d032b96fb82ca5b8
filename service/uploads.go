package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/image"
	"jugate/core/roster"
	"jugate/core/slabstore"
	"jugate/records"
)

// openCapture returns the capture that the caller is doing; anything else, an
// errand that was stopped included, is a problem.
func (s *Service) openCapture(ctx context.Context, id int64) (*records.Errand, error) {
	e, err := s.records.Errand(ctx, id)
	if err != nil {
		return nil, err
	}
	if e.WorkstationID != caller(ctx) || e.Kind != records.ErrandCapture {
		return nil, huma.Error403Forbidden(fmt.Sprintf("errand %d is not a capture of this workstation", id))
	}
	if e.State != records.ErrandRunning {
		return nil, huma.Error409Conflict(fmt.Sprintf("errand %d is %s", id, e.State))
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
	missing := api.Digests{Digests: []string{}}
	for _, text := range in.Body.Digests {
		d, err := slabstore.ParseDigest(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		if !s.slabs.Has(d) {
			missing.Digests = append(missing.Digests, text)
		}
	}
	return answer(missing, nil)
}

func (s *Service) failErrand(ctx context.Context, in *struct {
	ID   int64 `path:"id"`
	Body api.Failure
}) (*struct{}, error) {
	e, err := s.openCapture(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	if err := s.records.EndErrand(ctx, s.config.Now(), e.ID, records.ErrandFailed, in.Body.Error); err != nil {
		return nil, problem(err)
	}
	s.log.Warn("capture failed", "workstation", e.Workstation, "image", e.Image, "errand", e.ID, "error", in.Body.Error)
	s.captures.take(e.ID)
	os.Remove(s.uploadedMap(e.ID))
	s.tellErrand(ctx, e.ID)
	return nil, nil
}

// upload is a capture's request with a body of raw bytes.
func (s *Service) upload(w http.ResponseWriter, r *http.Request, limit int64) (*records.Errand, []byte, error) {
	id, err := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	if err != nil {
		return nil, nil, huma.Error404NotFound("there is no such errand")
	}
	e, err := s.openCapture(r.Context(), id)
	if err != nil {
		return nil, nil, err
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	var tooLong *http.MaxBytesError
	if errors.As(err, &tooLong) {
		err = huma.NewError(http.StatusRequestEntityTooLarge, fmt.Sprintf("more than %d bytes", limit))
	} else if err != nil {
		err = huma.Error400BadRequest("the request was cut off")
	}
	return e, body, err
}

// slabInPath is the slab that a plain request is about.
func slabInPath(r *http.Request) (slabstore.Digest, error) {
	d, err := slabstore.ParseDigest(chi.URLParam(r, "digest"))
	if err != nil {
		err = huma.Error422UnprocessableEntity(err.Error())
	}
	return d, err
}

func (s *Service) putSlab(w http.ResponseWriter, r *http.Request) {
	e, frame, err := s.upload(w, r, 2*slabstore.MaxSlab)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d, err := slabInPath(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	added, err := s.slabs.Put(d, frame)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	if added {
		s.captures.count(e.ID, int64(len(frame)))
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Service) uploadedMap(errand int64) string {
	return filepath.Join(s.config.Data, "uploads", fmt.Sprintf("errand-%d.map", errand))
}

func (s *Service) putMap(w http.ResponseWriter, r *http.Request) {
	e, raw, err := s.upload(w, r, image.MaxMap)
	if err == nil {
		err = os.WriteFile(s.uploadedMap(e.ID), raw, 0o640)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// putManifest makes a capture a version.
func (s *Service) putManifest(w http.ResponseWriter, r *http.Request) {
	e, text, err := s.upload(w, r, image.MaxManifest)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v, err := s.commit(r.Context(), e, text)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.log.Info("version committed", "image", v.Ref(), "workstation", v.Workstation, "used_bytes", v.UsedBytes, "new_slabs", v.NewSlabs)
	s.events.publish(version(*v))
	s.tellErrand(r.Context(), e.ID)
	writeJSON(w, http.StatusOK, "application/json", api.Committed{Image: v.Image, Version: v.Number, Digest: v.Digest})
}

// commit checks that a capture is whole, writes its files, and then makes it
// visible in one transaction. What the manifest says of its source and time is
// replaced by what the service knows.
func (s *Service) commit(ctx context.Context, e *records.Errand, text []byte) (*records.Version, error) {
	man, err := image.ParseManifest(text)
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(s.uploadedMap(e.ID))
	if errors.Is(err, os.ErrNotExist) {
		return nil, huma.Error409Conflict("the slab map has to come before the manifest")
	} else if err != nil {
		return nil, err
	}
	slabs, err := image.ParseMap(raw, man)
	if err != nil {
		return nil, err
	}
	for i, d := range slabs.Distinct() {
		if !s.slabs.Has(d) {
			return nil, huma.Error409Conflict(fmt.Sprintf("slab %d (%s) is not in the store; capture again", i, d.Short()))
		}
	}
	if err := s.slabs.Flush(); err != nil {
		return nil, err
	}
	source, err := s.records.Workstation(ctx, e.WorkstationID)
	if err != nil {
		return nil, err
	}
	man.Captured = s.config.Now().UTC().Truncate(time.Second)
	man.Source = image.Source{Workstation: source.Name, Address: source.Addresses()[0], Model: source.Model}
	if text, err = man.Encode(); err != nil {
		return nil, err
	}

	s.captures.commit.Lock()
	defer s.captures.commit.Unlock()
	number, err := s.records.NextVersion(ctx, e.Image)
	if err != nil {
		return nil, err
	}
	ref := roster.Ref{Image: e.Image, Version: number}
	if err := s.files.Save(ref, text, raw); err != nil {
		return nil, err
	}
	counts := s.captures.take(e.ID)
	v := records.Version{
		Image: e.Image, Number: number, Digest: slabstore.Sum(text).String(), Captured: man.Captured,
		Workstation: source.Name, Note: e.Note, DiskBytes: int64(man.Table.Sectors) * int64(man.Table.SectorSize),
		UsedBytes: man.UsedBytes, Slabs: man.Slabs, NewSlabs: counts.slabs, StoredBytes: counts.bytes,
	}
	if err := s.records.AddVersion(ctx, s.config.Now(), e.ID, v); err != nil {
		return nil, err
	}
	return &v, os.Remove(s.uploadedMap(e.ID))
}
