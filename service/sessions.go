package service

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// administrator is the one account so far.
const administrator = "administrator"

// sessionLife is how long a session of the console lasts.
const sessionLife = 12 * time.Hour

// sessions are the console's, by secret. They end with the service.
type sessions struct {
	mu   sync.Mutex
	ends map[string]time.Time
}

func (s *sessions) open(now time.Time) string {
	secret := newSecret()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ends == nil {
		s.ends = map[string]time.Time{}
	}
	for old, end := range s.ends {
		if !now.Before(end) {
			delete(s.ends, old)
		}
	}
	s.ends[secret] = now.Add(sessionLife)
	return secret
}

func (s *sessions) valid(secret string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	end, known := s.ends[secret]
	return known && now.Before(end)
}

func (s *sessions) close(secret string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.ends, secret)
}

// isToken compares in constant time.
func (s *Service) isToken(given string) bool {
	a, b := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(s.token))
	return subtle.ConstantTimeCompare(a[:], b[:]) == 1
}

func bearer(header string) string {
	kind, secret, _ := strings.Cut(header, " ")
	if !strings.EqualFold(kind, "Bearer") {
		return ""
	}
	return strings.TrimSpace(secret)
}

// requirePerson lets through requests with the token or a session, and those to
// operations that name no security.
func (s *Service) requirePerson(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		cookie, _ := huma.ReadCookie(ctx, api.SessionCookie)
		open := ctx.Operation().Security != nil && len(ctx.Operation().Security) == 0
		now, from, given := s.config.Now(), peer(ctx.Context()), ctx.Header("Authorization")
		if open || given == "" && cookie != nil && s.sessions.valid(cookie.Value, now) {
			next(ctx)
			return
		}
		if given == "" {
			huma.WriteErr(h, ctx, http.StatusUnauthorized, "sign in first: the token is in the file admin.token of the service's data folder")
			return
		}
		if err := s.checkToken(now, from, bearer(given), ctx.Operation().Path); err != nil {
			huma.WriteErr(h, ctx, statusOf(fault.KindOf(err)), err.Error())
			return
		}
		next(ctx)
	}
}

// checkToken tells whether a token is the administrator's, as long as not too many
// others came from the same place.
func (s *Service) checkToken(now time.Time, from netip.Addr, token, asked string) error {
	if !s.tries.may(now, 0, from) {
		s.log.Warn("too many wrong tokens", "from", from)
		return errTooManyTries
	}
	if s.isToken(token) {
		return nil
	}
	s.tries.wrong(now, 0, from)
	s.log.Warn("a wrong token was refused", "from", from, "asked", asked)
	return fault.Stranger.Errorf("the token is wrong; the right one is in the file admin.token of the service's data folder")
}

func (s *Service) sessionRoutes(h huma.API) {
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      api.Session
	}
	cookie := func(value string, age int) http.Cookie {
		return http.Cookie{Name: api.SessionCookie, Value: value, Path: "/api/v1", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
	}
	huma.Register(h, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: "/session", Summary: "Open a session of the console",
		Security: []map[string][]string{}, Tags: []string{"session"}, Errors: []int{401, 429}, MaxBodyBytes: 4 << 10,
	}, func(ctx context.Context, in *struct{ Body api.SignIn }) (*signedIn, error) {
		if err := s.checkToken(s.config.Now(), peer(ctx), strings.TrimSpace(in.Body.Token), "/session"); err != nil {
			return nil, err
		}
		return &signedIn{cookie(s.sessions.open(s.config.Now()), int(sessionLife.Seconds())), api.Session{Name: administrator}}, nil
	})
	huma.Register(h, huma.Operation{
		OperationID: "get-session", Method: http.MethodGet, Path: "/session", Summary: "Who is signed in", Tags: []string{"session"},
	}, func(ctx context.Context, _ *struct{}) (*reply[api.Session], error) {
		return answer(api.Session{Name: administrator}, nil)
	})
	type goodbye struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	huma.Register(h, huma.Operation{
		OperationID: "sign-out", Method: http.MethodDelete, Path: "/session", Summary: "Close the session", Tags: []string{"session"},
	}, func(ctx context.Context, in *struct {
		Session string `cookie:"jugate_session"`
	}) (*goodbye, error) {
		s.sessions.close(in.Session)
		return &goodbye{cookie("", -1)}, nil
	})
}
