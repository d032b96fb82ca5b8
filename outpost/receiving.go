package outpost

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/delivery"
	"jugate/core/fault"
	"jugate/core/image"
	"jugate/core/parts"
	"jugate/core/slabstore"
	"jugate/oneport"
	"jugate/stream"
)

// asker is how a workstation asks about a delivery: by its pass and with its key, both as digests.
type asker struct {
	delivery int64
	pass     slabstore.Digest
	key      string
}

// keptServes: workstations, by how they ask ("delivery/pass/key"), so that they go on when the outpost starts while the service
// does not answer.
const keptServes = "serves"

// authorization is the digest of what a request is authorized by.
func authorization(req *http.Request) slabstore.Digest {
	return slabstore.Sum([]byte(req.Header.Get("Authorization")))
}

func (a asker) String() string { return fmt.Sprintf("%d/%s/%s", a.delivery, a.pass, a.key) }

const (
	// saysAtMost bounds what a workstation says of a delivery, in bytes: ranges of slabs.
	saysAtMost = 4 << 20
	// progressAtMost bounds a report, in bytes.
	progressAtMost = 128 << 10
	// lackingAtMost is how many ranges of slabs that may be.
	lackingAtMost = 100_000
)

// receiving answers workstations that take part in a delivery, or passes on what they ask.
func (r *relay) receiving(all chi.Router) {
	all.Route("/agent/v1/deliveries/{id}", func(d chi.Router) {
		d.Get("/manifest", r.serve(r.manifest))
		d.Get("/map", r.serve(r.slabMap))
		d.Get("/bases", r.serve(r.bases))
		d.Get("/slabs/{digest}", r.serve(r.slab))
		d.Get("/pieces/{number}", r.serve(r.piece))
		d.Post("/progress", r.serve(r.progress))
		d.Post("/lacking", r.serve(r.lacking))
	})
}

// part is a workstation that takes part in a delivery here.
type part struct {
	run *stream.Runner
	member
	said []byte // body of its request
}

// serve has a request answered here if the outpost serves who asks in that delivery, and else by the service.
func (r *relay) serve(here func(w http.ResponseWriter, req *http.Request, p part)) http.HandlerFunc {
	return func(w http.ResponseWriter, req *http.Request) {
		id, err := strconv.ParseInt(chi.URLParam(req, "id"), 10, 64)
		if err != nil {
			problem(w, http.StatusNotFound, "there is no such delivery")
			return
		}
		who := asker{id, authorization(req), keyOf(req)}
		workstation, known := r.known(who)
		most := int64(progressAtMost) // of somebody who may be anybody
		if known {
			most = saysAtMost
		}
		said, ok := bodyOf(w, req, most)
		if !ok {
			return
		}
		of := member{id, workstation}
		run, is := r.o.deliveries.runner(of)
		if !known || !is { // the service says who it is, or answers itself
			answer := &answer{ResponseWriter: w, header: http.Header{}, through: true}
			r.proxy.ServeHTTP(answer, req)
			workstation, err := strconv.ParseInt(answer.header.Get(api.ServedHereHeader), 10, 64)
			if answer.passed || err != nil {
				answer.pass()
				return
			}
			r.learn(req.Context(), who, workstation)
			of.workstation = workstation
			run, _ = r.o.deliveries.runner(of)
		}
		if run == nil && r.o.deliveries.through(req.Context(), of) {
			answerJSON(w, api.Directions{State: delivery.Finished, Over: true})
			return
		}
		if run == nil {
			w.Header().Set("Retry-After", "1")
			problem(w, http.StatusServiceUnavailable, "the delivery is on its way to the outpost "+r.o.Name())
			return
		}
		here(w, req, part{run, of, said})
	}
}

// remember reads who asked about deliveries before the outpost was started.
func (r *relay) remember(ctx context.Context) error {
	keys, err := r.o.records.Keys(ctx, keptServes, "")
	if err != nil {
		return err
	}
	for _, text := range keys {
		var workstation int64
		parts := strings.Split(text, "/")
		if _, err := r.o.records.Kept(ctx, keptServes, text, &workstation); err != nil || len(parts) != 3 {
			continue
		}
		id, notNumber := strconv.ParseInt(parts[0], 10, 64)
		pass, notDigest := slabstore.ParseDigest(parts[1])
		if errors.Join(notNumber, notDigest) == nil {
			r.serves[asker{id, pass, parts[2]}] = workstation
		}
	}
	return nil
}

// known is the workstation that asks so, if the service has said before who it is.
func (r *relay) known(who asker) (workstation int64, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	workstation, is = r.serves[who]
	return workstation, is
}

// learn notes who asks so.
func (r *relay) learn(ctx context.Context, who asker, workstation int64) {
	r.mu.Lock()
	r.serves[who] = workstation
	r.mu.Unlock()
	if err := r.o.records.Keep(ctx, r.o.config.Now(), keptServes, who.String(), workstation); err != nil {
		r.o.config.Log.Warn("who asks cannot be kept", "error", err)
	}
}

// ends are the deliveries with which who asks is through here, with commas between, until the service has its receipts.
func (r *relay) ends(req *http.Request) string {
	pass, key := authorization(req), keyOf(req)
	var of []member
	r.mu.Lock()
	for who, workstation := range r.serves {
		if who.pass == pass && who.key == key {
			of = append(of, member{who.delivery, workstation})
		}
	}
	r.mu.Unlock()
	var ends []string
	for _, m := range of {
		if r.o.deliveries.through(req.Context(), m) {
			ends = append(ends, strconv.FormatInt(m.delivery, 10))
		}
	}
	return strings.Join(ends, ",")
}

// forget forgets who asks about a delivery.
func (r *relay) forget(delivery int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for who := range r.serves {
		if who.delivery == delivery {
			delete(r.serves, who)
		}
	}
}

// fail tells why a request is refused.
func fail(w http.ResponseWriter, err error) {
	status := http.StatusServiceUnavailable
	switch kind := fault.KindOf(err); {
	case kind == fault.NotFound || apiclient.IsNotFound(err):
		status = http.StatusNotFound
	case kind == fault.Invalid:
		status = http.StatusUnprocessableEntity
	case kind == fault.Forbidden:
		status = http.StatusForbidden
	case kind == fault.Conflict:
		status = http.StatusConflict
	}
	problem(w, status, err.Error())
}

// partFile serves a file of the delivery.
func (r *relay) partFile(w http.ResponseWriter, req *http.Request, p part, which func(api.OutpostDelivery) *api.OutpostFile) {
	in, _ := r.o.deliveries.said(p.delivery)
	f := which(in)
	if f == nil {
		fail(w, fault.NotFound.Errorf("this delivery has no such file"))
		return
	}
	c, err := r.o.deliveries.files.Open(parts.Part(*f))
	if err != nil {
		fail(w, err)
		return
	}
	defer c.Close()
	b := make([]byte, f.Size)
	if _, err := c.ReadAt(b, 0); err != nil && err != io.EOF {
		fail(w, err)
		return
	}
	oneport.Beside(w, req, p.run, p.workstation, func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Write(b)
	})
}

func (r *relay) manifest(w http.ResponseWriter, req *http.Request, p part) {
	r.partFile(w, req, p, func(d api.OutpostDelivery) *api.OutpostFile { return &d.Manifest })
}

func (r *relay) slabMap(w http.ResponseWriter, req *http.Request, p part) {
	r.partFile(w, req, p, func(d api.OutpostDelivery) *api.OutpostFile { return &d.Map })
}

func (r *relay) bases(w http.ResponseWriter, req *http.Request, p part) {
	r.partFile(w, req, p, func(d api.OutpostDelivery) *api.OutpostFile { return d.Bases })
}

// slab serves a slab to one workstation.
func (r *relay) slab(w http.ResponseWriter, req *http.Request, p part) {
	d, err := slabstore.ParseDigest(chi.URLParam(req, "digest"))
	if err == nil && !p.run.Slabs.Has(d) {
		err = fault.Forbidden.Errorf("this slab is not part of the delivery")
	}
	var frame []byte
	if err == nil {
		r.o.slabs.waited.Add(1)
		defer r.o.slabs.waited.Add(-1)
		frame, err = r.o.slabs.Slab(d, req.URL.Query().Has("doubt"))
	}
	if err != nil {
		fail(w, err)
		return
	}
	oneport.Beside(w, req, p.run, p.workstation, func(w http.ResponseWriter) { oneport.Content(w, req, p.run, "application/zstd", frame) })
	r.o.slabs.served.Add(int64(len(frame)))
}

// piece serves a piece of a payload to one workstation.
func (r *relay) piece(w http.ResponseWriter, req *http.Request, p part) {
	n, err := strconv.Atoi(chi.URLParam(req, "number"))
	if err != nil || n < 0 || n >= p.run.Cargo.Len() || p.run.Cargo.IsSlab(n) {
		fail(w, fault.Forbidden.Errorf("this piece is not part of the delivery"))
		return
	}
	piece, err := p.run.Piece(n)
	if err != nil {
		fail(w, err)
		return
	}
	oneport.Beside(w, req, p.run, p.workstation, func(w http.ResponseWriter) {
		oneport.Content(w, req, p.run, "application/octet-stream", piece)
	})
}

// progress takes a report. What it proves the service will hold against the version, when it has the receipt.
func (r *relay) progress(w http.ResponseWriter, _ *http.Request, p part) {
	var in api.Progress
	err := json.Unmarshal(p.said, &in)
	if err == nil && (len(p.said) > progressAtMost || len(in.Error) > 4000 || len(in.Remark) > 4000 || len(in.Drivers) > 1000 || len(in.LeftOut) > 1024 || len(in.Proof) > 100) {
		err = errors.New("more than can be told")
	}
	if err != nil {
		fail(w, fault.Invalid.Mark(err))
		return
	}
	d := r.o.deliveries
	now := d.clock.Now()
	if len(in.Drivers) > 0 {
		p.run.Installed(p.workstation, in.Drivers)
	}
	if in.Remark != "" {
		p.run.Remark(now, p.workstation, in.Remark)
	}
	if in.Phase == delivery.Ended {
		d.mu.Lock()
		d.last[p.member] = in
		d.mu.Unlock()
	}
	out, err := p.run.Report(now, p.workstation, in.Report)
	if err != nil && !errors.Is(err, delivery.ErrOver) { // that one reads in the answer
		fail(w, err)
		return
	}
	answerJSON(w, out)
}

// lacking takes which slabs a workstation lacks.
func (r *relay) lacking(w http.ResponseWriter, _ *http.Request, p part) {
	var in api.Lacking
	err := json.Unmarshal(p.said, &in)
	if err == nil && (len(in.Slabs) > lackingAtMost || len(in.Based) > lackingAtMost || in.Round < 0) {
		err = errors.New("more than can be lacking")
	}
	if err != nil {
		fail(w, fault.Invalid.Mark(err))
		return
	}
	set, err := image.ParseRanges(in.Slabs, p.run.Cargo.Len())
	if err != nil {
		fail(w, err)
		return
	}
	has, err := image.ParseRanges(in.Based, p.run.Cargo.Len())
	if err != nil {
		fail(w, err)
		return
	}
	if err := p.run.Lacking(r.o.deliveries.clock.Now(), p.workstation, in.Round, set, has); err != nil {
		fail(w, fault.Conflict.Mark(err))
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
