package ledger

import (
	"context"
	"fmt"
	"regexp"
	"slices"

	"jugatum/internal/engine"
)

// columnName begins each line, or part of one, in which a table of the ledger has a column.
var columnName = regexp.MustCompile(`(?m)(?:^\s*|[,(] ?)([a-z_]+) \{(?:int|text|real|time|word)\}`)

// formed refuses a table of the ledger that has other columns than ours.
func (l *Ledger) formed(ctx context.Context, text string) error {
	table := regexp.MustCompile(`@[a-z_]+`).FindString(text)
	var ours []string
	for _, m := range columnName.FindAllStringSubmatch(stripComments(text), -1) {
		ours = append(ours, m[1])
	}
	rows, err := l.db.Pool().QueryContext(ctx, l.sql("SELECT * FROM "+table+" WHERE 1 = 0"))
	if err != nil {
		return fmt.Errorf("the ledger in %s cannot be read: %w", l.db.Name(), err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	if !slices.Equal(names, ours) {
		return &engine.UntrustedError{Msg: fmt.Sprintf("the ledger in %s is not used: its table %s has other columns than this program makes; rename it, or name another place with --ledger", l.db.Name(), l.sql(table))}
	}
	return nil
}
