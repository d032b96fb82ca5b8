package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	core "jugate/core/answers"
)

func (s *Server) answerRoutes(h huma.API) {
	const tag = "answers"
	lists(s, h, op("GET", "/answers", "list-answers", tag, "List what is set of what workstations are to become"),
		func(ctx context.Context, in *struct {
			Of string `query:"of" doc:"What is set in this place alone: service, image:NAME, model:NAME, group:NAME, workstation:NAME, or the name of a group or workstation" maxLength:"220" example:"group:herbarium"`
		}) ([]api.Answer, int, error) {
			return uncut(s.Fleet.Answers(ctx, in.Of))
		})
	lists(s, h, op("GET", "/answer-keys", "list-answer-keys", tag, "List what workstations can be told"),
		func(context.Context, *struct{}) ([]api.AnswerKey, int, error) {
			keys := make([]api.AnswerKey, len(core.Keys))
			for i, k := range core.Keys {
				keys[i] = api.AnswerKey{Key: k.Name, Form: k.Form, Example: k.Example, Doc: k.Doc, Secret: k.Secret, Asked: k.Cell && k.Name != "domain"}
			}
			return keys, len(keys), nil
		})
	lists(s, h, op("PUT", "/answers", "set-answers", tag, "Set or unset answers in one place"),
		func(ctx context.Context, in *struct{ Body api.NewAnswers }) ([]api.Answer, int, error) {
			return uncut(s.Fleet.SetAnswers(ctx, in.Body))
		})
	answers(s, h, op("GET", "/answers-check", "check-answers", tag, "Tell for which workstations answers contradict each other or are missing"),
		func(ctx context.Context, in *struct {
			To    []string `query:"to" nullable:"false" doc:"Groups and workstations; the whole roster by default" maxItems:"1000" example:"[\"herbarium\"]"`
			Where string   `query:"where" doc:"A condition over the roster (docs/roster.md)" maxLength:"1000" example:"memory >= 8GiB"`
			Image string   `query:"image" doc:"NAME or NAME@VERSION, for a delivery of that" maxLength:"80" example:"garden-desk@3"`
		}) (api.AnswersCheck, error) {
			return s.Fleet.CheckAnswers(ctx, in.To, in.Where, in.Image)
		})
	answers(s, h, op("GET", "/workstations/{workstation}/answers", "get-answers", tag, "Show the answers that count for a workstation, and where each is set"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Image string `query:"image" doc:"NAME or NAME@VERSION" maxLength:"80" example:"garden-desk@3"`
		}) (api.ResolvedAnswers, error) {
			return s.Fleet.Resolved(ctx, in.Ref, in.Image)
		})
	answers(s, h, op("GET", "/workstations/{workstation}/answers/preview", "preview-answers", tag, "Show what the answers of a workstation do to the system of an image"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Image string `query:"image" required:"true" doc:"NAME or NAME@VERSION" maxLength:"80" example:"garden-desk@3"`
		}) (api.AnswersPreview, error) {
			return s.Fleet.PreviewAnswers(ctx, in.Ref, in.Image)
		})
}
