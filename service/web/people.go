package web

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/service/access"
)

func bearer(header string) string {
	kind, secret, _ := strings.Cut(header, " ")
	if !strings.EqualFold(kind, "Bearer") {
		return ""
	}
	return strings.TrimSpace(secret)
}

// requirePerson lets through requests with the token or a session, and those to
// operations that name no security.
func (s *Server) requirePerson(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		as := func() { next(huma.WithContext(ctx, actor.With(ctx.Context(), actor.Administrator))) }
		if open := ctx.Operation().Security; open != nil && len(open) == 0 {
			next(ctx)
			return
		}
		cookie, _ := huma.ReadCookie(ctx, api.SessionCookie)
		given := ctx.Header("Authorization")
		if given == "" && cookie != nil && s.Access.InSession(cookie.Value) {
			as()
			return
		}
		err := error(fault.Stranger.Errorf("sign in first: the token is in the file admin.token of the service's data folder"))
		if given != "" {
			err = s.Access.CheckToken(peer(ctx.Context()), bearer(given), ctx.Operation().Path)
		}
		if err != nil {
			huma.WriteErr(h, ctx, statuses[fault.KindOf(err)], err.Error())
			return
		}
		as()
	}
}

func (s *Server) sessionRoutes(h huma.API) {
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      api.Session
	}
	type goodbye struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	cookie := func(value string, age int) http.Cookie {
		return http.Cookie{Name: api.SessionCookie, Value: value, Path: "/api/v1", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
	}
	me := api.Session{Name: actor.Administrator.Name}
	huma.Register(h, huma.Operation{
		OperationID: "sign-in", Method: http.MethodPost, Path: "/session", Summary: "Open a session of the console", Description: descriptions["sign-in"],
		Security: []map[string][]string{}, Tags: []string{"session"}, Errors: []int{401, 429}, MaxBodyBytes: 4 << 10,
	}, func(ctx context.Context, in *struct{ Body api.SignIn }) (*signedIn, error) {
		if err := s.Access.CheckToken(peer(ctx), strings.TrimSpace(in.Body.Token), "/session"); err != nil {
			return nil, s.problem(err, "sign-in")
		}
		return &signedIn{cookie(s.Access.OpenSession(), int(access.SessionLife.Seconds())), me}, nil
	})
	answers(s, h, op("GET", "/session", "get-session", "session", "Tell who is signed in"), func(context.Context, *Nothing) (api.Session, error) { return me, nil })
	huma.Register(h, op("DELETE", "/session", "sign-out", "session", "Close the session"), func(ctx context.Context, in *struct {
		Session string `cookie:"jugate_session"`
	}) (*goodbye, error) {
		s.Access.CloseSession(in.Session)
		return &goodbye{cookie("", -1)}, nil
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
