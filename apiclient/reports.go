package apiclient

import (
	"context"
	"time"

	"jugate/api"
)

// RoomReport tells which group has which versions on its disks, and who is behind.
func (c *Client) RoomReport(ctx context.Context) (api.Page[api.RoomReport], error) {
	return list[api.RoomReport](ctx, c, "reports/rooms", List{})
}

// FailureReport tells what the last checks of workstations did not find good; a time of zero bounds nothing.
func (c *Client) FailureReport(ctx context.Context, since, until time.Time) (api.Page[api.FailureReport], error) {
	return list[api.FailureReport](ctx, c, "reports/failures", period(since, until))
}

// SavingsReport tells what multicast has saved, delivery by delivery; a time of zero bounds nothing.
func (c *Client) SavingsReport(ctx context.Context, since, until time.Time) (api.Page[api.SavingsReport], error) {
	return list[api.SavingsReport](ctx, c, "reports/savings", period(since, until))
}

// LicenceReport tells which workstations are given a product key, or join a domain.
func (c *Client) LicenceReport(ctx context.Context) (api.Page[api.LicenceReport], error) {
	return list[api.LicenceReport](ctx, c, "reports/licences", List{})
}

// DriverReport tells for each device of each model whether it has a driver; in an image, too, if one is named.
func (c *Client) DriverReport(ctx context.Context, image string) (api.Page[api.DriverReport], error) {
	return list[api.DriverReport](ctx, c, "reports/drivers", List{Filter: map[string]string{"image": image}})
}

func period(since, until time.Time) List {
	l := List{Filter: map[string]string{}}
	for name, at := range map[string]time.Time{"since": since, "until": until} {
		if !at.IsZero() {
			l.Filter[name] = at.Format(time.RFC3339)
		}
	}
	return l
}
