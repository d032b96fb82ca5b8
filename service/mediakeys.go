package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/records"
)

// keyRoutes are about the keys of media.
func (s *Service) keyRoutes(h huma.API) {
	tags := []string{"boot environment"}
	huma.Register(h, huma.Operation{
		OperationID: "list-media-keys", Method: http.MethodGet, Path: "/media-keys", Tags: tags, Summary: "List the keys of media, the newest first",
	}, func(ctx context.Context, _ *struct{}) (*reply[api.Page[api.MediaKey]], error) {
		rows, err := s.records.MediaKeys(ctx)
		return items(rows, len(rows), err, mediaKey)
	})
	huma.Register(h, huma.Operation{
		OperationID: "limit-media-key", Method: http.MethodPut, Path: "/media-keys/{ref}", Tags: tags, Summary: "Say for whom a key of media is good, and until when",
	}, func(ctx context.Context, in *struct {
		Ref  string `path:"ref" doc:"The beginning of its id"`
		Body api.KeyLimits
	}) (*struct{}, error) {
		s.log.Info("key of media limited", "key", in.Ref, "group", in.Body.Group, "by", administrator)
		return nil, problem(s.records.LimitMediaKey(ctx, in.Ref, in.Body.Group, nullTime(in.Body.Until)))
	})
	huma.Register(h, huma.Operation{
		OperationID: "withdraw-media-key", Method: http.MethodDelete, Path: "/media-keys/{ref}", Tags: tags, Summary: "End a key of media",
	}, func(ctx context.Context, in *struct {
		Ref string `path:"ref" doc:"The beginning of its id"`
	}) (*struct{}, error) {
		s.log.Info("key of media withdrawn", "key", in.Ref, "by", administrator)
		return nil, problem(s.records.WithdrawMediaKey(ctx, in.Ref))
	})
}

func mediaKey(k records.MediaKey) api.MediaKey {
	return api.MediaKey{ID: k.Digest[:min(12, len(k.Digest))], Made: k.Made, Note: k.Note, Group: k.Group, Until: timeOf(k.Until), Used: timeOf(k.Used)}
}
