// Package find looks for a text in every column that can hold text: each table
// in one pass that takes no locks anybody waits for.
package find

import (
	"context"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/rewrite"
)

// Options say where to look.
type Options struct {
	In, Except []string // patterns of TABLE.COLUMN or SCHEMA.TABLE.COLUMN with * and ?; In empty is everywhere
	Not        string   // occurrences that are this text are not counted
	Sample     int64    // most rows of a table to look at; 0 all
	Binary     bool     // also in columns of bytes
	Base64     bool     // also in what is encoded in base64
	Progress   func(table string, n, of int, hits int64)
}

// Result is where the text occurs.
type Result struct {
	Text     string   `json:"text"`
	Database string   `json:"database"`
	Tables   int      `json:"tables"`  // looked at
	Looked   int      `json:"columns"` // looked at
	Columns  []Column `json:"found"`
	Sampled  []string `json:"sampled"` // tables of which only a part was looked at
}

// Column is one column in which it occurs.
type Column struct {
	Schema string `json:"schema,omitempty"`
	Table  string `json:"table"`
	Column string `json:"column"`
	Rows   int64  `json:"rows"`
	Hits   int64  `json:"occurrences"`
	Kinds  []Kind `json:"kinds"`
	Parts  bool   `json:"parts,omitempty"` // an array or an enumeration
	Bytes  bool   `json:"bytes,omitempty"` // bytes, not text
	Exact  int64  `json:"exact"`           // occurrences of the very text, keys not among them, that a replacement covers unless told otherwise
	// ExactRows is in how many rows those stand.
	ExactRows int64 `json:"exact_rows"`

	kinds map[kindOf]*Kind
}

// kindOf tells kinds apart.
type kindOf struct {
	rewrite.Place
	differs string
}

// Kind is one way in which it occurs there.
type Kind struct {
	Form     string    `json:"form"`
	Differs  string    `json:"differs,omitempty"` // from the text: other case, …
	Hits     int64     `json:"occurrences"`
	Covered  bool      `json:"covered"` // by a replacement, unless it is told otherwise
	Examples []Example `json:"examples"`
}

// Example is one occurrence.
type Example struct {
	Key    string `json:"key,omitempty"`
	Before string `json:"before"`
	Match  string `json:"match"`
	After  string `json:"after"`
}

// examples is how many of each kind are shown.
const examples = 2

// Match reports whether a column is one of the patterns', or one of a table's from which this one
// inherits it: its rows are that table's as well.
func Match(patterns []string, t *change.Table, column string) bool {
	var names []string
	for _, x := range append([]*change.Table{t}, t.Above...) {
		if x != t && x.Named(column) == nil {
			continue
		}
		names = append(names, x.Name+"."+column)
		if x.Schema != "" {
			names = append(names, x.Schema+"."+x.Name+"."+column)
		}
	}
	return slices.ContainsFunc(patterns, func(p string) bool {
		return slices.ContainsFunc(names, func(n string) bool {
			ok, err := path.Match(p, n)
			return err == nil && ok
		})
	})
}

// Columns lists the columns of a table that may hold text and are asked for.
func Columns(t *change.Table, o Options) []*change.Column {
	var out []*change.Column
	for _, c := range t.Columns {
		if len(o.In) > 0 && !Match(o.In, t, c.Name) || Match(o.Except, t, c.Name) {
			continue
		}
		if c.Holds == change.WholeText || c.Holds == change.TextParts || c.Holds == change.Bytes && o.Binary {
			out = append(out, c)
		}
		if c.Holds == change.WholeText && o.Binary && t.AnyBytes { // here a text, there bytes
			x := *c
			x.Holds = change.Bytes
			out = append(out, &x)
		}
	}
	return out
}

// PatternError is a text or a pattern that cannot be looked for.
type PatternError struct{ Msg string }

func (e *PatternError) Error() string { return e.Msg }

// Search looks for a text. What it is asked for wrongly is a *PatternError.
func Search(ctx context.Context, db engine.DB, text string, o Options) (*Result, error) {
	f, err := rewrite.NewFinder(text)
	if err != nil {
		return nil, &PatternError{err.Error()}
	}
	f.Ignore(o.Not)
	if o.Base64 {
		f.Base64()
	}
	for _, p := range append(append([]string(nil), o.In...), o.Except...) {
		if _, err := path.Match(p, ""); err != nil || !strings.Contains(p, ".") {
			return nil, &PatternError{fmt.Sprintf("%q is no pattern of columns; write 'table.column', 'table.*' or '*.column'", p)}
		}
	}
	tables, err := db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	r := &Result{Text: text, Database: db.Name(), Columns: []Column{}, Sampled: []string{}}
	type look struct {
		t    *change.Table
		cols []*change.Column
	}
	var looks []look
	for _, t := range tables {
		if cols := Columns(t, o); len(cols) > 0 {
			looks = append(looks, look{t, cols})
			names := map[string]bool{}
			for _, c := range cols {
				names[c.Name] = true
			}
			r.Looked += len(names)
		}
	}
	if r.Tables = len(looks); r.Tables == 0 && len(o.In) > 0 {
		return nil, &PatternError{fmt.Sprintf("no column that can hold text is one of %s", strings.Join(o.In, ", "))}
	}
	// The largest first, so that in the end nobody waits for a late one.
	order := make([]int, len(looks))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return looks[order[a]].t.Bytes > looks[order[b]].t.Bytes })
	var mu sync.Mutex
	hits, begun := int64(0), 0
	found := make([][]*Column, len(looks))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, i := range order {
		g.Go(func() error {
			l, last := looks[i], int64(0)
			mu.Lock()
			begun++
			mu.Unlock()
			columns, sampled, err := table(ctx, db, f, l.t, l.cols, o, func(n int64) {
				mu.Lock()
				defer mu.Unlock()
				hits, last = hits+n-last, n
				if o.Progress != nil {
					o.Progress(l.t.String(), begun, len(looks), hits)
				}
			})
			if err != nil {
				return fmt.Errorf("looking through %s: %w", l.t, err)
			}
			found[i] = columns
			if sampled {
				mu.Lock()
				defer mu.Unlock()
				r.Sampled = append(r.Sampled, l.t.String())
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	sort.Strings(r.Sampled)
	for _, columns := range found {
		for _, c := range columns {
			r.Columns = append(r.Columns, *c)
		}
	}
	return r, nil
}

// atOnce is how many tables are looked through at the same time.
const atOnce = 2

// table looks through one table in one pass. It reports as well whether it was
// through a part of it only.
func table(ctx context.Context, db engine.DB, f *rewrite.Finder, t *change.Table, cols []*change.Column, o Options, progress func(int64)) ([]*Column, bool, error) {
	q := &change.Query{D: db.Dialect()}
	keys := 0
	q.Add("SELECT ")
	if t.Key != nil {
		for _, k := range t.Key.Columns {
			q.Add(engine.KeyOut(q.D, "jugatum_t", k), ", ")
			keys++
		}
	}
	for i, c := range cols {
		if i > 0 {
			q.Add(", ")
		}
		if c.Holds == change.Bytes {
			q.AsHex("jugatum_t", c)
		} else {
			q.AsText("jugatum_t", c)
		}
	}
	q.Add(" FROM ")
	sampled := o.Sample > 0 && t.Rows > o.Sample
	sample := q.D.Sample(100 * float64(o.Sample) / float64(max(t.Rows, 1)))
	switch {
	case !sampled:
		q.Add(t.SQL(q.D), " AS jugatum_t")
	case sample != "":
		q.Add(t.SQL(q.D), " AS jugatum_t", sample)
	default:
		q.Add("(SELECT * FROM ", t.SQL(q.D), " LIMIT ", fmt.Sprint(o.Sample), ") AS jugatum_t")
	}
	q.Add(" WHERE 1 = 0")
	Narrow(q, "jugatum_t", cols, f)
	out := make([]*Column, len(cols))
	hits := int64(0)
	err := pipe(keys+len(cols), func(each func([][]byte) error) error { return engine.Skim(ctx, db, q, each) }, func(n int, values [][]byte) {
		for i, c := range cols {
			v := values[keys+i]
			if v == nil {
				continue
			}
			if out[i] == nil {
				out[i] = &Column{Schema: t.Schema, Table: t.Name, Column: c.Name, Parts: c.Holds == change.TextParts, Bytes: c.Holds == change.Bytes, kinds: map[kindOf]*Kind{}}
			}
			if c.Holds == change.Bytes {
				v = v[:hexInto(v, v)]
			}
			x := out[i]
			before, exact := x.Hits, x.Exact
			f.Visit(v, func(p rewrite.Place, kind string, s []byte, start, end int) {
				x.add(p, kind, s, start, end, values[:keys])
			})
			if x.Hits > before {
				x.Rows++
				hits += x.Hits - before
			}
			if x.Exact > exact {
				x.ExactRows++
			}
		}
		if n%512 == 0 {
			progress(hits)
		}
	})
	if err != nil {
		return nil, false, err
	}
	progress(hits)
	var found []*Column
	for _, c := range out {
		if c != nil && c.Hits > 0 {
			c.order()
			found = append(found, c)
		}
	}
	return found, sampled, nil
}

// Narrow appends " OR …" for each column that the text, in whatever form, may be in.
func Narrow(q *change.Query, alias string, cols []*change.Column, f *rewrite.Finder) {
	for _, c := range cols {
		a := f.Anchor()
		switch {
		case a == "": // nothing is the same in every form
			q.Add(" OR ").Columns(alias, []*change.Column{c}).Add(" IS NOT NULL")
			continue
		case c.Holds == change.Bytes:
			q.Add(" OR ").MayHold(alias, c, a)
		default:
			q.Add(" OR ").Contains(alias, c, a, true)
		}
		for _, a := range f.Encoded() {
			q.Add(" OR ")
			if c.Holds == change.Bytes {
				q.MayHold(alias, c, a)
			} else {
				q.Contains(alias, c, a, false)
			}
		}
	}
}

// hexInto decodes hexadecimal digits, which the database has written.
func hexInto(to, from []byte) int {
	n, _ := hex.Decode(to, from)
	return n
}

// add counts one occurrence.
func (c *Column) add(p rewrite.Place, differs string, s []byte, start, end int, key [][]byte) {
	c.Hits++
	id := kindOf{p, differs}
	k := c.kinds[id]
	if k == nil {
		k = &Kind{Form: p.String(), Differs: differs, Covered: rewrite.Covered(p, differs) && !c.Bytes}
		c.kinds[id] = k
	}
	if k.Hits++; k.Covered && !c.Bytes {
		c.Exact++
	}
	if len(k.Examples) >= examples {
		return
	}
	parts := make([]string, len(key))
	for i, v := range key {
		parts[i] = string(v)
	}
	before, after := rewrite.Around(s, start, end)
	k.Examples = append(k.Examples, Example{strings.Join(parts, ", "), before, string(s[start:end]), after})
}

// order lists the kinds, the most frequent first.
func (c *Column) order() {
	for _, k := range c.kinds {
		c.Kinds = append(c.Kinds, *k)
	}
	sort.Slice(c.Kinds, func(a, b int) bool {
		x, y := c.Kinds[a], c.Kinds[b]
		if x.Hits != y.Hits {
			return x.Hits > y.Hits
		}
		return x.Form+x.Differs < y.Form+y.Differs
	})
}
