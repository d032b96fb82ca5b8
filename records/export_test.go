package records

import (
	"context"
	"strings"
)

// Explain tells how a statement would be done.
func (db *DB) Explain(ctx context.Context, statement string) (string, error) {
	var rows []struct {
		ID      int    `db:"id"`
		Parent  int    `db:"parent"`
		Notused int    `db:"notused"`
		Detail  string `db:"detail"`
	}
	if err := db.write.SelectContext(ctx, &rows, "EXPLAIN QUERY PLAN "+statement); err != nil {
		return "", err
	}
	var lines []string
	for _, r := range rows {
		lines = append(lines, r.Detail)
	}
	return strings.Join(lines, "\n"), nil
}
