package web

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/fault"
	"jugate/records"
)

// A line of the logbook has what was sent. Of what has a state it also has what differs: each field with what it was
// before and is after.

// look tells the state of something, as fields.
type look func(ctx context.Context) (map[string]any, error)

// change is a field before and after; null where it was, or is, not there.
type change struct {
	Before any `json:"before"`
	After  any `json:"after"`
}

// stated are the operations that change something which has a state: how to look at it, by what the path names and
// what was sent. What is looked at is bound by it, so that it is found again under another name.
func (s *Server) stated(ctx huma.Context, operation string, sent []byte) look {
	switch operation {
	case "admit-workstation", "rename-workstation", "retire-workstation", "forget-workstation", "relearn-workstation", "note-workstation", "set-site", "set-fields", "fix-address":
		return s.workstationLook(ctx)
	case "change-person", "remove-person":
		name := ctx.Param("person")
		return func(ctx context.Context) (map[string]any, error) {
			p, err := s.Access.Person(ctx, name)
			return fields(p, err, "full_name", "grants", "shut_out", "has_password", "has_second_factor")
		}
	case "put-role", "remove-role":
		return s.roleLook(cmp.Or(ctx.Param("role"), saidAs(sent, "role")))
	case "note-version", "retire-version", "readmit-version":
		ref := ctx.Param("version")
		return func(ctx context.Context) (map[string]any, error) {
			v, err := s.Intake.Version(ctx, ref)
			return fields(v, err, "state", "note")
		}
	case "rename-image":
		before, after := ctx.Param("image"), saidAs(sent, "name")
		return func(ctx context.Context) (map[string]any, error) {
			all, _, err := s.Intake.Images(ctx, false, records.Page{Limit: found})
			for _, v := range all {
				if strings.EqualFold(v.Image, before) || strings.EqualFold(v.Image, after) {
					return fields(v, nil, "image")
				}
			}
			return nil, err
		}
	case "set-recipients":
		image := ctx.Param("image")
		return func(ctx context.Context) (map[string]any, error) {
			r, err := s.Access.Recipients(ctx, image)
			return fields(r, err)
		}
	case "set-answers":
		return s.answersLook(sent)
	}
	return s.statedElsewhere(ctx, operation, sent)
}

// statedElsewhere is stated of what is neither a workstation nor a person, version or answer.
func (s *Server) statedElsewhere(in huma.Context, operation string, sent []byte) look {
	switch operation {
	case "accept-card", "move-card", "remove-card", "share-card", "unshare-card":
		address := in.Param("address")
		return oneOf(func(ctx context.Context) ([]api.HardwareAddress, int, error) {
			return s.Fleet.Cards(ctx, "", records.Page{Search: address, Limit: found})
		}, func(a api.HardwareAddress) string { return a.Address }, address)
	case "add-group", "remove-group", "include", "exclude", "set-menu", "pin-group", "set-group-image":
		name := cmp.Or(in.Param("group"), saidAs(sent, "name"))
		return oneOf(func(ctx context.Context) ([]api.Group, int, error) {
			return s.Fleet.Groups(ctx, records.Page{Search: name, Limit: found})
		}, func(g api.Group) string { return g.Name }, name)
	case "refuse-machine", "end-refusal":
		machine := cmp.Or(in.Param("machine"), saidAs(sent, "machine"))
		return oneOf(func(ctx context.Context) ([]api.Refusal, int, error) {
			return s.Fleet.Refusals(ctx, records.Page{Search: machine, Limit: found})
		}, func(r api.Refusal) string { return r.Value }, machine)
	case "set-boot-entry":
		name := in.Param("boot_entry")
		return func(ctx context.Context) (map[string]any, error) {
			e, err := s.Stock.BootEntry(ctx, name)
			return fields(e.BootEntrySettings, err)
		}
	case "change-outpost":
		name := in.Param("outpost")
		return func(ctx context.Context) (map[string]any, error) {
			o, err := s.Sites.Show(ctx, name)
			return fields(o, err, "line_rate", "ahead_hours", "note", "sealed_slabs", "sign_in_hours")
		}
	case "offer-build":
		return func(ctx context.Context) (map[string]any, error) {
			n, err := s.Records.Offered(ctx)
			return map[string]any{"build": n}, err
		}
	case "remove-build":
		number, _ := strconv.Atoi(in.Param("build"))
		return func(ctx context.Context) (map[string]any, error) {
			b, err := s.Stock.Build(ctx, number)
			return fields(b, err, "number", "created", "note", "kernel")
		}
	case "save-quiet-time", "remove-quiet-time":
		name := cmp.Or(in.Param("quiet_time"), saidAs(sent, "quiet_time"))
		return oneOf(func(ctx context.Context) ([]api.QuietTime, int, error) {
			return s.Orders.QuietTimes(ctx, records.Page{Search: name, Limit: found})
		}, func(t api.QuietTime) string { return t.Name }, name)
	case "save-order", "remove-order":
		name := cmp.Or(in.Param("order"), saidAs(sent, "order"))
		return func(ctx context.Context) (map[string]any, error) {
			k, err := s.Orders.Order(ctx, name)
			return fields(k.Order, err)
		}
	case "save-driver-set", "remove-driver-set":
		return oneOf(counted(s.Stock.Sets), func(d api.DriverSet) string { return d.Name }, cmp.Or(in.Param("set"), saidAs(sent, "name")))
	case "limit-media-key", "withdraw-media-key":
		return oneOf(counted(s.Access.MediaKeys), func(k api.MediaKey) string { return k.ID }, in.Param("key"))
	case "remove-payload":
		return oneOf(counted(s.Stock.Payloads), func(p api.Payload) string { return p.Name }, in.Param("payload"))
	case "remove-domain":
		return oneOf(counted(s.Domains.List), func(d api.Domain) string { return d.Name }, in.Param("domain"))
	case "remove-directory":
		return oneOf(counted(s.Directories.List), func(d api.Directory) string { return d.Name }, in.Param("directory"))
	case "set-notification-rule", "remove-notification-rule":
		name := in.Param("notification_rule")
		return func(ctx context.Context) (map[string]any, error) {
			r, err := s.Notify.Rule(ctx, name)
			return fields(r, err, "events", "groups", "mail_to", "paused") // the address of webhooks is a secret
		}
	case "set-setting", "unset-setting":
		name := in.Param("setting")
		return func(context.Context) (map[string]any, error) {
			one, err := s.Settings.Get(name)
			return fields(one, err, "is")
		}
	case "set-mail-settings":
		return func(ctx context.Context) (map[string]any, error) {
			m, err := s.Notify.Mail(ctx)
			return fields(m, err)
		}
	case "set-model":
		name := saidAs(sent, "model")
		return func(ctx context.Context) (map[string]any, error) {
			m, err := s.Fleet.Model(ctx, name)
			return fields(m, err, "boot_key", "setup_key", "needs_adapter", "wanted_firmware", "wanted_settings", "note")
		}
	case "pause-delivery", "resume-delivery", "set-rate", "extend-delivery":
		id, _ := strconv.ParseInt(in.Param("delivery"), 10, 64)
		return func(ctx context.Context) (map[string]any, error) {
			d, err := s.Orders.Delivery(ctx, id)
			return fields(d, err, "paused", "rate", "workstation_count")
		}
	case "stop-errand":
		id, _ := strconv.ParseInt(in.Param("errand"), 10, 64)
		return func(ctx context.Context) (map[string]any, error) {
			e, err := s.Orders.Errand(ctx, id)
			return fields(e, err, "state")
		}
	}
	return nil
}

// found is among how many that a search finds the one that is meant is looked for.
const found = 1000

// saidAs is what a field of what was sent says.
func saidAs(sent []byte, field string) string {
	var in map[string]any
	if json.Unmarshal(sent, &in) != nil {
		return ""
	}
	name, _ := in[field].(string)
	return name
}

// counted is a list that is told whole.
func counted[T any](list func(context.Context) ([]T, error)) func(context.Context) ([]T, int, error) {
	return func(ctx context.Context) ([]T, int, error) { return uncut(list(ctx)) }
}

// oneOf looks at the one of a list that has a name, or a name that begins so if it alone does.
func oneOf[T any](list func(context.Context) ([]T, int, error), name func(T) string, of string) look {
	return func(ctx context.Context) (map[string]any, error) {
		all, _, err := list(ctx)
		if err != nil || of == "" {
			return nil, err
		}
		for _, v := range all {
			if strings.EqualFold(name(v), of) {
				return fields(v, nil)
			}
		}
		all = slices.DeleteFunc(all, func(v T) bool { return !strings.HasPrefix(name(v), of) })
		if len(all) != 1 {
			return nil, nil
		}
		return fields(all[0], nil)
	}
}

func (s *Server) workstationLook(in huma.Context) look {
	w, err := s.Records.FindWorkstation(in.Context(), in.Param("workstation"))
	if err != nil {
		return func(context.Context) (map[string]any, error) { return nil, err }
	}
	return func(ctx context.Context) (map[string]any, error) {
		w, err := s.Records.Workstation(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		now, err := s.Fleet.Get(ctx, w.Address().String())
		return fields(now, err, "name", "state", "groups", "hardware_addresses", "serial", "uuid", "note", "fields")
	}
}

func (s *Server) roleLook(name string) look {
	return func(ctx context.Context) (map[string]any, error) {
		all, err := s.Access.Roles(ctx)
		for _, r := range all {
			if strings.EqualFold(r.Name, name) {
				return fields(r, err, "note", "rights")
			}
		}
		return nil, err
	}
}

// answersLook tells the answers of a place; secrets are not among what is told of them.
func (s *Server) answersLook(sent []byte) look {
	of := saidAs(sent, "of")
	return func(ctx context.Context) (map[string]any, error) {
		all, err := s.Fleet.Answers(ctx, of)
		out := map[string]any{}
		for _, a := range all {
			out[a.Key] = a.Value
		}
		return out, err
	}
}

// fields are those of something that have these names, or all; nothing of what is not there.
func fields(v any, err error, names ...string) (map[string]any, error) {
	if fault.KindOf(err) == fault.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var all map[string]any
	if err := json.Unmarshal(text, &all); err != nil || len(names) == 0 {
		return all, err
	}
	some := map[string]any{}
	for _, name := range names {
		if v, is := all[name]; is {
			some[name] = v
		}
	}
	return some, nil
}

// changes are the fields that differ, as JSON; empty if none does.
func changes(before, after map[string]any) string {
	out := map[string]change{}
	both := maps.Clone(after)
	if both == nil {
		both = map[string]any{}
	}
	maps.Copy(both, before)
	for name := range both {
		if c := (change{before[name], after[name]}); !reflect.DeepEqual(c.Before, c.After) {
			out[name] = c
		}
	}
	if len(out) == 0 {
		return ""
	}
	text, err := json.Marshal(out)
	if err != nil || len(text) > noted {
		return ""
	}
	return string(text)
}
