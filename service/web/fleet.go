package web

import (
	"bytes"
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/roster"
	"jugate/records"
	"jugate/service/fleet"
)

func (s *Server) workstationRoutes(h huma.API) {
	const tag = "workstations"
	lists(s, h, op("GET", "/workstations", "list-workstations", tag, "List workstations; sort by name, model, serial, state or last_seen"),
		func(ctx context.Context, in *struct {
			Paging
			State []roster.State `query:"state,explode" nullable:"false" maxItems:"5" example:"[\"expected\"]" enum:"newcomer,expected,admitted,retired,visiting" doc:"Those in one of these states"`
			Group string         `query:"group" doc:"Those in this group" maxLength:"63" example:"herbarium"`
			Where string         `query:"where" doc:"Those that a condition fits (docs/roster.md)" maxLength:"1000" example:"memory < 8GiB"`
		}) ([]api.Workstation, int, error) {
			return s.Fleet.List(ctx, records.WorkstationFilter{States: in.State, Group: in.Group}, in.Where, in.page())
		})
	answers(s, h, op("GET", "/workstations/{workstation}", "get-workstation", tag, "Show one workstation"),
		func(ctx context.Context, in *WorkstationRef) (api.Workstation, error) {
			return s.Fleet.Get(ctx, in.Ref)
		})
	answers(s, h, op("POST", "/workstations/{workstation}/admit", "admit-workstation", tag,
		"Take a newcomer, or a hardware address that was never seen, into the roster"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.Admission
		}) (api.Workstation, error) {
			return s.Fleet.Admit(ctx, in.Ref, in.Body)
		})
	answers(s, h, op("POST", "/workstations/{workstation}/rename", "rename-workstation", tag, "Give a workstation another name; its receipts keep the one it had"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.NewName
		}) (api.Workstation, error) {
			return s.Fleet.Rename(ctx, in.Ref, in.Body.Name)
		})
	answers(s, h, op("POST", "/workstations/{workstation}/retire", "retire-workstation", tag, "Put a workstation out of service; its receipts stay"),
		func(ctx context.Context, in *WorkstationRef) (api.Workstation, error) {
			return s.Fleet.Retire(ctx, in.Ref)
		})
	does(s, h, op("DELETE", "/workstations/{workstation}", "forget-workstation", tag, "Forget a newcomer, or a retired workstation of which nothing is recorded; it may come again"),
		func(ctx context.Context, in *WorkstationRef) error { return s.Fleet.Forget(ctx, in.Ref) })
	answers(s, h, op("POST", "/workstations/{workstation}/relearn", "relearn-workstation", tag, "Take the UUID and serial number that a workstation tells next: its main board was exchanged"),
		func(ctx context.Context, in *WorkstationRef) (api.Workstation, error) {
			return s.Fleet.Relearn(ctx, in.Ref)
		})
	answers(s, h, op("POST", "/roster/names", "name-workstations", tag, "Name newcomers and workstations by a pattern"),
		func(ctx context.Context, in *struct{ Body api.NewNames }) ([]api.Named, error) {
			return s.Fleet.NameAll(ctx, in.Body)
		})
	answers(s, h, op("PUT", "/workstations/{workstation}/note", "note-workstation", tag, "Replace what is said of a workstation"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.NewNote
		}) (api.Workstation, error) {
			return s.Fleet.Note(ctx, in.Ref, in.Body.Note)
		})
	answers(s, h, op("PUT", "/workstations/{workstation}/site", "set-site", tag, "Say at which outpost a workstation is, until it calls from elsewhere"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.NewSite
		}) (api.Workstation, error) {
			return s.Fleet.SetSite(ctx, in.Ref, in.Body.Site)
		})
	answers(s, h, op("PUT", "/workstations/{workstation}/fields", "set-fields", tag, "Set fields of a workstation"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.NewFields
		}) (api.Workstation, error) {
			return s.Fleet.SetFields(ctx, in.Ref, in.Body.Fields)
		})
	answers(s, h, limited(op("POST", "/roster", "import-roster", tag, "Take a table of workstations into the roster"), roster.MaxTable),
		func(ctx context.Context, in *struct {
			DryRun  bool   `query:"dry_run" doc:"Tell what would become of the table, and enter nothing"`
			Whole   bool   `query:"whole" doc:"Enter nothing if a row is in doubt"`
			RawBody []byte `contentType:"text/csv"`
		}) (api.Imported, error) {
			return s.Fleet.Import(ctx, bytes.NewReader(in.RawBody), fleet.ImportOptions{DryRun: in.DryRun, Whole: in.Whole})
		})
	huma.Register(h, op("GET", "/roster", "export-roster", tag, "Write the roster as a table"),
		func(ctx context.Context, in *struct {
			Group string `query:"group" doc:"Those in this group" maxLength:"63" example:"herbarium"`
		}) (*rawReply, error) {
			var table bytes.Buffer
			if err := s.Fleet.Export(ctx, records.WorkstationFilter{Group: in.Group}, &table); err != nil {
				return nil, s.problem(err, "export-roster")
			}
			return &rawReply{"text/csv; charset=utf-8", table.Bytes()}, nil
		})
	does(s, h, op("PUT", "/workstations/{workstation}/address", "fix-address", "network boot", "Give a workstation an IP address of its own, in mode whole; an empty one ends that"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body struct {
				Address string `json:"address" maxLength:"15" example:"192.0.2.31"`
			}
		}) error {
			return s.Fleet.FixAddress(ctx, in.Ref, in.Body.Address)
		})
	answers(s, h, op("POST", "/wake", "wake", "network boot", "Switch workstations on over the network"),
		func(ctx context.Context, in *struct{ Body api.WakeUp }) (api.Woken, error) {
			return s.Fleet.SwitchOn(ctx, in.Body)
		})
	answers(s, h, op("POST", "/tell", "tell-systems", "workstations", "Restart or switch off systems that are on, by their helper"),
		func(ctx context.Context, in *struct{ Body api.Telling }) (api.Told, error) {
			return s.Fleet.Tell(ctx, in.Body)
		})
}

// refusalRoutes are for machines that nobody wants.
func (s *Server) refusalRoutes(h huma.API) {
	const tag = "workstations"
	does(s, h, op("POST", "/refusals", "refuse-machine", tag, "Turn a machine away for good, by hardware address or system UUID"),
		func(ctx context.Context, in *struct{ Body api.NewRefusal }) error {
			return s.Fleet.Refuse(ctx, in.Body)
		})
	lists(s, h, op("GET", "/refusals", "list-refusals", tag, "List who is turned away; sort by value or at"),
		func(ctx context.Context, in *Paging) ([]api.Refusal, int, error) {
			return s.Fleet.Refusals(ctx, in.page())
		})
	does(s, h, op("DELETE", "/refusals/{machine}", "end-refusal", tag, "Let a machine come again"), func(ctx context.Context, in *struct {
		Machine string `path:"machine" doc:"Hardware address or system UUID" maxLength:"100" example:"00:00:5e:00:53:66"`
	}) error {
		return s.Fleet.EndRefusal(ctx, in.Machine)
	})
}

// cardRoutes are about hardware addresses: who has which.
func (s *Server) cardRoutes(h huma.API) {
	const tag = "workstations"
	type address struct {
		Address string `path:"address" doc:"Hardware address, in any spelling" maxLength:"50" example:"00:00:5e:00:53:11"`
	}
	type addressAndOwner struct {
		Address string `path:"address" doc:"Hardware address, in any spelling" maxLength:"50" example:"00:00:5e:00:53:11"`
		Body    api.CardRef
	}
	lists(s, h, op("GET", "/cards", "list-cards", tag, "List hardware addresses and their workstations; sort by hardware_address, workstation or state"),
		func(ctx context.Context, in *struct {
			Paging
			State roster.CardState `query:"state" enum:"accepted,proposed,shared"`
		}) ([]api.HardwareAddress, int, error) {
			return s.Fleet.Cards(ctx, in.State, in.page())
		})
	answers(s, h, op("POST", "/cards/{address}/accept", "accept-card", tag, "Make a hardware address one of a workstation's own"),
		func(ctx context.Context, in *addressAndOwner) (api.Workstation, error) {
			return s.Fleet.AcceptCard(ctx, in.Address, in.Body.Workstation)
		})
	answers(s, h, op("POST", "/cards/{address}/move", "move-card", tag, "Make a hardware address a workstation's, whoever had it"),
		func(ctx context.Context, in *addressAndOwner) (api.Workstation, error) {
			return s.Fleet.MoveCard(ctx, in.Address, in.Body.Workstation)
		})
	does(s, h, op("DELETE", "/cards/{address}", "remove-card", tag, "Take a hardware address away from its workstation"),
		func(ctx context.Context, in *address) error { return s.Fleet.RemoveCard(ctx, in.Address) })
	does(s, h, op("PUT", "/cards/{address}/shared", "share-card", tag, "Say that a hardware address is of an adapter or dock that several machines use"),
		func(ctx context.Context, in *address) error { return s.Fleet.ShareCard(ctx, in.Address, true) })
	does(s, h, op("DELETE", "/cards/{address}/shared", "unshare-card", tag, "Say that a hardware address is one machine's"),
		func(ctx context.Context, in *address) error { return s.Fleet.ShareCard(ctx, in.Address, false) })
}

func (s *Server) groupRoutes(h huma.API) {
	const tag = "groups"
	lists(s, h, op("GET", "/groups", "list-groups", tag, "List groups; sort by name or workstation_count"),
		func(ctx context.Context, in *Paging) ([]api.Group, int, error) { return s.Fleet.Groups(ctx, in.page()) })
	answers(s, h, op("POST", "/groups", "add-group", tag, "Make an empty group"),
		func(ctx context.Context, in *struct{ Body api.NewGroup }) (api.Group, error) {
			return s.Fleet.AddGroup(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/groups/{group}", "remove-group", tag, "Remove a group; its workstations stay"),
		func(ctx context.Context, in *GroupRef) error {
			defer s.Access.LookAgain()
			return s.Fleet.RemoveGroup(ctx, in.Group)
		})
	type members struct {
		GroupRef
		Body api.GroupMembers
	}
	answers(s, h, op("POST", "/groups/{group}/include", "include", tag, "Put workstations into a group, all or none"),
		func(ctx context.Context, in *members) (api.Group, error) {
			return s.Fleet.Include(ctx, in.Group, in.Body)
		})
	answers(s, h, op("POST", "/groups/{group}/exclude", "exclude", tag, "Take workstations out of a group, all or none"),
		func(ctx context.Context, in *members) (api.Group, error) {
			return s.Fleet.Exclude(ctx, in.Group, in.Body)
		})
	answers(s, h, op("PUT", "/groups/{group}/image", "set-group-image", tag, "Say what the workstations of a group should have"),
		func(ctx context.Context, in *struct {
			GroupRef
			Body api.GroupImage
		}) (api.Group, error) {
			return s.Fleet.SetImage(ctx, in.Group, in.Body.Image)
		})
	does(s, h, op("PUT", "/groups/{group}/menu", "set-menu", "network boot", "Show a menu on a group's workstations before they start from their disk, for some seconds; 0 shows none"),
		func(ctx context.Context, in *struct {
			GroupRef
			Body struct {
				Seconds int `json:"seconds" minimum:"0" maximum:"600" example:"5"`
			}
		}) error {
			return s.Fleet.SetMenu(ctx, in.Group, in.Body.Seconds)
		})
}
