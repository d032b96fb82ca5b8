package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"jugate/core/fault"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
)

// signIns are the codes that people sign in with at a workstation: short, as they
// are typed, and therefore good for some hours only.
type signIns struct {
	mu    sync.Mutex
	codes map[string]time.Time // until when
}

const (
	// codeAlphabet leaves out what looks alike.
	codeAlphabet = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"
	codeLength   = 8
)

// issue makes a code.
func (s *signIns) issue(now time.Time, life time.Duration) (string, time.Time) {
	b := make([]byte, codeLength)
	rand.Read(b)
	for i := range b {
		b[i] = codeAlphabet[int(b[i])%len(codeAlphabet)]
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.codes == nil {
		s.codes = map[string]time.Time{}
	}
	for old, until := range s.codes {
		if !now.Before(until) {
			delete(s.codes, old)
		}
	}
	s.codes[string(b)] = now.Add(life)
	return string(b[:4]) + "-" + string(b[4:]), now.Add(life)
}

// good tells whether a code is good, however it was typed.
func (s *signIns) good(now time.Time, typed string) bool {
	code := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToUpper(typed))
	s.mu.Lock()
	defer s.mu.Unlock()
	until, known := s.codes[code]
	return known && now.Before(until)
}

func (s *Service) wishRoutes(h huma.API) {
	huma.Register(h, huma.Operation{
		OperationID: "make-code", Method: http.MethodPost, Path: "/codes", Tags: []string{"network boot"},
		Summary: "Make a code that people sign in with at workstations",
	}, func(ctx context.Context, in *struct{ Body api.NewCode }) (*reply[api.Code], error) {
		code, until := s.signIns.issue(s.config.Now(), time.Duration(in.Body.Hours)*time.Hour)
		s.log.Info("code for workstations made", "until", until)
		return answer(api.Code{Code: code, Until: until}, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "get-access", Method: http.MethodGet, Path: "/images/{image}/access", Tags: []string{"images"}, Summary: "Show who may receive an image",
	}, func(ctx context.Context, in *struct {
		Image string `path:"image"`
	}) (*reply[api.Access], error) {
		if _, err := s.records.Version(ctx, roster.Ref{Image: in.Image}); err != nil {
			return nil, problem(err)
		}
		lines, err := s.records.ImageAccess(ctx, in.Image)
		if err != nil {
			return nil, problem(err)
		}
		out := api.Access{Groups: []string{}, Addresses: []string{}, Models: []string{}}
		for _, l := range lines {
			list := map[string]*[]string{"group": &out.Groups, "address": &out.Addresses, "model": &out.Models}[l.Kind]
			*list = append(*list, l.Value)
		}
		return answer(out, nil)
	})

	huma.Register(h, huma.Operation{
		OperationID: "set-access", Method: http.MethodPut, Path: "/images/{image}/access", Tags: []string{"images"},
		Summary: "Say who may receive an image; it is in the boot menu of those who are named. With nobody named it goes to everybody, and is in no menu",
	}, func(ctx context.Context, in *struct {
		Image string `path:"image"`
		Body  api.Access
	}) (*struct{}, error) {
		lines, err := s.accessLines(ctx, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return nil, problem(s.records.SetImageAccess(ctx, in.Image, lines))
	})
}

// mayReceive refuses workstations that an image's list does not name.
func (s *Service) mayReceive(ctx context.Context, image string, targets []records.Workstation) error {
	var not []string
	for _, w := range targets {
		may, err := s.records.MayReceive(ctx, image, w.ID)
		if err != nil {
			return err
		}
		if !may {
			not = append(not, w.Name)
		}
	}
	if not != nil {
		return fault.Conflict.Errorf("the list of who may receive %s does not name %s", image, strings.Join(not, ", "))
	}
	return nil
}

// signIn lets a person at a workstation order for this workstation.
func (s *Service) signIn(ctx context.Context, in *struct{ Body api.TypedCode }) (*reply[api.SignedIn], error) {
	id, now := caller(ctx), s.config.Now()
	if !s.tries.may(now, id, peer(ctx)) {
		s.log.Warn("too many wrong codes", "workstation", id, "from", peer(ctx))
		return nil, errTooManyTries
	}
	w, err := s.records.Workstation(ctx, id)
	if err != nil {
		return nil, problem(err)
	}
	if !s.isToken(in.Body.Code) && !s.signIns.good(now, in.Body.Code) {
		s.tries.wrong(now, id, peer(ctx))
		s.log.Warn("a wrong code was typed", "workstation", w.Label(), "from", peer(ctx))
		return nil, fault.Forbidden.Errorf("this code is not good (any more)")
	}
	s.agents.signIn(id)
	s.log.Info("somebody has signed in at a workstation", "workstation", w.Label())
	out := api.SignedIn{Images: []string{}}
	images, _, err := s.records.Images(ctx, records.Page{Limit: 100})
	if err != nil {
		return nil, err
	}
	for _, v := range images {
		may, err := s.records.MayReceive(ctx, v.Image, id)
		if err != nil {
			return nil, err
		}
		if may {
			out.Images = append(out.Images, v.Image)
		}
	}
	return answer(out, nil)
}

// wish does what a person at a workstation has chosen. Without signing in, only what
// was prepared for this workstation can be had.
func (s *Service) wish(ctx context.Context, in *struct{ Body api.Wish }) (*struct{}, error) {
	id := caller(ctx)
	w, err := s.records.Workstation(ctx, id)
	if err != nil {
		return nil, problem(err)
	}
	p, _ := s.agents.presence(id)
	if !p.signedIn {
		prepared, err := s.records.Prepared(ctx, id)
		if err != nil {
			return nil, err
		}
		if in.Body.Kind != "receive" || !slices.Contains(prepared, in.Body.Image) {
			return nil, fault.Forbidden.Errorf("sign in first")
		}
	}
	by := cmp.Or(w.Name, "somebody") + ", at the workstation"
	switch in.Body.Kind {
	case "admit":
		if err := roster.CheckName("a workstation", in.Body.Name); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		_, err = s.changeWorkstation(ctx, w.Address().String(), func(id int64) error { return s.records.Admit(ctx, id, in.Body.Name, nil) })
	case "receive":
		if err = roster.MustBeAdmitted(w.Label(), w.State); err != nil {
			return nil, fault.Conflict.Mark(err)
		}
		_, err = s.orderBy(ctx, by, api.NewDelivery{Image: in.Body.Image, To: []string{w.Name}, WhenDone: "restart"})
	case "capture":
		if err = roster.MustBeAdmitted(w.Label(), w.State); err != nil {
			return nil, fault.Conflict.Mark(err)
		}
		if err = roster.CheckName("an image", in.Body.Image); err != nil {
			return nil, fault.Invalid.Mark(err)
		}
		var options []byte
		if options, err = json.Marshal(api.CaptureOptions{Disk: "only"}); err == nil {
			_, err = s.records.AddCapture(ctx, s.config.Now(), id, in.Body.Image, "ordered "+by, string(options))
		}
	}
	if err != nil {
		return nil, problem(err)
	}
	s.log.Info("ordered at a workstation", "workstation", w.Label(), "what", in.Body.Kind, "image", in.Body.Image)
	s.agents.wake(id)
	return nil, nil
}

// accessLines are the lines of a list, checked: a group that is not there would
// quietly let nobody in.
func (s *Service) accessLines(ctx context.Context, in api.Access) (lines []records.Access, err error) {
	for _, g := range in.Groups {
		if _, err := s.records.Group(ctx, g); err != nil {
			return nil, err
		}
		lines = append(lines, records.Access{Kind: "group", Value: g})
	}
	for _, text := range in.Addresses {
		a, err := parseAddress(text)
		if err != nil {
			return nil, err
		}
		lines = append(lines, records.Access{Kind: "address", Value: a.String()})
	}
	for _, m := range in.Models {
		lines = append(lines, records.Access{Kind: "model", Value: m})
	}
	return lines, nil
}
