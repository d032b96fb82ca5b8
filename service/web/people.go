package web

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/service/access"
)

func bearer(header string) string {
	kind, secret, _ := strings.Cut(header, " ")
	if !strings.EqualFold(kind, "Bearer") {
		return ""
	}
	return strings.TrimSpace(secret)
}

// requirePerson lets through requests with a token or a session, of who may do what is asked, and
// those to operations that name no security.
func (s *Server) requirePerson(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if open := ctx.Operation().Security; open != nil && len(open) == 0 {
			next(ctx)
			return
		}
		c, err := s.caller(ctx)
		if err == nil {
			var within huma.Context
			if within, err = s.let(ctx, c, ctx.Operation()); err == nil {
				next(within)
				return
			}
		}
		p := s.problem(err, ctx.Operation().OperationID)
		huma.WriteErr(h, ctx, p.GetStatus(), p.Error())
	}
}

// caller tells who calls.
func (s *Server) caller(ctx huma.Context) (access.Caller, error) {
	if given := ctx.Header("Authorization"); given != "" {
		return s.Access.ByToken(ctx.Context(), peer(ctx.Context()), bearer(given), ctx.Operation().Path)
	}
	cookie, err := huma.ReadCookie(ctx, api.SessionCookie)
	if err != nil {
		return access.Caller{}, fault.Stranger.Errorf("sign in first")
	}
	return s.Access.BySession(ctx.Context(), cookie.Value)
}

// Browser is what a browser calls itself.
type Browser struct {
	Program string `header:"User-Agent" doc:"What the browser calls itself" maxLength:"1000" example:"a browser"`
}

// LinkRef is a link to set a password, in a path.
type LinkRef struct {
	Secret string `path:"invitation" doc:"The link's secret" maxLength:"100" example:"5d41402abc4b2a76b9719d911017c592"`
}

// PersonRef names a person in a path.
type PersonRef struct {
	Name string `path:"person" doc:"With which they sign in" maxLength:"63" example:"ines"`
}

// signedIn answers with a session's cookie.
type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Session
}

func sessionCookie(value string, age int) http.Cookie {
	return http.Cookie{Name: api.SessionCookie, Value: value, Path: "/api/v1", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

// sessionOf tells who is signed in, and what they may do.
func sessionOf(c access.Caller) api.Session {
	out := api.Session{Name: c.Name, Rights: []rights.Right{}}
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
			secret, c, err = s.Access.SignInPerson(ctx, peer(ctx), in.Body.Name, in.Body.Password, in.Program)
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
		c, err := s.Access.BySession(ctx, secret)
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

func (s *Server) peopleRoutes(h huma.API) {
	const tag = "people"
	lists(s, h, op("GET", "/people", "list-people", tag, "List those who may sign in"), func(ctx context.Context, _ *Nothing) ([]api.Person, int, error) { return uncut(s.Access.People(ctx)) })
	answers(s, h, op("POST", "/people", "add-person", tag, "Take a person in"), func(ctx context.Context, in *struct{ Body api.NewPerson }) (api.Person, error) {
		return s.Access.AddPerson(ctx, in.Body)
	})
	answers(s, h, op("GET", "/people/{person}", "get-person", tag, "Show a person"), func(ctx context.Context, in *PersonRef) (api.Person, error) { return s.Access.Person(ctx, in.Name) })
	answers(s, h, op("PATCH", "/people/{person}", "change-person", tag, "Change what is said of a person, or granted"), func(ctx context.Context, in *struct {
		PersonRef
		Body api.PersonChange
	}) (api.Person, error) {
		return s.Access.ChangePerson(ctx, in.Name, in.Body)
	})
	does(s, h, op("DELETE", "/people/{person}", "remove-person", tag, "Remove a person; what they did stays on record"), func(ctx context.Context, in *PersonRef) error { return s.Access.RemovePerson(ctx, in.Name) })
	answers(s, h, op("POST", "/people/{person}/invitation", "invite-person", tag, "Make a link with which a person sets a password"), func(ctx context.Context, in *PersonRef) (api.Invitation, error) {
		return s.Access.Invite(ctx, in.Name)
	})
	lists(s, h, op("GET", "/roles", "list-roles", tag, "List roles"), func(ctx context.Context, _ *Nothing) ([]api.Role, int, error) { return uncut(s.Access.Roles(ctx)) })
	answers(s, h, op("PUT", "/roles", "put-role", tag, "Keep a role of the service's own"), func(ctx context.Context, in *struct{ Body api.NewRole }) (api.Role, error) {
		return s.Access.PutRole(ctx, in.Body)
	})
	does(s, h, op("DELETE", "/roles/{role}", "remove-role", tag, "Remove a role that nobody has"), func(ctx context.Context, in *struct {
		Name string `path:"role" doc:"Its name" maxLength:"63" example:"keeper"`
	}) error {
		return s.Access.RemoveRole(ctx, in.Name)
	})
	lists(s, h, op("GET", "/tokens", "list-tokens", tag, "List tokens of programs: one's own, or with the right to administer those of all"),
		func(ctx context.Context, _ *Nothing) ([]api.Token, int, error) {
			return uncut(s.Access.Tokens(ctx, callerIn(ctx)))
		})
	answers(s, h, op("POST", "/tokens", "add-token", tag, "Make a token for a program"), func(ctx context.Context, in *struct{ Body api.NewToken }) (api.IssuedToken, error) {
		return s.Access.AddToken(ctx, callerIn(ctx), in.Body)
	})
	does(s, h, op("DELETE", "/tokens/{token}", "remove-token", tag, "End a token"), func(ctx context.Context, in *struct {
		Name string `path:"token" doc:"Its name" maxLength:"63" example:"nightly-capture"`
	}) error {
		return s.Access.RemoveToken(ctx, callerIn(ctx), in.Name)
	})
}

func (s *Server) accessRoutes(h huma.API) {
	answers(s, h, op("POST", "/codes", "make-code", "network boot", "Make a code that people sign in with at workstations"),
		func(_ context.Context, in *struct{ Body api.NewCode }) (api.Code, error) {
			return s.Access.MakeCode(time.Duration(in.Body.Hours) * time.Hour), nil
		})
	answers(s, h, op("GET", "/images/{image}/recipients", "get-recipients", "images", "Show who may receive an image"),
		func(ctx context.Context, in *ImageRef) (api.Recipients, error) {
			return s.Access.Recipients(ctx, in.Image)
		})
	does(s, h, op("PUT", "/images/{image}/recipients", "set-recipients", "images",
		"Say who may receive an image; it is in the boot menu of those who are named. With nobody named it goes to everybody, and is in no menu"),
		func(ctx context.Context, in *struct {
			ImageRef
			Body api.Recipients
		}) error {
			return s.Access.SetRecipients(ctx, in.Image, in.Body)
		})

	type keyRef struct {
		Ref string `path:"key" doc:"The beginning of its id" maxLength:"64" example:"5d41"`
	}
	lists(s, h, op("GET", "/media-keys", "list-media-keys", "boot environment", "List the keys of media, the newest first"),
		func(ctx context.Context, _ *Nothing) ([]api.MediaKey, int, error) {
			return uncut(s.Access.MediaKeys(ctx))
		})
	does(s, h, op("PUT", "/media-keys/{key}", "limit-media-key", "boot environment", "Say for whom a key of media is good, and until when"),
		func(ctx context.Context, in *struct {
			Ref  string `path:"key" doc:"The beginning of its id" maxLength:"64" example:"5d41"`
			Body api.KeyLimits
		}) error {
			return s.Access.LimitMediaKey(ctx, in.Ref, in.Body)
		})
	does(s, h, op("DELETE", "/media-keys/{key}", "withdraw-media-key", "boot environment", "End a key of media"),
		func(ctx context.Context, in *keyRef) error { return s.Access.WithdrawMediaKey(ctx, in.Ref) })
}
