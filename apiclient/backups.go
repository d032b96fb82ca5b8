package apiclient

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
)

// Backups lists those in a store, the newest first.
func (c *Client) Backups(ctx context.Context, store string) (api.Page[api.Backup], error) {
	return list[api.Backup](ctx, c, storePath(store)+"/backups", List{})
}

// MakeBackup makes one.
func (c *Client) MakeBackup(ctx context.Context, in api.NewBackup) (api.Backup, error) {
	return one[api.Backup](ctx, c, http.MethodPost, "backups", in)
}

// CheckBackup reads one, the newest if id is empty.
func (c *Client) CheckBackup(ctx context.Context, store, id string) (api.BackupCheck, error) {
	if id == "" {
		id = "newest"
	}
	return one[api.BackupCheck](ctx, c, http.MethodPost, storePath(store)+"/backups/"+url.PathEscape(id)+"/check", nil)
}

// BackupSchedule tells when they are made by themselves.
func (c *Client) BackupSchedule(ctx context.Context) (api.BackupsDue, error) {
	return one[api.BackupsDue](ctx, c, http.MethodGet, "backups/schedule", nil)
}

// SetBackupSchedule says when they are.
func (c *Client) SetBackupSchedule(ctx context.Context, in api.BackupSchedule) (api.BackupsDue, error) {
	return one[api.BackupsDue](ctx, c, http.MethodPut, "backups/schedule", in)
}

// WriteBackup fetches a backup as one file, a tar. It is whole if reading ends with io.EOF.
func (c *Client) WriteBackup(ctx context.Context, slabs bool) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, "/api/v1/backup.tar?with_slabs="+strconv.FormatBool(slabs), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Standby tells of the copy from which another machine can become the service.
func (c *Client) Standby(ctx context.Context) (api.Standby, error) {
	return one[api.Standby](ctx, c, http.MethodGet, "standby", nil)
}

// UseStandby says in which store such a copy is kept; none if it is empty.
func (c *Client) UseStandby(ctx context.Context, store string) (api.Standby, error) {
	return one[api.Standby](ctx, c, http.MethodPut, "standby", api.StandbyUse{Store: store})
}
