package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

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
