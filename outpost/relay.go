package outpost

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"sync"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/slabstore"
	"jugate/core/version"
	"jugate/oneport"
	"jugate/stream"
)

// relay passes on what agents ask of the service, which decides; about deliveries that the outpost carries through it answers
// itself, once the service has said who asks.
type relay struct {
	o       *Outpost
	service *url.URL
	proxy   *httputil.ReverseProxy
	tries   tries
	asked   *asked

	mu     sync.Mutex
	serves map[asker]int64 // workstations, by how they ask about a delivery
}

func newRelay(ctx context.Context, o *Outpost) (*relay, error) {
	u, err := url.Parse(o.identity.service)
	if err != nil {
		return nil, err
	}
	r := &relay{o: o, service: u, serves: map[asker]int64{}}
	r.proxy = &httputil.ReverseProxy{
		Rewrite:       r.rewrite,
		Transport:     o.client.HTTP().Transport,
		FlushInterval: -1,
		ErrorHandler:  r.away,
		ErrorLog:      slog.NewLogLogger(o.config.Log.Handler(), slog.LevelDebug),
	}
	if r.asked, err = openAsked(o); err != nil {
		return nil, err
	}
	return r, r.remember(ctx)
}

// rewrite says for whom the outpost asks.
func (r *relay) rewrite(p *httputil.ProxyRequest) {
	p.SetURL(r.service)
	p.Out.Host = r.service.Host
	p.Out.Header.Set(api.AgentAtHeader, oneport.Remote(p.In).String())
	p.Out.Header.Del(api.AgentKeyHeader)
	p.Out.Header.Del(api.AgentEndsHeader)
	if ends := r.ends(p.In); ends != "" {
		p.Out.Header.Set(api.AgentEndsHeader, ends)
	}
	if key := keyOf(p.In); key != "" {
		p.Out.Header.Set(api.AgentKeyHeader, key)
	}
}

// keyOf is the digest of the key that an agent has shown; empty if it has shown none.
func keyOf(r *http.Request) string {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return ""
	}
	return slabstore.Sum(r.TLS.PeerCertificates[0].RawSubjectPublicKeyInfo).String()
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
		json.NewEncoder(w).Encode(api.Health{Status: "up", Version: version.Program(), Busy: len(r.o.deliveries.streams.Runners())})
	})
	r.receiving(secure)
	r.awayFrom(secure)
	secure.Post(agentPath+"/sign-in", r.signIn)
	secure.Get(agentPath+"/payloads/{digest}", r.file)
	secure.Get(agentPath+"/drivers/{id}/files/*", r.file)
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
		ctx, cancel := context.WithCancel(req.Context())
		defer cancel()
		defer context.AfterFunc(r.o.until, cancel)() // who waits for the service asks again
		req = req.WithContext(ctx)
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
	if a, is := w.(*answer); is {
		a.away = true
	}
	if req.Context().Err() == nil { // or it is the agent that has gone
		r.o.line.saw(errors.Join(apiclient.ErrAway, err))
	}
	problem(w, http.StatusServiceUnavailable, r.awayWords())
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
	answer := &answer{ResponseWriter: w, header: http.Header{}}
	if r.proxy.ServeHTTP(answer, one); answer.status != http.StatusOK {
		answer.pass()
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(n, 10))
	io.Copy(w, stream.TrialBytes(n)) // whoever has gone has gone
}

// answer holds an answer of the service back until it is known whether it is passed on. One that has what was asked for may be
// long, and is passed on as it comes, unless it is to be looked at.
type answer struct {
	http.ResponseWriter
	header  http.Header
	status  int
	body    bytes.Buffer
	passed  bool
	through bool // what was asked for is passed on
	away    bool // it is none: nobody has answered
}

func (a *answer) Header() http.Header { return a.header }

func (a *answer) WriteHeader(status int) {
	if a.status = status; a.through && !a.away && status != http.StatusNoContent && status != http.StatusNotModified {
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
