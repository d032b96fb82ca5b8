package access

import (
	"context"
	"database/sql"
	"time"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/hwaddr"
	"jugate/core/slabstore"
	"jugate/records"
)

// MediaKeys lists the keys of media, the newest first.
func (a *Access) MediaKeys(ctx context.Context) ([]api.MediaKey, error) {
	rows, err := a.Records.MediaKeys(ctx)
	keys := make([]api.MediaKey, len(rows))
	for i, k := range rows {
		keys[i] = api.MediaKey{ID: k.Digest[:min(12, len(k.Digest))], Made: k.Made, Note: k.Note, Group: k.Group, Until: records.TimeOf(k.Until), Used: records.TimeOf(k.Used)}
	}
	return keys, err
}

// NewMediaKey makes a key that media check in with. It is kept by its digest alone.
func (a *Access) NewMediaKey(ctx context.Context, note, group string, life time.Duration) (string, error) {
	key := NewSecret()[:32]
	row := records.MediaKey{Digest: slabstore.Sum([]byte(key)).String(), Made: a.Now(), Note: note, Group: group}
	if life > 0 {
		row.Until = sql.NullTime{Time: a.Now().Add(life), Valid: true}
	}
	return key, a.Records.AddMediaKey(ctx, row)
}

// LimitMediaKey says for whom a key of media is good, and until when. ref is the
// beginning of its id.
func (a *Access) LimitMediaKey(ctx context.Context, ref string, limits api.KeyLimits) error {
	a.Log.Info("key of media limited", "key", ref, "group", limits.Group, "by", actor.From(ctx))
	return a.Records.LimitMediaKey(ctx, ref, limits.Group, records.NullTime(limits.Until))
}

// WithdrawMediaKey ends a key of media. ref is the beginning of its id.
func (a *Access) WithdrawMediaKey(ctx context.Context, ref string) error {
	a.Log.Info("key of media withdrawn", "key", ref, "by", actor.From(ctx))
	return a.Records.WithdrawMediaKey(ctx, ref)
}

// Ticket makes what a machine checks in with that boots now. It is kept by its digest
// alone.
func (a *Access) Ticket(ctx context.Context, address hwaddr.Address) (string, error) {
	ticket := NewSecret()[:32]
	return ticket, a.Records.AddTicket(ctx, a.Now(), slabstore.Sum([]byte(ticket)).String(), address)
}
