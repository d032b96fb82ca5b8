package web

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

// Every answer says in lineHeader what the newest line of the logbook was. Who sends that number with a change, in
// sinceHeader, is refused if somebody else has changed the same thing since, and told who and what
// (the change that would be lost without being seen: RFC 9110, section 13.1).
const (
	lineHeader  = "Logbook-Line"
	sinceHeader = "Unchanged-Since-Line"
)

// lookedThrough is how many lines there may be since: whoever has looked away for longer looks again.
const lookedThrough = 1000

// thing is what a change is about: what kind, and which.
type thing struct{ kind, name string }

// namedIn are fields of what is sent which name what a change is about, where the path names nothing.
var namedIn = []string{"order", "role", "set", "name", "of", "quiet_time", "machine", "model"}

// kinds are the tags of operations.
func kinds(h huma.API) map[string]string {
	all := map[string]string{}
	for _, item := range h.OpenAPI().Paths {
		for _, o := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch} {
			if o != nil {
				all[o.OperationID] = o.Tags[0]
			}
		}
	}
	return all
}

func thingOf(kind, subject string, sent []byte) thing {
	_, name, _ := strings.Cut(subject, " ")
	for _, field := range namedIn {
		if name == "" {
			name = saidAs(sent, field)
		}
	}
	return thing{kind, strings.ToLower(name)}
}

// tellLine is a middleware that says how long the logbook is.
func (s *Server) tellLine(ctx huma.Context, next func(huma.Context)) {
	if n, err := s.Records.LastLine(ctx.Context()); err == nil {
		ctx.SetHeader(lineHeader, strconv.FormatInt(n, 10))
	}
	next(ctx)
}

// changedSince tells who else has changed what a request is about since its sender looked; empty if nobody has, or if the sender does not ask.
func (s *Server) changedSince(h huma.API, ctx huma.Context, sent []byte) (string, error) {
	o := ctx.Operation()
	if o.Method != http.MethodPut && o.Method != http.MethodPatch || ctx.Header(sinceHeader) == "" {
		return "", nil
	}
	since, err := strconv.ParseInt(ctx.Header(sinceHeader), 10, 64)
	if err != nil || since < 0 {
		return "", fault.Invalid.Errorf("%s has to be the number of a line of the logbook", sinceHeader)
	}
	kinds := kinds(h)
	about := thingOf(kinds[o.OperationID], subjectOf(ctx), sent)
	rows, total, err := s.Records.Lines(rights.With(context.WithoutCancel(ctx.Context()), nil), records.LineFilter{After: since}, records.Page{Limit: lookedThrough})
	if err != nil {
		return "", err
	}
	for _, l := range rows {
		if l.Changes != "" && thingOf(kinds[l.Operation], l.Subject, []byte(l.Details)) == about {
			what := ""
			if rights.From(ctx.Context()).Groups(rights.See) == nil { // who sees all may see this, whatever it is about
				what = ": " + changeInWords(l.Changes)
			}
			return fmt.Sprintf("%s has changed this since you opened it%s. Look at it again, or change it all the same", l.Who, what), nil
		}
	}
	if total > len(rows) {
		return "you opened this long ago, and much was changed since. Look at it again, or change it all the same", nil
	}
	return "", nil
}

// changeInWords tells fields with what they were and are.
func changeInWords(text string) string {
	var all map[string]change
	if json.Unmarshal([]byte(text), &all) != nil {
		return "the logbook says how"
	}
	var words []string
	for _, field := range slices.Sorted(maps.Keys(all)) {
		words = append(words, fmt.Sprintf("%s is %s, and was %s", field, valueInWords(all[field].After), valueInWords(all[field].Before)))
	}
	return strings.Join(words, "; ")
}

func valueInWords(v any) string {
	if v == nil {
		return "not there"
	}
	text, err := json.Marshal(v)
	if err != nil {
		return "something else"
	}
	return clipped(string(text))
}
