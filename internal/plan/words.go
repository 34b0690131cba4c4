package plan

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// maxWords is how many bytes the words may have, before they are written as JSON: they go to
// the server with each query that reads the source, of which MariaDB takes 16 MiB unless it
// is told otherwise.
const maxWords = 4 << 20

// Resume reads what a run that goes on needs besides its record: the texts that are matched
// by their form, for sources that are still to be read; and what the server makes of statements
// that are still to be called.
func (p *Plan) Resume(ctx context.Context, work []*runner.Work) error {
	for _, w := range work {
		if c := w.Change.Call; c != nil && w.Step.Status != ledger.Done {
			if _, err := p.DB.Describe(ctx, c, p.Values); err != nil {
				return p.Job.At(p.badSQL(w.Step.Name, "call", err))
			}
		}
		if w.Staging == nil || w.Step.Status == ledger.Done {
			continue
		}
		if err := p.source(ctx, w); err != nil {
			return err
		}
	}
	return nil
}

// source has the source of a step be read by the texts that there are now, if they are not read yet.
func (p *Plan) source(ctx context.Context, w *runner.Work) (err error) {
	c := w.Change.Whole()
	if err := p.words(ctx, c); err != nil || w.Staging == nil {
		return err
	}
	w.Staging.Query, err = change.Source(c)
	return err
}

// reword reads the texts by which a step matches rows by their form once more: the steps before it may
// have changed them. The step has not begun.
func (p *Plan) reword(ctx context.Context, w *runner.Work) error {
	if c := w.Change.Whole(); c.Lookup == nil || c.Lookup.Words == nil {
		return nil
	}
	for _, o := range p.Changes {
		if o.Of == w.Change.Of && o.Lookup != nil && o.Lookup.Words != nil {
			o.Lookup.Words.Read = false
		}
	}
	return p.source(ctx, w)
}

// words reads the texts by which a change matches rows by their form, if they are not read
// yet: those of the source into memory, those of the target one after the other. All changes
// that one step became have the same, since they read one source. A run that is only
// verified or undone does without them.
func (p *Plan) words(ctx context.Context, c *change.Change) error {
	if c.Lookup == nil || c.Lookup.Words == nil || c.Lookup.Words.Read {
		return nil
	}
	x := words{form: c.Lookup.Words.Form, theirs: map[string][][]string{}, list: [][]string{}}
	read := func(of *change.Change, query func() (*change.Query, error), n int, take func([]string) bool, tooMany string) error {
		q, err := query()
		if err != nil {
			return err
		}
		if err := p.eachWord(ctx, of, q, n, take); err != nil || x.more() {
			return err
		}
		return Refusef("step %q: the texts that are matched take more than %d MiB in %s", of.Step, maxWords>>20, tooMany)
	}
	if err := read(c, c.TheirWords, len(c.Lookup.Words.Theirs), x.their, "the source: let from be a query that gives those alone that are needed"); err != nil {
		return err
	}
	x.size = 0
	var group []*change.Change
	for _, o := range p.Changes {
		if o.Of != c.Of || o.Lookup == nil || o.Lookup.Words == nil {
			continue
		}
		group = append(group, o)
		if err := read(o, o.OwnWords, len(o.Lookup.Words.Own), x.own, o.Table.String()+", in all their ways of writing: match a column in which they are written alike, or do it in several steps"); err != nil {
			return err
		}
	}
	var text strings.Builder
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false) // which would make six bytes of one
	if err := enc.Encode(x.list); err != nil {
		return err
	}
	for _, o := range group {
		o.Params[change.WordsParam] = change.Value{Type: change.TextValue, Text: text.String()}
		o.Lookup.Words.Read = true
	}
	return nil
}

// words are texts of both sides that have the same form.
type words struct {
	form   change.Form
	theirs map[string][][]string // of the source, by their form
	list   [][]string            // a text of the target and one of the source, for each column
	size   int                   // bytes
}

// more reports whether there is room for more.
func (x *words) more() bool { return x.size <= maxWords }

// their takes up texts of the source.
func (x *words) their(texts []string) bool {
	f := form(x.form, texts)
	x.theirs[f] = append(x.theirs[f], texts)
	x.size += len(f)
	return x.more()
}

// own takes up texts of the target.
func (x *words) own(texts []string) bool {
	for _, other := range x.theirs[form(x.form, texts)] {
		pairs := make([]string, 0, 2*len(texts))
		for i, text := range texts {
			pairs = append(pairs, text, other[i])
			x.size += len(text) + len(other[i]) + len(`"","",`)
		}
		x.list = append(x.list, pairs)
	}
	return x.more()
}

// form is that of several texts together: quoted, or where one ends and the next begins
// would be left open.
func form(f change.Form, texts []string) string {
	forms := make([]string, len(texts))
	for i, t := range texts {
		forms[i] = strconv.Quote(f.Of(t))
	}
	return strings.Join(forms, ",")
}

// eachWord goes through rows of n texts, as long as do wants more. One of them that is NULL,
// longer than texts that are matched can be, or no text, matches nothing.
func (p *Plan) eachWord(ctx context.Context, c *change.Change, q *change.Query, n int, do func([]string) (more bool)) error {
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
		if !do(texts) {
			return nil
		}
	}
	return rows.Err()
}
