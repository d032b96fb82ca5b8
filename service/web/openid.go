package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/go-chi/chi/v5"
	"golang.org/x/oauth2"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
	"jugate/service/access"
	"jugate/service/directories"
)

// Signing in at the console by OpenID Connect (Core 1.0, 3.1: the authorization code flow, with PKCE, RFC 7636): the
// browser is sent to the provider, and comes back with a code, which the service exchanges for who that is.

const (
	// signInPath is where browsers begin, and come back below.
	signInPath = "/signin/"
	// flowLife is how long somebody may take at the provider.
	flowLife = 10 * time.Minute
	// flowsAtMost bounds those who are there at the same time.
	flowsAtMost = 1000
	flowCookie  = "jugate_signin"
	// refusedCookie tells the console why somebody was not let in.
	refusedCookie = "jugate_refused"
	// providerWithin is how long a provider may take for one answer.
	providerWithin = 10 * time.Second
)

// flow is somebody who is at a provider.
type flow struct {
	directory, nonce, verifier string
	until                      time.Time
}

// flows are those who are at a provider, by their state. The zero value is ready.
type flows struct {
	mu  sync.Mutex
	all map[string]flow
}

func (f *flows) begin(now time.Time, state string, one flow) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for s, o := range f.all {
		if !now.Before(o.until) {
			delete(f.all, s)
		}
	}
	if len(f.all) >= flowsAtMost {
		return fault.TooMany.Errorf("too many people are signing in at once; try again in some minutes")
	}
	if f.all == nil {
		f.all = map[string]flow{}
	}
	f.all[state] = one
	return nil
}

// end takes a flow, once.
func (f *flows) end(now time.Time, state string) (flow, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	one, is := f.all[state]
	delete(f.all, state)
	return one, is && now.Before(one.until)
}

// provider asks a provider for its configuration (OpenID Connect Discovery 1.0).
func provider(ctx context.Context, issuer, certificate string) (context.Context, *oidc.Provider, error) {
	t, err := transportTo(certificate)
	if err != nil {
		return ctx, nil, err
	}
	ctx = oidc.ClientContext(ctx, &http.Client{Transport: t, Timeout: providerWithin})
	p, err := oidc.NewProvider(ctx, issuer)
	return ctx, p, err
}

// Discover is directories.Discover.
func Discover(ctx context.Context, issuer, certificate string) error {
	_, _, err := provider(ctx, issuer, certificate)
	return err
}

func (s *Server) openIDRoutes(r chi.Router) {
	r.Get("/{directory}", s.toProvider)
	r.Get("/{directory}/back", s.fromProvider)
	r.NotFound(notFound)
}

// at is a provider, and how the service is known there.
func (s *Server) at(r *http.Request, row *records.Directory) (context.Context, *oidc.Provider, *oauth2.Config, error) {
	secret, err := s.Directories.Secret(row)
	if err != nil {
		return nil, nil, nil, err
	}
	ctx, p, err := provider(r.Context(), row.Server, row.Certificate)
	if err != nil {
		return nil, nil, nil, fault.Unready.Errorf("the provider of %s does not answer as it should: %w", row.Name, err)
	}
	back := url.URL{Scheme: "https", Host: r.Host, Path: signInPath + row.Name + "/back"}
	return ctx, p, &oauth2.Config{ClientID: row.Account, ClientSecret: secret, Endpoint: p.Endpoint(), RedirectURL: back.String(), Scopes: []string{oidc.ScopeOpenID, "profile", "groups"}}, nil
}

// toProvider sends a browser to the provider.
func (s *Server) toProvider(w http.ResponseWriter, r *http.Request) {
	state, to, err := s.begin(r)
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	// Lax, as the browser comes back from another site.
	http.SetCookie(w, &http.Cookie{Name: flowCookie, Value: state, Path: signInPath, MaxAge: int(flowLife.Seconds()), Secure: true, HttpOnly: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, to, http.StatusFound)
}

// begin has somebody begin to sign in, and tells under which state and where.
func (s *Server) begin(r *http.Request) (state, to string, err error) {
	row, err := s.Records.Directory(r.Context(), chi.URLParam(r, "directory"))
	if err != nil {
		return "", "", err
	}
	if row.Kind != directories.OpenID {
		return "", "", fault.NotFound.Errorf("%s is not an OpenID provider", row.Name)
	}
	_, _, config, err := s.at(r, row)
	if err != nil {
		return "", "", err
	}
	one := flow{row.Name, access.NewSecret(), oauth2.GenerateVerifier(), s.Now().Add(flowLife)}
	state = access.NewSecret()
	return state, config.AuthCodeURL(state, oidc.Nonce(one.nonce), oauth2.S256ChallengeOption(one.verifier)), s.flows.begin(s.Now(), state, one)
}

// described is what a provider tells of somebody (OpenID Connect Core 1.0, 5.1).
type described struct {
	Name     string   `json:"preferred_username"`
	FullName string   `json:"name"`
	Groups   []string `json:"groups"`
}

// fromProvider opens a session for who comes back.
func (s *Server) fromProvider(w http.ResponseWriter, r *http.Request) {
	secret, err := s.exchange(r)
	http.SetCookie(w, &http.Cookie{Name: flowCookie, Path: signInPath, MaxAge: -1, Secure: true, HttpOnly: true, SameSite: http.SameSiteLaxMode})
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	cookie := sessionCookie(secret, int(access.SessionLife.Seconds()))
	http.SetCookie(w, &cookie)
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (s *Server) exchange(r *http.Request) (secret string, err error) {
	q := r.URL.Query()
	cookie, err := r.Cookie(flowCookie)
	if err != nil || q.Get("state") == "" || cookie.Value != q.Get("state") {
		return "", fault.Stranger.Errorf("this browser has not begun to sign in here; begin again")
	}
	one, known := s.flows.end(s.Now(), cookie.Value)
	if !known || one.directory != chi.URLParam(r, "directory") {
		return "", fault.Stranger.Errorf("it took too long to sign in, or was done already; begin again")
	}
	if said := q.Get("error"); said != "" {
		return "", fault.Stranger.Errorf("the provider says: %s %s", clipped(said), clipped(q.Get("error_description")))
	}
	row, err := s.Records.Directory(r.Context(), one.directory)
	if err != nil {
		return "", err
	}
	ctx, p, config, err := s.at(r, row)
	if err != nil {
		return "", err
	}
	token, err := config.Exchange(ctx, q.Get("code"), oauth2.VerifierOption(one.verifier))
	if err != nil {
		return "", fault.Stranger.Errorf("the provider does not take the code that the browser came back with: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := p.VerifierContext(ctx, &oidc.Config{ClientID: row.Account, Now: s.Now}).Verify(ctx, raw)
	if err != nil {
		return "", fault.Stranger.Errorf("what the provider says of you cannot be believed: %w", err)
	}
	var who described
	if err := id.Claims(&who); err != nil {
		return "", fault.Stranger.Errorf("what the provider says of you cannot be read: %w", err)
	}
	if id.Nonce != one.nonce {
		return "", fault.Stranger.Errorf("what the provider says is an answer to something else")
	}
	if len(who.Groups) == 0 { // some tell them here alone
		if more, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token)); err == nil && more.Subject == id.Subject {
			var info described
			if more.Claims(&info) == nil {
				who.Groups, who.Name, who.FullName = info.Groups, cmp.Or(who.Name, info.Name), cmp.Or(who.FullName, info.FullName)
			}
		}
	}
	person, err := s.Directories.Provided(r.Context(), row.Name, id.Subject, cmp.Or(who.Name, id.Subject), who.FullName, who.Groups)
	if err != nil {
		return "", err
	}
	secret, c, err := s.Access.Admit(r.Context(), person, peer(r.Context()), r.UserAgent())
	if err != nil {
		return "", err
	}
	return secret, s.noteSignIn(r.Context(), c)
}

// refuse shows a page that says why somebody cannot sign in.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	p := s.problem(err, r.Method+" "+r.URL.Path)
	s.Log.Warn("somebody could not sign in by a provider", "from", peer(r.Context()), "error", err)
	// Not in the address, in which anybody could write what they like.
	http.SetCookie(w, &http.Cookie{Name: refusedCookie, Value: url.QueryEscape(p.Error()), Path: "/", MaxAge: 60, Secure: true, SameSite: http.SameSiteStrictMode})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// noteSignIn writes a line of the logbook, as other ways to sign in do.
func (s *Server) noteSignIn(ctx context.Context, c access.Caller) error {
	_, err := s.Records.AddLine(context.WithoutCancel(ctx), records.Line{At: s.Now(), Who: c.String(), Kind: string(c.Kind), From: peer(ctx).String(), Through: "console", Operation: "sign-in", Details: "{}"})
	return err
}

// providers are the OpenID providers that people can sign in by.
func (s *Server) providers(ctx context.Context) ([]api.Provider, error) {
	all, err := s.Records.Directories(ctx)
	all = slices.DeleteFunc(all, func(d records.Directory) bool { return d.Kind != directories.OpenID })
	out := make([]api.Provider, len(all))
	for i, d := range all {
		out[i] = api.Provider{Name: d.Name, Path: fmt.Sprintf("%s%s", signInPath, url.PathEscape(d.Name))}
	}
	return out, err
}
