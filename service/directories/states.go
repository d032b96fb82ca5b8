package directories

import (
	"context"
	"strings"
	"time"
)

// asked is how a directory was when it was asked last.
type asked struct {
	at      time.Time
	trouble string // why it could not be asked; empty if it could
}

// Ask asks a directory whether it answers and takes its account, and remembers that for List.
func (d *Directories) Ask(ctx context.Context, name string) error {
	_, err := d.Check(ctx, name, "")
	if ctx.Err() != nil {
		return ctx.Err()
	}
	how := asked{at: d.Now()}
	if err != nil {
		how.trouble = err.Error()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asked == nil {
		d.asked = map[string]asked{}
	}
	d.asked[strings.ToLower(name)] = how
	return err
}

// AskAll asks all of them.
func (d *Directories) AskAll(ctx context.Context) {
	rows, err := d.Records.Directories(ctx)
	for _, row := range rows {
		if one := d.Ask(ctx, row.Name); one != nil && ctx.Err() == nil {
			d.Log.Warn("a directory does not answer as it should", "directory", row.Name, "error", one)
		}
	}
	if err != nil && ctx.Err() == nil {
		d.Log.Error("directories could not be listed", "error", err)
	}
}
