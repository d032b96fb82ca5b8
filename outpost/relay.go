package outpost

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	lru "github.com/hashicorp/golang-lru/v2"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/slabstore"
	"jugate/oneport"
)

// relay passes on what agents ask of the service, which decides; slabs come from what the outpost holds, once the service
// has said that the agent may have them.
type relay struct {
	o       *Outpost
	service *url.URL
	proxy   *httputil.ReverseProxy
	may     *lru.Cache[leave, struct{}]
}

// leave is that an agent may have slabs of a delivery.
type leave struct {
	pass     slabstore.Digest // of its pass
	delivery string
}

// leavesAtMost bounds the leaves that are remembered.
const leavesAtMost = 8192

func newRelay(o *Outpost) (*relay, error) {
	u, err := url.Parse(o.identity.service)
	if err != nil {
		return nil, err
	}
	r := &relay{o: o, service: u}
	if r.may, err = lru.New[leave, struct{}](leavesAtMost); err != nil {
		return nil, err
	}
	r.proxy = &httputil.ReverseProxy{
		Rewrite:       r.rewrite,
		Transport:     o.client.HTTP().Transport,
		FlushInterval: -1,
		ErrorHandler:  r.away,
		ErrorLog:      slog.NewLogLogger(o.config.Log.Handler(), slog.LevelDebug),
	}
	return r, nil
}

// rewrite says for whom the outpost asks.
func (r *relay) rewrite(p *httputil.ProxyRequest) {
	p.SetURL(r.service)
	p.Out.Host = r.service.Host
	p.Out.Header.Set(api.AgentAtHeader, oneport.Remote(p.In).String())
	p.Out.Header.Del(api.AgentKeyHeader)
	if p.In.TLS != nil && len(p.In.TLS.PeerCertificates) > 0 {
		p.Out.Header.Set(api.AgentKeyHeader, slabstore.Sum(p.In.TLS.PeerCertificates[0].RawSubjectPublicKeyInfo).String())
	}
}

// handler has everything that is answered over HTTP: all of it by TLS, and boot files without.
func (r *relay) handler() http.Handler {
	plain := chi.NewRouter()
	plain.Use(middleware.Recoverer, oneport.Steady)
	oneport.BootFiles(plain, r.o.boot)
	secure := chi.NewRouter()
	secure.Use(middleware.Recoverer, oneport.Steady)
	oneport.BootFiles(secure, r.o.boot)
	secure.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(api.Health{Status: "up", Version: Version})
	})
	secure.Get("/agent/v1/deliveries/{id}/slabs/{digest}", r.slab)
	secure.Get("/agent/v1/errands/{id}/trial-bytes", r.trialBytes)
	secure.Handle("/agent/v1/*", r.proxy)
	elsewhere := func(w http.ResponseWriter, _ *http.Request) {
		problem(w, http.StatusNotFound, "this is the outpost "+r.o.identity.name+", which answers machines; people find the service at "+r.service.String())
	}
	for _, all := range []*chi.Mux{plain, secure} {
		all.NotFound(elsewhere)
		all.MethodNotAllowed(elsewhere)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if req.TLS == nil {
			plain.ServeHTTP(w, req)
			return
		}
		secure.ServeHTTP(w, req)
	})
}

// problem answers with a problem (RFC 9457).
func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(api.Problem{Title: http.StatusText(status), Status: status, Detail: detail})
}

// away tells an agent that the service cannot be asked; it tries again.
func (r *relay) away(w http.ResponseWriter, req *http.Request, err error) {
	if req.Context().Err() == nil { // or it is the agent that has gone
		r.o.line.saw(errors.Join(apiclient.ErrAway, err))
	}
	problem(w, http.StatusServiceUnavailable, "the outpost "+r.o.identity.name+" does not reach its service; nothing is lost, it goes on when the line is back")
}

// slab serves a slab of a delivery to an agent that the service lets have it. While the service does not answer, who was let
// have others of the same delivery may have those that are here.
func (r *relay) slab(w http.ResponseWriter, req *http.Request) {
	d, err := slabstore.ParseDigest(chi.URLParam(req, "digest"))
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	l := leave{slabstore.Sum([]byte(req.Header.Get("Authorization"))), chi.URLParam(req, "id")}
	answer := &answer{ResponseWriter: w, header: http.Header{}}
	r.proxy.ServeHTTP(answer, req)
	switch {
	case answer.header.Get(api.FromStoreHeader) == d.String():
		r.may.Add(l, struct{}{})
	case answer.status == http.StatusServiceUnavailable || answer.status == http.StatusBadGateway:
		if !r.may.Contains(l) || !r.o.slabs.Has(d) {
			answer.pass()
			return
		}
	case answer.status == http.StatusForbidden || answer.status == http.StatusUnauthorized:
		r.may.Remove(l)
		answer.pass()
		return
	default: // a sealed delivery: it went through as it came
		answer.pass()
		return
	}
	frame, err := r.o.slabs.Slab(d, req.URL.Query().Has("doubt"))
	if err != nil {
		status := http.StatusServiceUnavailable
		if fault.KindOf(err) == fault.NotFound || apiclient.IsNotFound(err) {
			status = http.StatusNotFound
		}
		problem(w, status, err.Error())
		return
	}
	w.Header().Set("Content-Type", "application/zstd")
	counted := middleware.NewWrapResponseWriter(w, req.ProtoMajor)
	http.ServeContent(counted, req, "", time.Time{}, bytes.NewReader(frame))
	r.o.slabs.served.Add(int64(counted.BytesWritten()))
}

// trialBytesAtMost is how much a check of the network may fetch.
const trialBytesAtMost = 64 << 20

// trialBytes gives a workstation that checks the network bytes that nobody can compress: of the network here, not of the line.
func (r *relay) trialBytes(w http.ResponseWriter, req *http.Request) {
	n, err := strconv.ParseInt(req.URL.Query().Get("n"), 10, 64)
	if err != nil || n < 1 || n > trialBytesAtMost {
		problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("a trial has from 1 to %d bytes", trialBytesAtMost))
		return
	}
	one := req.Clone(req.Context())
	one.URL.RawQuery = "n=1"
	answer := &answer{ResponseWriter: w, header: http.Header{}, holds: true}
	if r.proxy.ServeHTTP(answer, one); answer.status != http.StatusOK {
		answer.pass()
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	io.CopyN(w, rand.NewChaCha8([32]byte{}), n) // whoever has gone has gone
}

// answer holds an answer of the service back until it is known whether it is passed on.
type answer struct {
	http.ResponseWriter
	header http.Header
	status int
	body   bytes.Buffer
	passed bool
	holds  bool // also one that has what was asked for
}

func (a *answer) Header() http.Header { return a.header }

func (a *answer) WriteHeader(status int) {
	if a.status = status; !a.holds && (status == http.StatusOK || status == http.StatusPartialContent) { // bytes of a sealed delivery, which may be many
		a.pass()
	}
}

func (a *answer) Write(b []byte) (int, error) {
	if a.status == 0 {
		a.WriteHeader(http.StatusOK)
	}
	if a.passed {
		return a.ResponseWriter.Write(b)
	}
	return a.body.Write(b)
}

// pass passes the answer on.
func (a *answer) pass() {
	if a.passed {
		return
	}
	a.passed = true
	for name, values := range a.header {
		a.ResponseWriter.Header()[name] = values
	}
	a.ResponseWriter.WriteHeader(a.status)
	io.Copy(a.ResponseWriter, &a.body)
}
