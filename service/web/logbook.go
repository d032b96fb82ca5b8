package web

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/actor"
	core "jugate/core/answers"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

// noted is how much of what was sent a line of the logbook has, in bytes.
const noted = 8 << 10

// unnoted are operations that are no change that anybody would look for: tries, reads that are not GET, and
// the many parts of one import.
var unnoted = []string{"send-trial", "plan-delivery", "try-order", "import-missing", "import-slab", "import-map", "check-domain", "check-directory", "try-notification-rule", "try-mail", "sign-out", "restore-log", "ask-witnesses"}

// logbook is a middleware that writes a line for each change that was made. A change that would undo somebody else's unseen
// is not made.
func (s *Server) logbook(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) { s.onRecord(h, ctx, next) }
}

func (s *Server) onRecord(h huma.API, ctx huma.Context, next func(huma.Context)) {
	o := ctx.Operation()
	if o.Method == http.MethodGet || slices.Contains(unnoted, o.OperationID) {
		next(ctx)
		return
	}
	sent := &teed{request: ctx}
	sent.begin()
	if other, err := s.changedSince(h, ctx, sent.body.Bytes()); err != nil {
		p := s.problem(err, o.OperationID)
		huma.WriteErr(h, ctx, p.GetStatus(), p.Error())
		return
	} else if other != "" {
		huma.WriteErr(h, ctx, http.StatusPreconditionFailed, other)
		return
	}
	look := s.stated(ctx, o.OperationID, sent.body.Bytes())
	before := s.seen(ctx, look)
	next(sent)
	if ctx.Status() >= http.StatusBadRequest {
		return
	}
	c := callerIn(ctx.Context())
	through := "program"
	switch {
	case c.Session != "":
		through = "console"
	case strings.HasPrefix(ctx.Header("User-Agent"), api.CommandLine):
		through = "command line"
	}
	l := records.Line{At: s.Now(), Who: c.String(), Kind: string(c.Kind), From: peer(ctx.Context()).String(), Through: through, Operation: o.OperationID, Subject: subjectOf(ctx), Details: leftOut(sent.body.Bytes())}
	if look != nil {
		l.Changes = changes(before, s.seen(ctx, look))
	}
	if c.Holder == nil { // nobody was signed in yet
		l.Who, l.Through = signingIn(sent.body.Bytes()), "console"
	}
	if _, err := s.Records.AddLine(context.WithoutCancel(ctx.Context()), l); err != nil {
		s.Log.Error("the logbook cannot be written", "operation", l.Operation, "by", l.Who, "error", err)
	}
}

// seen is the state of what a change is about; nothing if it cannot be told, which the log says.
func (s *Server) seen(ctx huma.Context, look look) map[string]any {
	if look == nil {
		return nil
	}
	state, err := look(rights.With(context.WithoutCancel(ctx.Context()), nil)) // the whole of it, whatever the caller may see
	if err != nil && fault.KindOf(err) == "" {
		s.Log.Warn("the logbook lacks what a change was about", "operation", ctx.Operation().OperationID, "error", err)
	}
	return state
}

// signingIn is whoever signs in, or sets a password by a link.
func signingIn(sent []byte) string {
	var in struct {
		Name   string `json:"name"`
		Person string `json:"person"`
		Token  string `json:"token"`
	}
	json.Unmarshal(sent, &in)
	if in.Token != "" {
		return actor.Administrator.String()
	}
	return cmp.Or(in.Name, in.Person, "somebody, by a link")
}

// subjectOf is what the path names, in its order.
func subjectOf(ctx huma.Context) string {
	var names []string
	for _, p := range ctx.Operation().Parameters {
		if p.In == "path" && p.Name != "invitation" {
			names = append(names, p.Name+" "+clipped(ctx.Param(p.Name)))
		}
	}
	return strings.Join(names, ", ")
}

// request is huma's context, under a name that is no method of it.
type request huma.Context

// teed keeps the beginning of what is sent.
type teed struct {
	request
	body bytes.Buffer
	rest io.Reader // all of it, once begun
}

// begin reads the beginning. What fails there fails again for whoever reads the rest.
func (t *teed) begin() {
	if strings.HasPrefix(t.Header("Content-Type"), "application/json") {
		whole := t.request.BodyReader()
		io.CopyN(&t.body, whole, noted)
		t.rest = io.MultiReader(bytes.NewReader(t.body.Bytes()), whole)
	}
}

// BodyReader is huma's.
func (t *teed) BodyReader() io.Reader {
	if t.rest == nil {
		return t.request.BodyReader()
	}
	return t.rest
}

// Unwrap is for huma, which looks for what it has made itself.
func (t *teed) Unwrap() huma.Context { return t.request }

// secrets are names of fields whose value no line has.
var secrets = []string{"password", "old_password", "new_password", "token", "seal_key", "webhook", "second_factor_code"}

// leftOut is what was sent, without secrets; empty if it was no JSON, or too long to be one.
func leftOut(sent []byte) string {
	var v any
	if len(sent) == 0 || len(sent) >= noted || json.Unmarshal(sent, &v) != nil {
		return "{}"
	}
	text, err := json.Marshal(withoutSecrets(v))
	if err != nil {
		return "{}"
	}
	return string(text)
}

func withoutSecrets(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for key, one := range v {
			k := core.Find(key)
			if text, is := one.(string); slices.Contains(secrets, key) && is && text != "" || k != nil && k.Secret && one != nil {
				v[key] = "(left out)"
			} else {
				v[key] = withoutSecrets(one)
			}
		}
	case []any:
		for i, one := range v {
			v[i] = withoutSecrets(one)
		}
	}
	return v
}

func (s *Server) logbookRoutes(h huma.API) {
	lists(s, h, op("GET", "/logbook", "list-lines", "logbook", "List who changed what, the newest first; sort by at, who or operation"),
		func(ctx context.Context, in *struct {
			Paging
			Who       string    `query:"who" doc:"By whom" maxLength:"200" example:"ines"`
			Operation string    `query:"operation" doc:"By its id" maxLength:"100" example:"deliver"`
			Since     time.Time `query:"since" doc:"From then on" example:"2026-03-01T00:00:00Z"`
			Until     time.Time `query:"until" doc:"Before then" example:"2026-04-01T00:00:00Z"`
		}) ([]api.Line, int, error) {
			rows, total, err := s.Records.Lines(ctx, records.LineFilter{Who: in.Who, Operation: in.Operation, Since: in.Since, Until: in.Until}, in.page())
			all := make([]api.Line, len(rows))
			for i, l := range rows {
				all[i] = api.Line{ID: l.ID, At: l.At, Who: l.Who, From: l.From, Through: l.Through, Operation: l.Operation, Subject: l.Subject, Details: json.RawMessage(l.Details)}
				if l.Changes != "" {
					all[i].Changes = json.RawMessage(l.Changes)
				}
			}
			return all, total, err
		})
}
