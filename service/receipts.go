package service

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/core/delivery"
	"jugate/records"
)

func receipt(r records.Receipt) api.Receipt {
	out := api.Receipt{
		ID: r.ID, Delivery: r.DeliveryID, Workstation: r.Workstation, Address: r.Address,
		Image: r.Image, Version: r.Version, Digest: r.Digest, Ended: r.Ended,
		Multicast: r.BytesMulticast, Unicast: r.BytesUnicast, Verified: r.Verified,
		Outcome: string(r.Outcome), Reason: r.Reason, OrderedBy: r.OrderedBy, Unreadable: r.Unreadable, Remark: r.Remark, Chain: r.Chain,
	}
	if r.Drivers != "" {
		if err := json.Unmarshal([]byte(r.Drivers), &out.Drivers); err != nil {
			out.Drivers = []string{r.Drivers}
		}
	}
	if r.Started.Valid {
		out.Started = &r.Started.Time
		out.Seconds = r.Ended.Sub(r.Started.Time).Truncate(time.Millisecond).Seconds()
	}
	return out
}

func (s *Service) receiptRoutes(h huma.API) {
	tags := []string{"receipts"}
	huma.Register(h, huma.Operation{
		OperationID: "list-receipts", Method: http.MethodGet, Path: "/receipts", Tags: tags,
		Summary: "List receipts, the newest first; sort by ended, workstation, image or outcome",
	}, func(ctx context.Context, in *struct {
		Paging
		Delivery    int64  `query:"delivery"`
		Workstation string `query:"workstation"`
		Image       string `query:"image"`
		Outcome     string `query:"outcome" enum:"delivered,failed,stopped,absent"`
	}) (*reply[api.Page[api.Receipt]], error) {
		rows, total, err := s.records.Receipts(ctx, records.ReceiptFilter{
			DeliveryID: in.Delivery, Workstation: in.Workstation, Image: in.Image, Outcome: delivery.Outcome(in.Outcome)}, in.page())
		return items(rows, total, err, receipt)
	})

	huma.Register(h, huma.Operation{
		OperationID: "check-receipts", Method: http.MethodGet, Path: "/receipt-chain", Tags: tags,
		Summary: "Go through the chain of receipts and tell whether one was changed or removed",
	}, func(ctx context.Context, _ *struct{}) (*reply[api.ReceiptCheck], error) {
		n, err := s.records.CheckReceipts(ctx)
		check := api.ReceiptCheck{Receipts: n, Sound: err == nil}
		if err != nil {
			check.Detail = err.Error()
		}
		return answer(check, nil)
	})
}
