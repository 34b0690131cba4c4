package sqlite

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// CopyTable writes the statements by which the table and its indexes were made for another name.
func (db *DB) CopyTable(ctx context.Context, t *change.Table, name string) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT sql FROM sqlite_schema WHERE lower(tbl_name) = lower(?) AND type IN ('table', 'index') AND sql IS NOT NULL ORDER BY type DESC, name", t.Name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		own := name
		if len(out) > 0 {
			own = d.Quote(fmt.Sprintf("%s_%d", strings.Trim(name, `"`), len(out)))
		}
		if text, err = renamed(text, own, name, len(out) > 0); err != nil {
			return nil, fmt.Errorf("%s: %w", t, err)
		}
		out = append(out, text)
	}
	return out, rows.Err()
}

// renamed puts other names into CREATE TABLE own or CREATE INDEX own ON name.
func renamed(text, own, name string, index bool) (string, error) {
	tokens, err := sqltext.Lex(d, text)
	if err != nil {
		return "", err
	}
	at := func(word string) int {
		for i, t := range tokens {
			if t.Is(word) {
				return i
			}
		}
		return -1
	}
	i := at("TABLE")
	if index {
		i = at("INDEX")
	}
	if i >= 0 && i+1 < len(tokens) && tokens[i+1].Is("IF") { // IF NOT EXISTS
		i += 3
	}
	on := i
	if index {
		on = at("ON")
	}
	if i < 0 || on < 0 || max(i, on)+1 >= len(tokens) {
		return "", fmt.Errorf("what made it cannot be read: %.60s", text)
	}
	put := func(at int, name string) { // the last first, so that places stay what they are
		t := tokens[at]
		text = text[:t.Pos] + name + text[t.Pos+len(t.Text):]
	}
	if index {
		put(on+1, name)
	}
	put(i+1, own)
	return text, nil
}
