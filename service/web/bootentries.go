package web

import (
	"context"
	"net"
	"net/http"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"jugate/api"
	"jugate/service/stock"
)

// BootEntryRef is a boot entry in a path.
type BootEntryRef struct {
	Name string `path:"boot_entry" doc:"Name of a boot entry" maxLength:"63" example:"debian-installer"`
}

// BootEntryUpload is a request whose body is what can be booted.
type BootEntryUpload struct {
	BootEntryRef
	File string `query:"file" doc:"What it is called" maxLength:"500" example:"debian-installer-12-netboot-amd64.deb"`
	Only string `query:"only" doc:"A folder in it that is looked into" maxLength:"500" example:"usr/lib/debian-installer/images/12/amd64/gtk"`
	Upload
}

func (s *Server) bootEntryRoutes(h huma.API) {
	const tag = "boot entries"
	lists(s, h, op("GET", "/boot-entries", "list-boot-entries", tag, "List boot entries; sort by boot_entry or saved"),
		func(ctx context.Context, in *Paging) ([]api.BootEntry, int, error) {
			return s.Stock.BootEntryList(ctx, in.page())
		})
	answers(s, h, op("GET", "/boot-entries/{boot_entry}", "get-boot-entry", tag, "Show a boot entry with its versions"),
		func(ctx context.Context, in *BootEntryRef) (api.BootEntry, error) {
			return s.Stock.BootEntry(ctx, in.Name)
		})
	adding := uploaded(op("POST", "/boot-entries/{boot_entry}/versions", "add-boot-entry", tag, "Take what workstations can boot, as the next version of a boot entry"))
	adding.BodyReadTimeout = -1
	answers(s, h, adding, func(ctx context.Context, in *BootEntryUpload) (api.BootEntry, error) {
		return s.Stock.AddBootEntry(ctx, in.Name, in.File, in.Only, in.body)
	})
	answers(s, h, op("PUT", "/boot-entries/{boot_entry}", "set-boot-entry", tag, "Say for whom a boot entry is, and what it is told"),
		func(ctx context.Context, in *struct {
			BootEntryRef
			Body api.BootEntrySettings
		}) (api.BootEntry, error) {
			return s.Stock.SetBootEntry(ctx, in.Name, in.Body)
		})
	does(s, h, op("DELETE", "/boot-entries/{boot_entry}", "remove-boot-entry", tag, "Remove a boot entry, or a version of it"),
		func(ctx context.Context, in *struct {
			BootEntryRef
			Version int `query:"entry_version" doc:"Just this one" minimum:"0" maximum:"1000000" example:"1"`
		}) error {
			return s.Stock.RemoveBootEntry(ctx, in.Name, in.Version)
		})
	answers(s, h, op("POST", "/boot-entries/{boot_entry}/preview", "preview-boot-entry", tag, "Show what a workstation would be given with a boot entry"),
		func(ctx context.Context, in *struct {
			BootEntryRef
			Body api.BootPreviewOf
		}) (api.BootPreview, error) {
			return s.Stock.PreviewBootEntry(ctx, in.Name, in.Body.Workstation, in.Body.Parameters)
		})
	answers(s, h, op("POST", "/boot-choices", "choose-boot-entry", tag, "Have workstations boot a boot entry in place of their disk, or not any more"),
		func(ctx context.Context, in *struct{ Body api.BootChoice }) (api.BootChoiceMade, error) {
			return s.Stock.ChooseBootEntry(ctx, in.Body)
		})
	lists(s, h, op("GET", "/boot-starts", "list-boot-starts", tag, "List starts of boot entries, the newest first; sort by made"),
		func(ctx context.Context, in *struct {
			Paging
			Workstation string `query:"workstation" doc:"Just those of this one, by name or address" maxLength:"100" example:"herb-01"`
			Entry       string `query:"boot_entry" doc:"Just those of this one" maxLength:"63" example:"debian-installer"`
		}) ([]api.BootStart, int, error) {
			return s.Stock.BootStarts(ctx, in.Workstation, in.Entry, in.page())
		})
}

// ownFiles give each machine what is its own, by its ticket.
func (s *Server) ownFiles(r chi.Router) {
	r.Get(stock.OwnPath+"{ticket}/{file}", func(w http.ResponseWriter, r *http.Request) {
		server := r.Host
		if local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr); ok {
			server = local.String()
		}
		from, err := netip.ParseAddrPort(r.RemoteAddr)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		text, err := s.Stock.OwnFile(r.Context(), chi.URLParam(r, "ticket"), chi.URLParam(r, "file"), server, from.Addr().Unmap().String())
		if err != nil {
			p := s.problem(err, "own-file")
			http.Error(w, p.Error(), p.GetStatus())
			return
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		w.Write([]byte(text))
	})
}
