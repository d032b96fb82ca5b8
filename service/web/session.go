package web

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/rights"
	"jugate/service/access"
)

// Browser is what a browser calls itself.
type Browser struct {
	Program string `header:"User-Agent" doc:"What the browser calls itself" maxLength:"1000" example:"a browser"`
}

// LinkRef is a link to set a password, in a path.
type LinkRef struct {
	Secret string `path:"invitation" doc:"The link's secret" maxLength:"100" example:"5d41402abc4b2a76b9719d911017c592"`
}

// signedIn answers with a session's cookie.
type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func sessionCookie(value string, age int) http.Cookie {
	return http.Cookie{Name: api.SessionCookie, Value: value, Path: "/api/v1", MaxAge: age, Secure: true, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

// sessionOf tells who is signed in, and what they may do.
func sessionOf(c access.Caller) api.Session {
	out := api.Session{Name: c.Name, Rights: []rights.Right{}, Factor: c.Factor, Password: c.Password}
	for _, r := range rights.All {
		if c.Holder.Somewhere(r) {
			out.Rights = append(out.Rights, r)
		}
	}
	return out
}

func (s *Server) sessionRoutes(h huma.API) {
	type goodbye struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	open := func(o huma.Operation) huma.Operation {
		o.Security, o.MaxBodyBytes, o.Errors = []map[string][]string{}, 4<<10, []int{401, 422, 429}
		return o
	}
	huma.Register(h, open(op("POST", "/session", "sign-in", "session", "Open a session of the console")), func(ctx context.Context, in *struct {
		Browser
		Body api.SignIn
	}) (*signedIn, error) {
		var secret string
		var c access.Caller
		var err error
		if token := strings.TrimSpace(in.Body.Token); token != "" {
			secret, c, err = s.Access.OpenByToken(ctx, peer(ctx), token, in.Program)
		} else {
			secret, c, err = s.Access.SignInPerson(ctx, peer(ctx), in.Body, in.Program)
		}
		if errors.Is(err, access.ErrCode) {
			return nil, &huma.ErrorModel{Type: api.CodeNeeded, Title: http.StatusText(http.StatusUnauthorized), Status: http.StatusUnauthorized, Detail: err.Error()}
		}
		if err != nil {
			return nil, s.problem(err, "sign-in")
		}
		return &signedIn{sessionCookie(secret, int(access.SessionLife.Seconds())), sessionOf(c)}, nil
	})
	answers(s, h, op("GET", "/session", "get-session", "session", "Tell who is signed in"), func(ctx context.Context, _ *Nothing) (api.Session, error) { return sessionOf(callerIn(ctx)), nil })
	huma.Register(h, op("DELETE", "/session", "sign-out", "session", "Close the session"), func(ctx context.Context, in *struct {
		Session string `cookie:"jugate_session"`
	}) (*goodbye, error) {
		if err := s.Access.CloseSession(ctx, in.Session); err != nil {
			return nil, s.problem(err, "sign-out")
		}
		return &goodbye{sessionCookie("", -1)}, nil
	})
	does(s, h, op("PUT", "/session/password", "change-password", "session", "Set one's own password"), func(ctx context.Context, in *struct{ Body api.PasswordChange }) error {
		return s.Access.ChangePassword(ctx, callerIn(ctx), in.Body)
	})
	answers(s, h, op("POST", "/session/second-factor", "offer-factor", "session", "Make the secret of a second factor for oneself"),
		func(ctx context.Context, _ *Nothing) (api.OfferedFactor, error) {
			return s.Access.OfferFactor(ctx, callerIn(ctx))
		})
	does(s, h, op("PUT", "/session/second-factor", "confirm-factor", "session", "Have one's second factor count, by a code of it"), func(ctx context.Context, in *struct{ Body api.FactorCode }) error {
		return s.Access.ConfirmFactor(ctx, callerIn(ctx), peer(ctx), in.Body.Code)
	})
	does(s, h, op("POST", "/session/second-factor/remove", "remove-factor", "session", "End one's second factor, by a code of it"), func(ctx context.Context, in *struct{ Body api.FactorCode }) error {
		return s.Access.RemoveFactor(ctx, callerIn(ctx), peer(ctx), in.Body.Code)
	})
	answers(s, h, open(op("GET", "/invitations/{invitation}", "get-invitation", "session", "Tell whom a link to set a password is for")),
		func(ctx context.Context, in *LinkRef) (api.Invited, error) {
			return s.Access.Invited(ctx, peer(ctx), in.Secret)
		})
	huma.Register(h, open(op("POST", "/invitations/{invitation}", "accept-invitation", "session", "Set a password by a link, and open a session")), func(ctx context.Context, in *struct {
		LinkRef
		Browser
		Body api.Acceptance
	}) (*signedIn, error) {
		secret, err := s.Access.Accept(ctx, peer(ctx), in.Secret, in.Body, in.Program)
		if err != nil {
			return nil, s.problem(err, "accept-invitation")
		}
		c, err := s.Access.BySession(ctx, peer(ctx), secret)
		if err != nil {
			return nil, s.problem(err, "accept-invitation")
		}
		return &signedIn{sessionCookie(secret, int(access.SessionLife.Seconds())), sessionOf(c)}, nil
	})
	lists(s, h, op("GET", "/sessions", "list-sessions", "session", "List sessions of the console: one's own, or with the right to administer those of all"),
		func(ctx context.Context, _ *Nothing) ([]api.OpenSession, int, error) {
			return uncut(s.Access.Sessions(ctx, callerIn(ctx)))
		})
	does(s, h, op("DELETE", "/sessions/{session}", "end-session", "session", "End a session"), func(ctx context.Context, in *struct {
		ID string `path:"session" doc:"Its id" maxLength:"12" example:"5d41402abc4b"`
	}) error {
		return s.Access.EndSession(ctx, callerIn(ctx), in.ID)
	})
}
