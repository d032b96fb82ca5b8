package web

import (
	"context"
	"io"
	"math"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/service/stock"
)

// BuildRef is a build in a path.
type BuildRef struct {
	Number int `path:"build" minimum:"0" maximum:"1000000" example:"4" doc:"0 is the one that is offered"`
}

func (s *Server) buildRoutes(h huma.API) {
	const tag = "boot environment"
	lists(s, h, op("GET", "/builds", "list-builds", tag, "List builds of the boot environment, the newest first"),
		func(ctx context.Context, in *Paging) ([]api.Build, int, error) {
			return s.Stock.BuildList(ctx, in.page())
		})
	making := op("POST", "/builds", "make-build", tag, "Make a build of the boot environment")
	making.BodyReadTimeout = -1
	answers(s, h, making, func(ctx context.Context, in *struct{ Body api.NewBuild }) (api.Build, error) {
		return s.Stock.MakeBuild(ctx, in.Body)
	})
	answers(s, h, op("GET", "/builds/{build}", "get-build", tag, "Show a build with all its files"),
		func(ctx context.Context, in *BuildRef) (api.Build, error) { return s.Stock.Build(ctx, in.Number) })
	does(s, h, op("POST", "/builds/{build}/offer", "offer-build", tag, "Have workstations boot this build from now on"),
		func(ctx context.Context, in *BuildRef) error { return s.Stock.Offer(ctx, in.Number) })
	does(s, h, op("DELETE", "/builds/{build}", "remove-build", tag, "Remove a build that is neither offered nor pinned"),
		func(ctx context.Context, in *BuildRef) error { return s.Stock.RemoveBuild(ctx, in.Number) })
	answers(s, h, op("GET", "/builds/{build}/diff/{other_build}", "diff-builds", tag, "List what another build has that this one has not, and the other way round"),
		func(ctx context.Context, in *struct {
			BuildRef
			Other int `path:"other_build" minimum:"0" maximum:"1000000" example:"3" doc:"0 is the one that is offered"`
		}) ([]api.BuildChange, error) {
			return s.Stock.DiffBuilds(ctx, in.Number, in.Other)
		})
	does(s, h, op("PUT", "/workstations/{workstation}/build", "pin-workstation", tag, "Have a workstation boot one build, whatever is offered"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Body api.Pin
		}) error {
			return s.Stock.PinWorkstation(ctx, in.Ref, in.Body.Build)
		})
	does(s, h, op("PUT", "/groups/{group}/build", "pin-group", tag, "Have a group boot one build, whatever is offered"),
		func(ctx context.Context, in *struct {
			GroupRef
			Body api.Pin
		}) error {
			return s.Stock.PinGroup(ctx, in.Group, in.Body.Build)
		})
}

func (s *Server) mediaRoutes(h huma.API) {
	huma.Register(h, op("POST", "/builds/{build}/media", "make-media", "boot environment", "Make the image of a USB stick that boots a build without network boot"),
		func(ctx context.Context, in *struct {
			BuildRef
			Body api.NewMedia
		}) (*huma.StreamResponse, error) {
			f, made, err := s.Stock.Media(ctx, in.Number, in.Body)
			if err != nil {
				return nil, s.problem(err, "make-media")
			}
			return &huma.StreamResponse{Body: func(c huma.Context) {
				defer f.Close()
				c.SetHeader("Content-Type", "application/octet-stream")
				if made.Outpost != "" {
					c.SetHeader(api.MediaOutpostHeader, made.Outpost)
				}
				if made.Delivery != 0 {
					c.SetHeader(api.MediaDeliveryHeader, strconv.FormatInt(made.Delivery, 10))
				}
				if info, err := f.Stat(); err == nil {
					c.SetHeader("Content-Length", strconv.FormatInt(info.Size(), 10))
				}
				io.Copy(c.BodyWriter(), io.NewSectionReader(f, 0, math.MaxInt64)) // a client that breaks off knows
			}}, nil
		})
}

// DriverUpload is a request whose body is an archive.
type DriverUpload struct {
	Name string `query:"archive" doc:"What the archive is called" maxLength:"500" example:"sundial-network.zip"`
	Upload
}

func (s *Server) driverRoutes(h huma.API) {
	const tag = "drivers"
	type packageRef struct {
		Ref string `path:"driver" doc:"Id, the beginning of it, or a name that is there once" maxLength:"200" example:"sundialnet"`
	}
	answers(s, h, uploaded(op("POST", "/drivers", "add-drivers", tag, "Take the driver packages of an archive into the library")), func(ctx context.Context, in *DriverUpload) (api.DriversAdded, error) {
		return s.Stock.AddDrivers(ctx, in.Name, in.body)
	})
	lists(s, h, op("GET", "/drivers", "list-drivers", tag, "List driver packages, by name"),
		func(ctx context.Context, in *struct {
			Paging
			Class  string `query:"class" doc:"network, storage, display, sound, input, usb, board or other" maxLength:"20" example:"network"`
			Kind   string `query:"kind" enum:"inf,modules"`
			Device string `query:"device" doc:"Modalias, hardware id, or VENDOR:PRODUCT" maxLength:"1024" example:"8086:15f3"`
		}) ([]api.DriverPackage, int, error) {
			return s.Stock.Drivers(ctx, stock.DriverFilter{Class: in.Class, Kind: in.Kind, Device: in.Device}, in.page())
		})
	answers(s, h, op("GET", "/drivers/{driver}", "get-driver", tag, "Show a driver package with what it drives"),
		func(ctx context.Context, in *packageRef) (api.DriverPackage, error) {
			return s.Stock.Driver(ctx, in.Ref)
		})
	does(s, h, op("DELETE", "/drivers/{driver}", "remove-driver", tag, "Take a driver package out of the library; builds and workstations that have it keep it"),
		func(ctx context.Context, in *packageRef) error { return s.Stock.RemoveDriver(ctx, in.Ref) })
	answers(s, h, op("GET", "/workstations/{workstation}/drivers", "explain-drivers", tag, "Show for each device of a workstation every package that drives it, and why the best is the best"),
		func(ctx context.Context, in *struct {
			WorkstationRef
			Device string `query:"device" doc:"Just devices whose identifier contains this" maxLength:"1024" example:"8086"`
			Image  string `query:"image" doc:"NAME or NAME@VERSION" maxLength:"80" example:"garden-desk@3"`
		}) ([]api.DriverExplained, error) {
			return s.Stock.Explain(ctx, in.Ref, in.Device, in.Image)
		})
	answers(s, h, op("GET", "/coverage", "coverage", tag, "Tell for the devices of workstations whether a boot build and an image drive them"),
		func(ctx context.Context, in *struct {
			Group   string   `query:"group" doc:"Those in this group" maxLength:"63" example:"herbarium"`
			To      []string `query:"to" nullable:"false" doc:"Workstations" maxItems:"1000" example:"[\"herb-01\"]"`
			Model   string   `query:"model" doc:"Maker and model; wildcards may be used" maxLength:"400" example:"Alder Works A*"`
			Build   int      `query:"build" minimum:"0" maximum:"1000000" example:"4" doc:"0 is the one that is offered"`
			Image   string   `query:"image" doc:"NAME or NAME@VERSION" maxLength:"80" example:"garden-desk@3"`
			Drivers []string `query:"drivers" nullable:"false" maxItems:"50" example:"[\"a310\"]" doc:"Sets that go into the delivered system; what it lacks from the whole library by default"`
		}) (api.Coverage, error) {
			return s.Stock.Coverage(ctx, stock.CoverageQuery{Group: in.Group, To: in.To, Model: in.Model, Build: in.Build, Image: in.Image, Drivers: in.Drivers})
		})
}

func (s *Server) setRoutes(h huma.API) {
	const tag = "drivers"
	type setRef struct {
		Name string `path:"set" doc:"Name of a driver set" maxLength:"63" example:"a310"`
	}
	lists(s, h, op("GET", "/driver-sets", "list-driver-sets", tag, "List driver sets, by name"),
		func(ctx context.Context, _ *Nothing) ([]api.DriverSet, int, error) { return uncut(s.Stock.Sets(ctx)) })
	answers(s, h, op("PUT", "/driver-sets", "save-driver-set", tag, "Keep a driver set; one of the same name is replaced"),
		func(ctx context.Context, in *struct{ Body api.DriverSet }) (api.DriverSet, error) {
			return s.Stock.SaveSet(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/driver-sets/{set}", "remove-driver-set", tag, "Forget a driver set; its packages stay"),
		func(ctx context.Context, in *setRef) error { return s.Stock.RemoveSet(ctx, in.Name) })
	answers(s, h, op("GET", "/driver-sets/{set}/choice", "try-driver-set", tag, "Tell what a set would bring: for one model what fits its devices, without a model everything"),
		func(ctx context.Context, in *struct {
			Name   string `path:"set" doc:"Name of a driver set" maxLength:"63" example:"a310"`
			Model  string `query:"model" doc:"Maker and model; wildcards may be used" maxLength:"400" example:"Alder Works A*"`
			Kernel string `query:"kernel" doc:"Release" maxLength:"100" example:"6.12.48-amd64"`
		}) ([]api.DriverChoice, error) {
			return s.Stock.TrySet(ctx, in.Name, in.Model, in.Kernel)
		})
}

func (s *Server) netbootRoutes(h huma.API) {
	const tag = "network boot"
	answers(s, h, op(http.MethodGet, "/netboot", "netboot-status", tag, "Tell what is answered on each interface, and how far each machine is"),
		func(ctx context.Context, _ *Nothing) (api.NetbootStatus, error) { return s.Stock.NetbootStatus(ctx) })
	answers(s, h, op(http.MethodGet, "/netboot/advice", "netboot-advice", tag, "List what to enter into another DHCP server"),
		func(context.Context, *Nothing) ([]api.BootAdvice, error) { return s.Stock.NetbootAdvice(), nil })
}
