package orders

import (
	"context"
	"fmt"
	"time"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/roster"
	"jugate/records"
)

func quietOf(t records.QuietTime) api.QuietTime {
	return api.QuietTime{Name: t.Name, Begin: t.Begin, Until: t.Until, Note: t.Note}
}

// QuietTimes lists times in which no order runs by itself.
func (o *Orders) QuietTimes(ctx context.Context, p records.Page) ([]api.QuietTime, int, error) {
	rows, total, err := o.Records.QuietTimes(ctx, p)
	return each(rows, quietOf), total, err
}

// PutQuietTime keeps a time in which no order runs by itself; one of the same name is replaced.
func (o *Orders) PutQuietTime(ctx context.Context, in api.QuietTime) (api.QuietTime, error) {
	if err := roster.CheckName("a quiet time", in.Name); err != nil {
		return in, err
	}
	switch {
	case !in.Until.After(in.Begin):
		return in, fault.Invalid.Errorf("the quiet time %s ends before it begins", in.Name)
	case !in.Until.After(o.Now()):
		return in, fault.Invalid.Errorf("the quiet time %s is over already", in.Name)
	}
	defer o.moved.ring()
	return in, o.Records.PutQuietTime(ctx, o.Now(), records.QuietTime{Name: in.Name, Begin: in.Begin, Until: in.Until, Note: in.Note})
}

// RemoveQuietTime forgets one.
func (o *Orders) RemoveQuietTime(ctx context.Context, name string) error {
	return o.Records.RemoveQuietTime(ctx, name)
}

// quiet says in words why nothing may run by itself at an instant; empty if it may.
func (o *Orders) quiet(ctx context.Context, at time.Time) (string, error) {
	t, err := o.Records.QuietAt(ctx, at)
	if t == nil || err != nil {
		return "", err
	}
	return fmt.Sprintf("it is the quiet time %s, until %s", t.Name, t.Until.UTC().Format("2006-01-02 15:04 UTC")), nil
}
