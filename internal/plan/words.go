package plan

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
)

// maxWords is how many bytes the words may take as JSON: they go to the server with each
// query that reads the source, of which MariaDB takes 16 MiB unless it is told otherwise.
const maxWords = 8 << 20

// words reads the texts by which a change matches rows by their form: those of the source
// into memory, those of the target one after the other.
func (p *Plan) words(ctx context.Context, c *change.Change) error {
	if c.Lookup == nil || c.Lookup.Words == nil {
		return nil
	}
	w := c.Lookup.Words
	theirs, err := c.TheirWords()
	if err != nil {
		return err
	}
	forms := map[string][][]string{} // texts of the source
	size := 0
	err = p.eachWord(ctx, c, theirs, len(w.Theirs), func(texts []string) error {
		f := form(w.Form, texts)
		forms[f] = append(forms[f], texts)
		if size += len(f); size > maxWords {
			return Refusef("step %q: the texts that are matched take more than %d MiB in the source: let from be a query that gives those alone that are needed", c.Step, maxWords>>20)
		}
		return nil
	})
	if err != nil {
		return err
	}
	own, err := c.OwnWords()
	if err != nil {
		return err
	}
	list, size := [][]string{}, 0
	err = p.eachWord(ctx, c, own, len(w.Own), func(texts []string) error {
		for _, other := range forms[form(w.Form, texts)] {
			pairs := make([]string, 0, 2*len(texts))
			for i, text := range texts {
				pairs = append(pairs, text, other[i])
				size += len(text) + len(other[i]) + len(`"","",`)
			}
			list = append(list, pairs)
		}
		if size > maxWords {
			return Refusef("step %q: %s has so many ways of writing the texts that are matched that they take more than %d MiB: match a column in which they are written alike, or do it in several steps", c.Step, c.Table, maxWords>>20)
		}
		return nil
	})
	if err != nil {
		return err
	}
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	c.Params[change.WordsParam] = change.Value{Type: change.TextValue, Text: string(text)}
	return nil
}

// form is that of several texts together.
func form(f change.Form, texts []string) string {
	forms := make([]string, len(texts))
	for i, t := range texts {
		forms[i] = f.Of(t)
	}
	return strings.Join(forms, "\x00")
}

// eachWord goes through rows of n texts. One of them that is NULL, longer than texts that
// are matched can be, or no text, matches nothing.
func (p *Plan) eachWord(ctx context.Context, c *change.Change, q *change.Query, n int, do func([]string) error) error {
	rows, err := p.DB.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: reading the texts that are matched: %w", c.Step, err)
	}
	defer rows.Close()
	values, into := make([]sql.NullString, n), make([]any, n)
	for i := range values {
		into[i] = &values[i]
	}
next:
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		texts := make([]string, n)
		for i, v := range values {
			if !v.Valid || utf8.RuneCountInString(v.String) > change.MaxWord || !utf8.ValidString(v.String) {
				continue next
			}
			texts[i] = v.String
		}
		if err := do(texts); err != nil {
			return err
		}
	}
	return rows.Err()
}
