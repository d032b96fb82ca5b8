package web

import (
	"bytes"
	"context"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/core/netboot"
	"jugate/service/fleet"
)

func (s *Server) outpostRoutes(h huma.API) {
	const tag = "outposts"
	type OutpostRef struct {
		Name string `path:"outpost" doc:"Its name" maxLength:"63" example:"alpine"`
	}
	lists(s, h, op("GET", "/outposts", "list-outposts", tag, "List outposts, by name"),
		func(ctx context.Context, _ *Nothing) ([]api.Outpost, int, error) { return uncut(s.Sites.List(ctx)) })
	answers(s, h, op("GET", "/outposts/{outpost}", "get-outpost", tag, "Show an outpost"),
		func(ctx context.Context, in *OutpostRef) (api.Outpost, error) { return s.Sites.Show(ctx, in.Name) })
	answers(s, h, op("POST", "/outposts", "add-outpost", tag, "Enter an outpost, and get the code that it joins by"),
		func(ctx context.Context, in *struct{ Body api.NewOutpost }) (api.OutpostCode, error) {
			return s.Sites.Add(ctx, in.Body)
		})
	answers(s, h, op("POST", "/outposts/{outpost}/code", "code-outpost", tag, "Make another code for an outpost"),
		func(ctx context.Context, in *OutpostRef) (api.OutpostCode, error) { return s.Sites.Code(ctx, in.Name) })
	answers(s, h, op("PATCH", "/outposts/{outpost}", "change-outpost", tag, "Change how the line of an outpost may be used, and its note"),
		func(ctx context.Context, in *struct {
			OutpostRef
			Body api.OutpostChange
		}) (api.Outpost, error) {
			return s.Sites.Change(ctx, in.Name, in.Body)
		})
	answers(s, h, op("POST", "/outposts/{outpost}/placements", "place-image", tag, "Have an outpost hold versions of images ahead of time"),
		func(ctx context.Context, in *struct {
			OutpostRef
			Body api.NewPlacement
		}) (api.Outpost, error) {
			return s.Sites.Place(ctx, in.Name, in.Body)
		})
	does(s, h, op("DELETE", "/outposts/{outpost}/placements/{placement}", "unplace-image", tag, "End a placement"),
		func(ctx context.Context, in *struct {
			OutpostRef
			Number int64 `path:"placement" doc:"Its number" minimum:"1" example:"1"`
		}) error {
			return s.Sites.Unplace(ctx, in.Name, in.Number)
		})
	does(s, h, op("POST", "/outposts/{outpost}/withdraw", "withdraw-outpost", tag, "End the trust in an outpost"),
		func(ctx context.Context, in *OutpostRef) error { return s.Sites.Withdraw(ctx, in.Name) })
	does(s, h, op("DELETE", "/outposts/{outpost}", "remove-outpost", tag, "Forget an outpost"),
		func(ctx context.Context, in *OutpostRef) error { return s.Sites.Remove(ctx, in.Name) })
}

// relayed is who an agent is whose request an outpost has passed on; by is the outpost. From anybody else those headers say
// nothing.
func (s *Server) relayed(r *http.Request, by fleet.Caller) fleet.Caller {
	at := r.Header.Get(api.AgentAtHeader)
	if at == "" || r.TLS == nil || len(r.TLS.PeerCertificates) == 0 || s.Sites == nil {
		return by
	}
	name, is := s.Sites.Who(r.TLS.PeerCertificates[0])
	from, err := netip.ParseAddr(at)
	if !is || err != nil {
		return by
	}
	out := fleet.Caller{At: from.Unmap(), Key: r.Header.Get(api.AgentKeyHeader), Outpost: name}
	for text := range strings.SplitSeq(r.Header.Get(api.AgentEndsHeader), ",") {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			out.Ends = append(out.Ends, n)
		}
	}
	return out
}

// outpostKey is where requireOutpost puts the name of the outpost that asks.
type outpostKey struct{}

func outpostOf(ctx context.Context) string { return ctx.Value(outpostKey{}).(string) }

func (s *Server) requireOutpost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
			if name, is := s.Sites.Who(r.TLS.PeerCertificates[0]); is {
				next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), outpostKey{}, name)))
				return
			}
		}
		writeJSON(w, http.StatusUnauthorized, "application/problem+json", huma.Error401Unauthorized("this is no outpost of the service, or not any more; it may join again by a code (jugate outpost code)"))
	})
}

const (
	// joinAtMost bounds an outpost's request to join, stepsAtMost what it tells of machines, and partsAtMost of deliveries, in bytes.
	joinAtMost  = 32 << 10
	stepsAtMost = 4 << 20
	partsAtMost = 16 << 20
)

// outpostAPI is what outposts ask.
func (s *Server) outpostAPI(r chi.Router) {
	within := func(r chi.Router) huma.API {
		c := huma.DefaultConfig("Jugate outposts", s.Version)
		c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", "", nil
		return humachi.New(r, c)
	}
	answers(s, within(r), limited(op("POST", "/join", "join", "", ""), joinAtMost), func(ctx context.Context, in *struct{ Body api.OutpostJoin }) (api.OutpostJoined, error) {
		return s.Sites.Join(ctx, peer(ctx), in.Body)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.requireOutpost)
		h := within(r)
		answers(s, h, limited(op("POST", "/certificate", "renew", "", ""), joinAtMost), func(ctx context.Context, in *struct{ Body api.OutpostRenewal }) (api.OutpostJoined, error) {
			return s.Sites.Renew(ctx, outpostOf(ctx), agentOf(ctx).Key, in.Body)
		})
		answers(s, h, limited(op("POST", "/tell", "tell", "", ""), checkInAtMost), func(ctx context.Context, in *struct{ Body api.OutpostCalls }) (api.OutpostWork, error) {
			return s.Sites.Tell(ctx, outpostOf(ctx), in.Body)
		})
		answers(s, h, op("POST", "/facts", "facts", "", ""), func(ctx context.Context, in *struct{ Body api.OutpostAsks }) (netboot.Facts, error) {
			return s.Sites.Facts(ctx, in.Body), nil
		})
		answers(s, h, op("POST", "/choice", "choice", "", ""), func(ctx context.Context, in *struct{ Body api.OutpostAsks }) (api.OutpostChoice, error) {
			return s.Sites.Choose(ctx, outpostOf(ctx), in.Body)
		})
		answers(s, h, op("POST", "/build-for", "build-for", "", ""), func(ctx context.Context, in *struct{ Body api.OutpostAsks }) (api.OutpostBuildFor, error) {
			return s.Sites.BuildFor(ctx, in.Body)
		})
		does(s, h, limited(op("POST", "/steps", "steps", "", ""), stepsAtMost), func(ctx context.Context, in *struct{ Body api.OutpostSteps }) error {
			return s.Sites.Hear(ctx, outpostOf(ctx), in.Body)
		})
		does(s, h, limited(op("POST", "/parts", "parts", "", ""), partsAtMost), func(ctx context.Context, in *struct{ Body api.OutpostParts }) error {
			s.Orders.ToldOfParts(outpostOf(ctx), in.Body.Parts)
			return nil
		})
		does(s, h, limited(op("POST", "/receipts", "hand-in", "", ""), partsAtMost), func(ctx context.Context, in *struct{ Body api.OutpostHandsIn }) error {
			return s.Orders.HandIn(ctx, outpostOf(ctx), in.Body)
		})
		r.Get("/parts/{digest}", s.getPart)
		r.Get("/slabs/{digest}", s.getOutpostSlab)
	})
	r.NotFound(notFound)
}

// getPart serves a file of a build or boot entry, or a range of it.
func (s *Server) getPart(w http.ResponseWriter, r *http.Request) {
	f, err := s.Sites.Part(r.Context(), outpostOf(r.Context()), chi.URLParam(r, "digest"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", time.Time{}, f)
}

// getOutpostSlab serves the frame of a slab.
func (s *Server) getOutpostSlab(w http.ResponseWriter, r *http.Request) {
	frame, delta, err := s.Sites.Slab(chi.URLParam(r, "digest"), r.URL.Query().Get("on"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/zstd")
	if delta {
		w.Header().Set("Content-Type", "application/octet-stream")
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(frame))
}

// servedHere has the outpost that has passed a request on answer it itself, if it carries the delivery through for the workstation.
func (s *Server) servedHere(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := r.Context()
		id, err := numberInPath(r)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		where, err := s.Orders.Place(ctx, caller(ctx), id, agentOf(ctx).Outpost)
		if err == nil && where != "" {
			w.Header().Set(api.ServedHereHeader, strconv.FormatInt(caller(ctx), 10))
			w.WriteHeader(http.StatusNoContent)
			return
		}
		next.ServeHTTP(w, r) // which says what is wrong
	})
}
