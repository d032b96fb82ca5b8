package web

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/check"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/rights"
	"jugate/core/slabstore"
	"jugate/oneport"
	"jugate/records"
	"jugate/service/access"
	"jugate/service/fleet"
	"jugate/service/intake"
	"jugate/stream"
)

// callerKey is where requirePass puts the number of the calling workstation.
type callerKey struct{}

func caller(ctx context.Context) int64 { return ctx.Value(callerKey{}).(int64) }

// WithPass is the input of an operation that needs to know the pass itself.
type WithPass struct {
	Authorization string `header:"Authorization"`
}

func (s *Server) requirePass(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id, err := s.Fleet.Enter(agentOf(r.Context()), bearer(r.Header.Get("Authorization")))
		if err != nil {
			s.fail(w, r, err)
			return
		}
		if by := agentOf(r.Context()); len(by.Ends) > 0 {
			s.Orders.Ends(id, by.Ends)
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, id)))
	})
}

// requireAdmitted lets workstations of the roster through, and no newcomers.
func (s *Server) requireAdmitted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := s.Fleet.MustBeAdmitted(caller(r.Context())); err != nil {
			s.fail(w, r, err)
			return
		}
		next.ServeHTTP(w, r)
	})
}

const (
	// checkInAtMost is how long a check-in may be, in bytes: an inventory has some hundred
	// devices.
	checkInAtMost = 256 << 10
	// arrivalAtMost bounds the report of a first start, in bytes.
	arrivalAtMost = 16 << 10
	lackingAtMost = 4 << 20
	// checkedAtMost bounds what a check has found out: speeds, faults and places, some hundred of each.
	checkedAtMost = 128 << 10
	// ranAtMost bounds how a command has ended, with 64 KiB of output in JSON.
	ranAtMost = 512 << 10
	// trialBytesAtMost is how much a check of the network may fetch.
	trialBytesAtMost = 64 << 20
)

func (s *Server) agentAPI(r chi.Router) {
	within := func(r chi.Router) huma.API {
		c := huma.DefaultConfig("Jugate agents", s.Version)
		c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", "", nil
		return humachi.New(r, c)
	}
	does(s, within(r), limited(op("POST", "/arrival", "arrival", "", ""), arrivalAtMost),
		func(ctx context.Context, in *struct {
			WithPass
			Body api.ArrivalReport
		}) error {
			return s.Orders.Arrive(ctx, bearer(in.Authorization), agentOf(ctx).Key, in.Body)
		})
	answers(s, within(r), op("GET", "/helper", "helper", "", ""),
		func(ctx context.Context, in *struct {
			Boot string `query:"boot" maxLength:"64"`
			Has  int64  `query:"has" minimum:"0"`
		}) (api.HelperWish, error) {
			return s.Fleet.HelperAsks(ctx, agentOf(ctx).Key, in.Boot, in.Has)
		})
	answers(s, within(r), limited(op("POST", "/check-in", "check-in", "", ""), checkInAtMost),
		func(ctx context.Context, in *struct{ Body api.CheckIn }) (api.CheckedIn, error) {
			return s.Fleet.CheckIn(ctx, agentOf(ctx), in.Body)
		})
	r.Group(func(r chi.Router) {
		r.Use(s.requirePass)
		s.anyAgent(within(r))
		r.Group(func(r chi.Router) {
			r.Use(s.requireAdmitted)
			s.admittedAgent(within(r))
			r.Put("/errands/{id}/slabs/{digest}", s.uploads(2*slabstore.MaxSlab, s.putSlab))
			r.Put("/errands/{id}/map", s.uploads(image.MaxMap, s.putMap))
			r.Put("/errands/{id}/folders", s.putFolders)
			r.Get("/errands/{id}/folders", s.getFolders)
			r.Put("/errands/{id}/manifest", s.uploads(image.MaxManifest, s.putManifest))
			r.Get("/errands/{id}/trial-bytes", s.getTrialBytes)
			r.Get("/drivers/{id}/files/*", s.getDriverFile)
			r.Get("/payloads/{digest}", s.getPayload)
			r.Group(func(r chi.Router) {
				r.Use(s.servedHere)
				s.receivingAgent(within(r))
				r.Get("/deliveries/{id}/manifest", s.getVersionFile(func(manifest, _ string) string { return manifest }))
				r.Get("/deliveries/{id}/map", s.getVersionFile(func(_, slabs string) string { return slabs }))
				r.Get("/deliveries/{id}/bases", s.getBases)
				r.Get("/deliveries/{id}/slabs/{digest}", s.getSlab)
				r.Get("/deliveries/{id}/pieces/{number}", s.getPiece)
			})
		})
	})
}

// anyAgent are the operations of all who have a pass.
func (s *Server) anyAgent(h huma.API) {
	answers(s, h, op("GET", "/standing", "standing", "", ""), func(ctx context.Context, in *WithPass) (api.Standing, error) {
		now, err := s.Fleet.Standing(ctx, caller(ctx))
		if err == nil && now.Errand != nil {
			now.Signed, err = s.Access.Signer.Sign(api.SignedErrand, bearer(in.Authorization), now.Errand)
		}
		return now, err
	})
	does(s, h, op("POST", "/activity", "activity", "", ""), func(ctx context.Context, in *struct{ Body api.Activity }) error {
		s.Fleet.Active(ctx, caller(ctx), in.Body)
		return nil
	})
	huma.Register(h, op("POST", "/sign-in", "sign-in", "", ""), func(ctx context.Context, in *struct{ Body api.Typed }) (*reply[api.SignedIn], error) {
		out, err := s.signInAt(ctx, in.Body)
		switch {
		case errors.Is(err, access.ErrCode):
			return nil, &huma.ErrorModel{Type: api.CodeNeeded, Title: http.StatusText(http.StatusForbidden), Status: http.StatusForbidden, Detail: err.Error()}
		case err != nil:
			return nil, s.problem(err, "sign-in")
		}
		return &reply[api.SignedIn]{out}, nil
	})
	answers(s, h, op("GET", "/boot-entries", "boot-entries", "", ""), func(ctx context.Context, _ *struct{}) ([]api.BootEntryAt, error) {
		w, err := s.Records.Workstation(ctx, caller(ctx))
		if err != nil {
			return nil, err
		}
		by, _, holder, err := s.Fleet.SignedInAt(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		if by == (actor.Actor{}) {
			holder = &rights.Holder{}
		}
		return s.Stock.EntriesAt(ctx, *w, holder)
	})
	does(s, h, op("POST", "/wish", "wish", "", ""),
		func(ctx context.Context, in *struct{ Body api.Wish }) error {
			by, err := s.Orders.Wish(ctx, caller(ctx), in.Body)
			if err != nil {
				return err
			}
			details, err := json.Marshal(in.Body)
			if err != nil {
				return err
			}
			return s.noteAt(ctx, by, "wish", string(details))
		})
}

// signInAt lets somebody in at a workstation.
func (s *Server) signInAt(ctx context.Context, typed api.Typed) (api.SignedIn, error) {
	id := caller(ctx)
	w, err := s.Records.Workstation(ctx, id)
	if err != nil {
		return api.SignedIn{}, err
	}
	c, err := s.Access.SignIn(ctx, id, w.Label(), peer(ctx), typed)
	if err != nil {
		return api.SignedIn{}, err
	}
	s.Fleet.SignIn(id, fleet.SignedIn{By: c.Actor, Person: c.Person, Holder: func(ctx context.Context) (*rights.Holder, error) { return s.Access.HolderNow(ctx, c) }})
	images, err := s.Access.ImagesFor(rights.With(ctx, c.Holder), id)
	if err != nil {
		return api.SignedIn{}, err
	}
	orders, err := s.Orders.ThereFor(rights.With(ctx, c.Holder), *w)
	if err != nil {
		return api.SignedIn{}, err
	}
	entries, err := s.Stock.EntriesAt(ctx, *w, c.Holder)
	if err != nil {
		return api.SignedIn{}, err
	}
	return api.SignedIn{Images: images, Orders: orders, Entries: entries, Bench: w.State.Unknown()}, s.noteAt(ctx, c.Actor, "sign-in", "{}")
}

// noteAt writes a line of the logbook for what somebody has done at a workstation.
func (s *Server) noteAt(ctx context.Context, by actor.Actor, operation, details string) error {
	w, err := s.Records.Workstation(ctx, caller(ctx))
	if err != nil {
		return err
	}
	_, err = s.Records.AddLine(context.WithoutCancel(ctx), records.Line{At: s.Now(), Who: by.String(), Kind: string(by.Kind), From: peer(ctx).String(), Through: "workstation", Operation: operation, Subject: "workstation " + w.Label(), Details: details})
	return err
}

// admittedAgent are the operations of workstations of the roster.
func (s *Server) admittedAgent(h huma.API) {
	answers(s, h, op("POST", "/errands/{errand}/missing", "missing", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Digests
	}) (api.Digests, error) {
		u, err := s.Intake.OpenCapture(ctx, caller(ctx), in.ID)
		if err != nil {
			return api.Digests{}, err
		}
		return s.Intake.Missing(u, in.Body)
	})
	does(s, h, op("POST", "/errands/{errand}/fail", "fail", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Failure
	}) error {
		return s.Orders.Fail(ctx, caller(ctx), in.ID, in.Body.Error)
	})
	does(s, h, op("POST", "/errands/{errand}/brought", "brought", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Installed
	}) error {
		return s.Orders.Brought(ctx, caller(ctx), in.ID, in.Body)
	})
	does(s, h, op("POST", "/errands/{errand}/under", "under", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Activity
	}) error {
		return s.Orders.Under(ctx, caller(ctx), in.ID, in.Body)
	})
	answers(s, h, op("POST", "/errands/{errand}/trial", "trial", "", ""), func(ctx context.Context, in *ErrandRef) (api.Trial, error) {
		if agentOf(ctx).Outpost != "" { // no multicast of the service's goes there
			return api.Trial{}, s.Orders.Under(ctx, caller(ctx), in.ID, api.Activity{Text: "checking the network"})
		}
		return s.Orders.Trial(ctx, caller(ctx), in.ID)
	})
	answers(s, h, limited(op("POST", "/errands/{errand}/checked", "checked", "", ""), checkedAtMost), func(ctx context.Context, in *struct {
		ErrandRef
		Body check.Result
	}) (api.Judged, error) {
		return s.Orders.Checked(ctx, caller(ctx), in.ID, in.Body)
	})
	does(s, h, limited(op("POST", "/errands/{errand}/ran", "ran", "", ""), ranAtMost), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.CommandEnded
	}) error {
		return s.Orders.Ran(ctx, caller(ctx), in.ID, in.Body)
	})
	does(s, h, op("POST", "/errands/{errand}/wiped", "wiped", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Wiped
	}) error {
		return s.Orders.Wiped(ctx, caller(ctx), in.ID, in.Body)
	})
	does(s, h, op("POST", "/errands/{errand}/put", "installed", "", ""), func(ctx context.Context, in *struct {
		ErrandRef
		Body api.Installed
	}) error {
		return s.Orders.Installed(ctx, caller(ctx), in.ID, in.Body)
	})
	answers(s, h, op("POST", "/lacks", "lacks", "", ""), func(_ context.Context, in *struct {
		WithPass
		Body api.Lacks
	}) (out api.Signed, err error) {
		modules, err := s.Stock.Lacks(in.Body)
		if err != nil {
			return out, err
		}
		out.Signed, err = s.Access.Signer.Sign(api.SignedModules, bearer(in.Authorization), modules)
		return out, err
	})
	does(s, h, limited(op("PUT", "/disks", "tell-disks", "", ""), checkInAtMost), func(ctx context.Context, in *struct{ Body api.OnDisks }) error {
		return s.Fleet.OnDisks(ctx, caller(ctx), in.Body.Disks)
	})
}

// receivingAgent are the operations of workstations that take part in a delivery.
func (s *Server) receivingAgent(h huma.API) {
	answers(s, h, op("POST", "/deliveries/{delivery}/progress", "progress", "", ""), func(ctx context.Context, in *struct {
		DeliveryRef
		Body api.Progress
	}) (api.Directions, error) {
		return s.Orders.Progress(ctx, caller(ctx), in.ID, in.Body)
	})
	does(s, h, limited(op("POST", "/deliveries/{delivery}/lacking", "lacking", "", ""), lackingAtMost), func(ctx context.Context, in *struct {
		DeliveryRef
		Body api.Lacking
	}) error {
		return s.Orders.Lacking(caller(ctx), in.ID, in.Body)
	})
}

// numberInPath is what a plain request is about.
func numberInPath(r *http.Request) (int64, error) {
	text := cmp.Or(chi.URLParam(r, "id"), chi.URLParam(r, "delivery"))
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		err = fault.NotFound.Errorf("there is nothing with the number %q", text)
	}
	return id, err
}

// uploads reads a capture's request with a body of raw bytes, at most so many, and has it
// taken. Nothing answers with an empty body.
func (s *Server) uploads(limit int64, take func(r *http.Request, u *intake.Upload, body []byte) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		answer, err := func() (any, error) {
			id, err := numberInPath(r)
			if err != nil {
				return nil, err
			}
			u, err := s.Intake.OpenCapture(r.Context(), caller(r.Context()), id) // before the body is read
			if err != nil {
				return nil, err
			}
			body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
			var tooLong *http.MaxBytesError
			if errors.As(err, &tooLong) {
				return nil, fault.TooLarge.Errorf("more than %d bytes", limit)
			} else if err != nil {
				return nil, fault.CutOff.Errorf("the request was cut off")
			}
			return take(r, u, body)
		}()
		switch {
		case err != nil:
			s.fail(w, r, err)
		case answer == nil:
			w.WriteHeader(http.StatusNoContent)
		default:
			writeJSON(w, http.StatusOK, "application/json", answer)
		}
	}
}

func (s *Server) putSlab(r *http.Request, u *intake.Upload, frame []byte) (any, error) {
	d, err := slabstore.ParseDigest(chi.URLParam(r, "digest"))
	if err != nil {
		return nil, err
	}
	return nil, s.Intake.Put(r.Context(), u, d, frame)
}

func (s *Server) putMap(_ *http.Request, u *intake.Upload, raw []byte) (any, error) {
	return nil, s.Intake.PutMap(u, raw)
}

// putManifest makes a capture a version.
func (s *Server) putManifest(r *http.Request, u *intake.Upload, text []byte) (any, error) {
	v, _, err := s.Intake.Commit(r.Context(), u, text)
	if err != nil {
		return nil, err
	}
	s.Orders.Captured(r.Context(), u.Errand())
	return api.Committed{Image: v.Image, Version: v.Number, Digest: v.Digest}, nil
}

// putFolders keeps folders of a disk that is to be erased; they can be large.
func (s *Server) putFolders(w http.ResponseWriter, r *http.Request) {
	id, err := numberInPath(r)
	if err == nil {
		var u *intake.Upload
		if u, err = s.Intake.OpenCapture(r.Context(), caller(r.Context()), id); err == nil {
			err = s.Intake.PutFolders(r.Context(), u, r.Body)
		}
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// getFolders gives a workstation back what it has handed in.
func (s *Server) getFolders(w http.ResponseWriter, r *http.Request) {
	id, err := numberInPath(r)
	var f *os.File
	if err == nil {
		var from int64
		if from, err = s.Orders.FoldersFor(r.Context(), caller(r.Context()), id); err == nil {
			f, err = s.Intake.OpenFolders(from)
		}
	}
	s.serveFile(w, r, f, err)
}

// getDriverFile gives an agent a file of a driver package.
func (s *Server) getDriverFile(w http.ResponseWriter, r *http.Request) {
	f, err := s.Stock.DriverFile(chi.URLParam(r, "id"), chi.URLParam(r, "*"))
	s.serveFile(w, r, f, err)
}

// getTrialBytes gives a workstation that checks the network bytes that nobody can compress.
func (s *Server) getTrialBytes(w http.ResponseWriter, r *http.Request) {
	id, err := numberInPath(r)
	if err == nil {
		err = s.Orders.Under(r.Context(), caller(r.Context()), id, api.Activity{Text: "checking the network"})
	}
	n, notNumber := strconv.ParseInt(r.URL.Query().Get("n"), 10, 64)
	if err == nil && (notNumber != nil || n < 1 || n > trialBytesAtMost) {
		err = fault.Invalid.Errorf("a trial has from 1 to %d bytes", trialBytesAtMost)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	io.Copy(w, stream.TrialBytes(n)) // whoever has gone has gone
}

// serveFile sends a file that was opened for this, or why it could not be.
func (s *Server) serveFile(w http.ResponseWriter, r *http.Request, f *os.File, err error) {
	if err != nil {
		s.fail(w, r, err)
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", info.ModTime(), f)
}

// part finds the running delivery of a plain request, in which the caller takes part.
func (s *Server) part(r *http.Request) (*stream.Runner, error) {
	id, err := numberInPath(r)
	if err != nil {
		return nil, err
	}
	return s.Orders.Part(caller(r.Context()), id)
}

// getVersionFile gives a workstation of a delivery a file of the version.
func (s *Server) getVersionFile(which func(manifest, slabs string) string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		run, err := s.part(r)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		path := which(s.Intake.Files.Paths(run.Version()))
		if path == which("", "map") {
			w.Header().Set("Content-Type", "application/octet-stream")
		}
		oneport.Beside(w, r, run, caller(r.Context()), func(w http.ResponseWriter) { http.ServeFile(w, r, path) })
	}
}

// getBases serves what workstations may have in the places of a version's slabs.
func (s *Server) getBases(w http.ResponseWriter, r *http.Request) {
	run, err := s.part(r)
	if err == nil && run.Bases() == nil {
		err = fault.NotFound.Errorf("this delivery tells nobody by what is on its disk")
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	oneport.Beside(w, r, run, caller(r.Context()), func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Write(run.Bases().Bytes())
	})
}

// getSlab serves a slab, or ranges of its frame, to one workstation of an open delivery.
// Slabs of a sealed delivery are sealed. If the workstation says that its last copy was
// damaged, the stored slab is checked first.
func (s *Server) getSlab(w http.ResponseWriter, r *http.Request) {
	run, err := s.part(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	d, err := slabstore.ParseDigest(chi.URLParam(r, "digest"))
	if err == nil && !run.Slabs.Has(d) {
		err = fault.Forbidden.Errorf("this slab is not part of the delivery")
	}
	var frame []byte
	if err == nil {
		frame, err = s.Intake.Frame(d, r.URL.Query().Has("doubt"))
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	oneport.Beside(w, r, run, caller(r.Context()), func(w http.ResponseWriter) { oneport.Content(w, r, run, "application/zstd", frame) })
}

// getPiece serves a piece of a payload of an open delivery, sealed as getSlab's are.
func (s *Server) getPiece(w http.ResponseWriter, r *http.Request) {
	run, err := s.part(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	n, err := strconv.Atoi(chi.URLParam(r, "number"))
	if err != nil || n < 0 || n >= run.Cargo.Len() || run.Cargo.IsSlab(n) {
		s.fail(w, r, fault.Forbidden.Errorf("this piece is not part of the delivery"))
		return
	}
	piece, err := run.Piece(n)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	oneport.Beside(w, r, run, caller(r.Context()), func(w http.ResponseWriter) { oneport.Content(w, r, run, "application/octet-stream", piece) })
}
