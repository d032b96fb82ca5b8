package web

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/service/access"
)

// part is what of the house an operation's right has to be held for.
type part int

const (
	everything part = iota // the right is needed for everything
	named                  // for the workstation, group, image, delivery or errand that the path names
	chosen                 // for each workstation that is chosen: the room that chooses checks
	somewhere              // for anything: the answer has what the right is held for
	anybody                // whoever is signed in
)

// needs says which right an operation takes, and for what.
type needs struct {
	right rights.Right
	part  part
}

// needed has every operation of the API for people; one that is not here is refused to everybody.
var needed = map[string]needs{
	"get-session": {part: anybody}, "sign-out": {part: anybody}, "change-password": {part: anybody}, "offer-factor": {part: anybody}, "confirm-factor": {part: anybody}, "remove-factor": {part: anybody}, "list-terms": {part: anybody}, "list-answer-keys": {part: anybody},
	"list-tokens": {part: anybody}, "add-token": {part: anybody}, "remove-token": {part: anybody}, "list-sessions": {part: anybody}, "end-session": {part: anybody},

	"list-workstations": {rights.See, somewhere}, "list-groups": {rights.See, somewhere}, "list-images": {rights.See, somewhere},
	"get-workstation": {rights.See, named}, "get-answers": {rights.See, named}, "preview-answers": {rights.See, named}, "explain-drivers": {rights.See, named},
	"list-versions": {rights.See, named}, "get-version": {rights.See, named}, "compare-versions": {rights.See, named}, "list-files": {rights.See, named}, "compare-files": {rights.See, named}, "get-file": {rights.KeepImages, named}, "get-recipients": {rights.See, named}, "get-delivery": {rights.See, named}, "get-course": {rights.See, named}, "get-errand": {rights.See, named},
	"check-answers": {rights.See, chosen},
	"list-answers":  {rights.See, everything}, "list-domains": {rights.See, everything}, "list-payloads": {rights.See, everything}, "get-payload": {rights.See, everything},
	"list-cards": {rights.See, everything}, "list-refusals": {rights.See, everything}, "export-roster": {rights.See, everything}, "list-deliveries": {rights.See, everything},
	"list-errands": {rights.See, everything}, "list-receipts": {rights.See, everything}, "get-receipt": {rights.See, everything}, "check-log": {rights.See, everything}, "get-head": {rights.See, everything}, "get-log-keys": {rights.See, everything}, "get-growth": {rights.See, everything}, "prove-receipt": {rights.See, everything}, "export-log": {rights.See, everything}, "prove-line": {rights.See, everything}, "list-witnesses": {rights.See, everything}, "list-watched": {rights.See, everything}, "events": {rights.See, everything},
	"get-overview": {rights.See, everything}, "restart-part": {rights.KeepSites, everything}, "report-rooms": {rights.See, everything}, "report-failures": {rights.See, everything}, "report-savings": {rights.See, everything}, "report-licences": {rights.See, everything}, "report-drivers": {rights.See, everything}, "list-lines": {rights.See, everything}, "list-builds": {rights.See, everything}, "list-boot-entries": {rights.See, everything}, "get-boot-entry": {rights.See, everything}, "list-boot-starts": {rights.See, everything}, "preview-boot-entry": {rights.See, everything}, "get-build": {rights.See, everything}, "diff-builds": {rights.See, everything}, "list-media-keys": {rights.See, everything}, "netboot-status": {rights.See, everything}, "netboot-advice": {rights.See, everything},
	"coverage": {rights.See, everything}, "list-drivers": {rights.See, everything}, "get-driver": {rights.See, everything}, "list-driver-sets": {rights.See, everything}, "try-driver-set": {rights.See, everything},

	"admit-workstation": {rights.Admit, named}, "rename-workstation": {rights.Admit, named}, "retire-workstation": {rights.Admit, named}, "forget-workstation": {rights.Admit, named}, "relearn-workstation": {rights.Admit, named},
	"note-workstation": {rights.Admit, named}, "set-site": {rights.Admit, named}, "set-fields": {rights.Admit, named}, "fix-address": {rights.Admit, named}, "include": {rights.Admit, chosen}, "exclude": {rights.Admit, chosen}, "name-workstations": {rights.Admit, chosen},
	"import-roster": {rights.Admit, everything}, "add-group": {rights.Admit, everything}, "remove-group": {rights.Admit, everything}, "refuse-machine": {rights.Admit, everything}, "end-refusal": {rights.Admit, everything},
	"accept-card": {rights.Admit, everything}, "move-card": {rights.Admit, everything}, "remove-card": {rights.Admit, everything}, "share-card": {rights.Admit, everything}, "unshare-card": {rights.Admit, everything},

	"set-answers": {rights.Answer, chosen},

	"capture": {rights.Capture, chosen},
	"deliver": {rights.Deliver, chosen}, "plan-delivery": {rights.Deliver, chosen}, "extend-delivery": {rights.Deliver, chosen}, "stop-delivery": {rights.Deliver, named}, "pause-delivery": {rights.Deliver, named}, "resume-delivery": {rights.Deliver, named},
	"set-rate": {rights.Deliver, named}, "install-drivers": {rights.Deliver, chosen}, "install-payloads": {rights.Deliver, chosen}, "stop-errand": {rights.Deliver, named}, "wake": {rights.Deliver, chosen}, "tell-systems": {rights.Deliver, chosen},
	"make-code": {rights.Deliver, everything}, "check": {rights.Deliver, chosen}, "wipe": {rights.Wipe, chosen}, "list-checks": {rights.See, somewhere}, "get-check": {rights.See, somewhere}, "set-group-image": {rights.Deliver, named},

	// The room checks the rights of what an order does.
	"list-orders": {rights.Order, somewhere}, "get-order": {rights.Order, somewhere}, "next-runs": {rights.Order, somewhere}, "list-runs": {rights.Order, somewhere}, "get-run": {rights.Order, somewhere},
	"save-order": {rights.Order, somewhere}, "try-order": {rights.Order, somewhere}, "remove-order": {rights.Order, somewhere}, "run-order": {rights.Order, somewhere}, "stop-run": {rights.Order, somewhere}, "go-on-run": {rights.Order, somewhere},
	"list-quiet-times": {rights.Order, somewhere}, "save-quiet-time": {rights.Order, everything}, "remove-quiet-time": {rights.Order, everything},

	"note-version": {rights.KeepImages, named}, "retire-version": {rights.KeepImages, named}, "readmit-version": {rights.KeepImages, named}, "verify-version": {rights.KeepImages, named}, "settle-version": {rights.KeepImages, named}, "rename-image": {rights.KeepImages, named}, "set-recipients": {rights.KeepImages, named},
	"sign-version": {rights.KeepImages, named}, "export-manifest": {rights.See, named}, "export-map": {rights.See, named}, "export-slab": {rights.KeepImages, everything}, "prune": {rights.KeepImages, everything}, "rescan": {rights.KeepImages, everything},
	"begin-import": {rights.KeepImages, everything}, "import-missing": {rights.KeepImages, everything}, "import-slab": {rights.KeepImages, everything}, "import-map": {rights.KeepImages, everything}, "import-manifest": {rights.KeepImages, everything},

	"add-boot-entry": {rights.KeepDrivers, everything}, "set-boot-entry": {rights.KeepDrivers, everything}, "remove-boot-entry": {rights.KeepDrivers, everything}, "choose-boot-entry": {rights.Deliver, chosen},
	"add-drivers": {rights.KeepDrivers, everything}, "remove-driver": {rights.KeepDrivers, everything}, "save-driver-set": {rights.KeepDrivers, everything}, "remove-driver-set": {rights.KeepDrivers, everything},
	"add-payload": {rights.KeepDrivers, everything}, "remove-payload": {rights.KeepDrivers, everything}, "make-build": {rights.KeepDrivers, everything}, "remove-build": {rights.KeepDrivers, everything}, "offer-build": {rights.KeepDrivers, everything},
	"make-media": {rights.KeepDrivers, everything}, "limit-media-key": {rights.KeepDrivers, everything}, "withdraw-media-key": {rights.KeepDrivers, everything}, "pin-workstation": {rights.KeepDrivers, named}, "pin-group": {rights.KeepDrivers, named}, "set-menu": {rights.KeepDrivers, named},

	"list-outposts": {rights.See, everything}, "get-outpost": {rights.See, everything}, "add-outpost": {rights.KeepSites, everything}, "code-outpost": {rights.KeepSites, everything}, "withdraw-outpost": {rights.KeepSites, everything}, "remove-outpost": {rights.KeepSites, everything},
	"get-standby": {rights.See, everything}, "set-standby": {rights.KeepSites, everything},
	"list-backups": {rights.KeepSites, everything}, "make-backup": {rights.KeepSites, everything}, "check-backup": {rights.KeepSites, everything}, "get-backup-schedule": {rights.See, everything}, "set-backup-schedule": {rights.KeepSites, everything}, "write-backup": {rights.Administer, everything},
	"list-stores": {rights.See, everything}, "get-store": {rights.See, everything}, "add-store": {rights.KeepSites, everything}, "remove-store": {rights.KeepSites, everything}, "use-store": {rights.KeepSites, everything}, "check-store": {rights.KeepSites, everything}, "move-versions": {rights.KeepSites, everything},
	"change-outpost": {rights.KeepSites, everything}, "place-image": {rights.KeepSites, everything}, "unplace-image": {rights.KeepSites, everything},

	"add-domain": {rights.Administer, everything}, "list-directories": {rights.Administer, everything}, "add-directory": {rights.Administer, everything}, "check-directory": {rights.Administer, everything}, "remove-directory": {rights.Administer, everything}, "remove-domain": {rights.Administer, everything}, "check-domain": {rights.Administer, everything},
	"list-people": {rights.Administer, everything}, "add-person": {rights.Administer, everything}, "get-person": {rights.Administer, everything}, "change-person": {rights.Administer, everything}, "remove-person": {rights.Administer, everything}, "invite-person": {rights.Administer, everything},
	"restore-log": {rights.Administer, everything}, "add-witness": {rights.Administer, everything}, "remove-witness": {rights.Administer, everything}, "ask-witnesses": {rights.Administer, everything}, "watch-service": {rights.Administer, everything}, "unwatch-service": {rights.Administer, everything}, "confirm-restore": {rights.Administer, everything},
	"list-models": {rights.See, everything}, "get-model": {rights.See, everything}, "set-model": {rights.Admit, everything},
	"diagnose-service": {rights.See, everything}, "diagnose-workstation": {rights.See, named}, "get-trial-channel": {rights.See, everything}, "send-trial": {rights.KeepSites, everything}, "get-trial-bytes": {rights.KeepSites, everything},
	"list-settings": {rights.See, everything}, "get-setting": {rights.See, everything}, "set-setting": {rights.Administer, everything}, "unset-setting": {rights.Administer, everything},
	"list-notification-events": {rights.See, everything}, "list-notification-rules": {rights.See, everything}, "get-notification-rule": {rights.See, everything}, "list-messages": {rights.See, everything}, "get-mail-settings": {rights.See, everything},
	"set-notification-rule": {rights.Administer, everything}, "remove-notification-rule": {rights.Administer, everything}, "try-notification-rule": {rights.Administer, everything}, "send-again": {rights.Administer, everything}, "set-mail-settings": {rights.Administer, everything}, "try-mail": {rights.Administer, everything},
	"list-roles": {rights.Administer, everything}, "change-last-resort": {rights.Administer, everything}, "put-role": {rights.Administer, everything}, "remove-role": {rights.Administer, everything},
}

type callerOf struct{}

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
	return s.Access.BySession(ctx.Context(), peer(ctx.Context()), cookie.Value)
}

// callerIn is who has called.
func callerIn(ctx context.Context) access.Caller {
	c, _ := ctx.Value(callerOf{}).(access.Caller)
	return c
}

// let has an operation be done by a caller, if that may. It is a fault.Forbidden if not.
func (s *Server) let(ctx huma.Context, c access.Caller, o *huma.Operation) (huma.Context, error) {
	within := context.WithValue(rights.With(actor.With(ctx.Context(), c.Actor), c.Holder), callerOf{}, c)
	n, known := needed[o.OperationID]
	switch {
	case !known:
		return nil, fault.Forbidden.Errorf("nobody may do this: it is not said which right it takes")
	case n.part == anybody && c.Limited && o.Method != http.MethodGet: // or it could make itself one without limits
		return nil, fault.Forbidden.Errorf("a token that may not do all that its person may cannot do this")
	case n.part == anybody || c.Holder.May(n.right):
	case n.part == everything, !c.Holder.Somewhere(n.right):
		return nil, rights.CheckEverything(within, n.right)
	case n.part == named:
		if err := s.checkNamed(rights.Needing(within, n.right), ctx, n.right); err != nil {
			return nil, err
		}
	}
	if n.right != "" {
		within = rights.Needing(within, n.right)
	}
	return huma.WithContext(ctx, within), nil
}

// checkNamed holds a right against what the path names.
func (s *Server) checkNamed(ctx context.Context, in huma.Context, r rights.Right) error {
	if ref := in.Param("workstation"); ref != "" {
		w, err := s.Records.FindWorkstation(ctx, ref)
		if err != nil {
			return err
		}
		return rights.Check(ctx, w.Label(), w.Groups())
	}
	if group := in.Param("group"); group != "" {
		return rights.CheckGroup(ctx, group)
	}
	for _, name := range []string{"image", "version", "other_version"} {
		if ref := in.Param(name); ref != "" {
			image, _, _ := strings.Cut(ref, "@")
			if err := rights.CheckImage(ctx, r, image); err != nil {
				return err
			}
		}
	}
	if text := in.Param("delivery"); text != "" {
		return s.checkMembers(ctx, text)
	}
	if text := in.Param("errand"); text != "" {
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fault.Invalid.Errorf("%q is no number", text)
		}
		e, err := s.Records.Errand(ctx, id)
		if err != nil {
			return err
		}
		w, err := s.Records.Workstation(ctx, e.WorkstationID)
		if err != nil {
			return err
		}
		return rights.Check(ctx, w.Label(), w.Groups())
	}
	return nil
}

// checkMembers holds a right against all workstations of a delivery.
func (s *Server) checkMembers(ctx context.Context, text string) error {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return fault.Invalid.Errorf("%q is no number", text)
	}
	members, err := s.Records.DeliveryMembers(ctx, id)
	if err != nil {
		return err
	}
	if len(members) == 0 {
		return fault.NotFound.Errorf("no such delivery: %d", id)
	}
	for _, w := range members {
		if err := rights.Check(ctx, fmt.Sprintf("%s of delivery %d", w.Label(), id), w.Groups()); err != nil {
			return err
		}
	}
	return nil
}
