package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/records"
)

func (s *Server) errandRoutes(h huma.API) {
	const tag = "errands"
	answers(s, h, op("POST", "/captures", "capture", tag, "Ask a workstation to capture its disk as the next version of an image"),
		func(ctx context.Context, in *struct{ Body api.NewCapture }) (api.Errand, error) {
			return s.Orders.Capture(ctx, in.Body)
		})
	answers(s, h, op("POST", "/driver-errands", "install-drivers", "drivers", "Have workstations add drivers to the image that they have already"),
		func(ctx context.Context, in *struct{ Body api.InstallDrivers }) ([]api.Errand, error) {
			return s.Orders.InstallDrivers(ctx, in.Body)
		})
	lists(s, h, op("GET", "/errands", "list-errands", tag, "List errands in the order in which workstations get them; sort by created, workstation, kind or state"),
		func(ctx context.Context, in *struct {
			Paging
			Workstation string `query:"workstation" doc:"Name or hardware address" maxLength:"100" example:"herb-01"`
			Open        bool   `query:"open" doc:"Only those that wait or run"`
		}) ([]api.Errand, int, error) {
			return s.Orders.Errands(ctx, in.Workstation, in.Open, in.page())
		})
	answers(s, h, op("GET", "/errands/{errand}", "get-errand", tag, "Show how far an errand is"),
		func(ctx context.Context, in *ErrandRef) (api.Errand, error) { return s.Orders.Errand(ctx, in.ID) })
	answers(s, h, op("POST", "/errands/{errand}/stop", "stop-errand", tag, "Take a capture back; what was stored of it stays for the next try"),
		func(ctx context.Context, in *ErrandRef) (api.Errand, error) { return s.Orders.StopErrand(ctx, in.ID) })
}

func (s *Server) deliveryRoutes(h huma.API) {
	const tag = "deliveries"
	answers(s, h, op("POST", "/deliveries", "deliver", tag, "Order an image version for groups and workstations"),
		func(ctx context.Context, in *struct{ Body api.NewDelivery }) (api.Delivery, error) {
			return s.Orders.Deliver(ctx, in.Body)
		})
	answers(s, h, op("POST", "/deliveries/plan", "plan-delivery", tag, "Say what a delivery would do, and why it would be refused; nothing is ordered"),
		func(ctx context.Context, in *struct{ Body api.NewDelivery }) (api.DeliveryPlan, error) {
			return s.Orders.Plan(ctx, in.Body)
		})
	lists(s, h, op("GET", "/deliveries", "list-deliveries", tag, "List deliveries, the newest first; sort by created, state or image"),
		func(ctx context.Context, in *struct {
			Paging
			Open bool `query:"open" doc:"Only those that are not over"`
		}) ([]api.Delivery, int, error) {
			return s.Orders.Deliveries(ctx, in.Open, in.page())
		})
	answers(s, h, op("GET", "/deliveries/{delivery}", "get-delivery", tag, "Show a delivery with its workstations"),
		func(ctx context.Context, in *DeliveryRef) (api.Delivery, error) { return s.Orders.Delivery(ctx, in.ID) })
	answers(s, h, op("GET", "/deliveries/{delivery}/course", "get-course", tag, "Tell what a delivery did over time"),
		func(ctx context.Context, in *DeliveryRef) (api.DeliveryCourse, error) {
			return s.Orders.Course(ctx, in.ID)
		})
	answers(s, h, op("POST", "/deliveries/{delivery}/stop", "stop-delivery", tag, "Stop a delivery for everyone who is not through"),
		func(ctx context.Context, in *DeliveryRef) (api.Delivery, error) { return s.Orders.Stop(ctx, in.ID) })
	answers(s, h, op("POST", "/deliveries/{delivery}/pause", "pause-delivery", tag, "Hold the stream of a delivery"),
		func(ctx context.Context, in *DeliveryRef) (api.Delivery, error) {
			return s.Orders.Pause(ctx, in.ID, true)
		})
	answers(s, h, op("POST", "/deliveries/{delivery}/resume", "resume-delivery", tag, "Let the stream of a delivery go on"),
		func(ctx context.Context, in *DeliveryRef) (api.Delivery, error) {
			return s.Orders.Pause(ctx, in.ID, false)
		})
	answers(s, h, op("PUT", "/deliveries/{delivery}/rate", "set-rate", tag, "Slow a delivery down or speed it up"),
		func(ctx context.Context, in *struct {
			DeliveryRef
			Body api.NewRate
		}) (api.Delivery, error) {
			return s.Orders.SetRate(ctx, in.ID, in.Body.Rate)
		})
	answers(s, h, op("POST", "/deliveries/{delivery}/workstations", "extend-delivery", tag, "Bring a running delivery to more workstations"),
		func(ctx context.Context, in *struct {
			DeliveryRef
			Body api.MoreTargets
		}) (api.Delivery, error) {
			return s.Orders.Extend(ctx, in.ID, in.Body)
		})
}

func (s *Server) receiptRoutes(h huma.API) {
	const tag = "receipts"
	lists(s, h, op("GET", "/receipts", "list-receipts", tag, "List receipts, the newest first; sort by ended, workstation, image or outcome"),
		func(ctx context.Context, in *struct {
			Paging
			Delivery    int64            `query:"delivery" doc:"Number of a delivery" minimum:"0" example:"12"`
			Workstation string           `query:"workstation" doc:"Name or hardware address" maxLength:"100" example:"herb-01"`
			Image       string           `query:"image" doc:"Name of an image" maxLength:"80" example:"garden-desk"`
			Outcome     delivery.Outcome `query:"outcome" enum:"delivered,failed,stopped,absent,wiped"`
			Period
		}) ([]api.Receipt, int, error) {
			return s.Orders.Receipts(ctx, records.ReceiptFilter{
				DeliveryID: in.Delivery, Workstation: in.Workstation, Image: in.Image, Outcome: in.Outcome, Since: in.Since, Until: in.Until}, in.page())
		})
	answers(s, h, op("GET", "/receipts/{receipt}", "get-receipt", tag, "Show a receipt"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"receipt" doc:"Number of a receipt" minimum:"0" example:"56"`
		}) (api.Receipt, error) {
			return s.Orders.Receipt(ctx, in.ID)
		})
}
