package preview

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/rewrite"
)

// Replacement is what a step that replaces text would do, and what it would leave.
type Replacement struct {
	Columns []ReplacedColumn `json:"columns"`
	Damaged int64            `json:"damaged"`         // rows with a value that looks structured and is not valid
	Broken  []Broken         `json:"broken"`          // the first of them
	Already int64            `json:"new_before"`      // occurrences of the new text before the run
	Within  int64            `json:"in_longer_words"` // occurrences to be replaced that are part of a longer word
	Slashes int64            `json:"double_slashes"`  // occurrences after which the new text would make two slashes of one
}

// ReplacedColumn is one column of it.
type ReplacedColumn struct {
	Name  string `json:"name"`
	Rows  int64  `json:"rows"`
	Hits  int64  `json:"occurrences"`
	Forms []Form `json:"forms"`
	Near  []Form `json:"left"` // what is nearly the text and stays

	Already int64 `json:"new_before"` // occurrences of the new text before the run
}

// Form counts occurrences of one kind.
type Form struct {
	Form    string `json:"form"`
	Differs string `json:"differs,omitempty"`
	Hits    int64  `json:"occurrences"`
}

// Broken is a value that cannot be replaced in, or that would not fit then.
type Broken struct {
	Key    string `json:"key"`
	Column string `json:"column"`
	Reason string `json:"reason"`
}

// formsShown is how many rows are shown beside the sample because they hold a
// form that no row before them holds.
const formsShown = 20

// brokenShown is how many damaged values are listed.
const brokenShown = 10

// tally counts by form and difference.
type tally map[[2]string]int64

func (t tally) list() []Form {
	out := []Form{}
	for k, n := range t {
		out = append(out, Form{k[0], k[1], n})
	}
	sort.Slice(out, func(a, b int) bool {
		if out[a].Hits != out[b].Hits {
			return out[a].Hits > out[b].Hits
		}
		return out[a].Form+out[a].Differs < out[b].Form+out[b].Differs
	})
	return out
}

// replacement reads the rows that may hold the text, once, and works out what
// would become of them. near also looks for what is nearly the text.
func (p *Step) replacement(ctx context.Context, db engine.DB, c *change.Change, near bool, sample int) error {
	r := &Replacement{Broken: []Broken{}}
	p.Replacement = r
	cols := c.Set
	for i, s := range cols {
		if s.Implicit {
			cols = cols[:i]
			break
		}
	}
	var finders []*rewrite.Finder
	if near && c.Rewrite.Rules.Pattern == "" {
		for _, pair := range c.Rewrite.Rules.Pairs {
			f, err := rewrite.NewFinder(pair.Find)
			if err != nil {
				return err
			}
			f.Ignore(pair.With)
			finders = append(finders, f)
		}
	}
	q := &change.Query{D: c.D}
	q.Add("SELECT ")
	keys := 0
	if c.Table.Key != nil {
		for _, k := range c.Table.Key.Columns {
			q.Add(engine.KeyOut(c.D, c.Ref, k), ", ")
			keys++
		}
	}
	for i, s := range cols {
		if i > 0 {
			q.Add(", ")
		}
		q.AsText(c.Ref, s.Column)
	}
	q.Add(" FROM ", c.TargetSQL(), " WHERE (").Fragment(c.Where, c.Params).Add(")")
	for _, f := range finders {
		for _, s := range cols {
			if a := f.Anchor(); a != "" {
				q.Add(" OR ").Contains(c.Ref, s.Column, a, true)
			}
		}
	}
	for _, pair := range c.Rewrite.Rules.Pairs {
		if near && pair.With != "" && utf8.ValidString(pair.With) {
			for _, s := range cols {
				q.Add(" OR ").Contains(c.Ref, s.Column, pair.With, false)
			}
		}
	}
	rows, err := db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	defer rows.Close()
	forms, nears := make([]tally, len(cols)), make([]tally, len(cols))
	r.Columns = make([]ReplacedColumn, len(cols))
	tooLong := make([]int64, len(cols))
	for i, s := range cols {
		forms[i], nears[i] = tally{}, tally{}
		r.Columns[i].Name = s.Column.Name
	}
	values := make([]sql.RawBytes, keys+len(cols))
	into := make([]any, len(values))
	for i := range values {
		into[i] = &values[i]
	}
	spread := spreader{most: sample}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		key := ""
		for i, k := range values[:keys] {
			if i > 0 {
				key += ", "
			}
			key += string(k)
		}
		row := Row{Key: key, Named: []*string{}}
		damaged, fresh := false, false
		for i := range cols {
			v := []byte(values[keys+i])
			if values[keys+i] == nil {
				continue
			}
			for _, pair := range c.Rewrite.Rules.Pairs {
				if near && pair.With != "" {
					n := int64(strings.Count(string(v), pair.With))
					r.Already += n
					r.Columns[i].Already += n
				}
			}
			res, err := c.Rewrite.Look(v)
			stays := v // what is nearly the text and is not replaced stands in the new value as well
			if err == nil && len(res.Edits) > 0 {
				stays = rewrite.Apply(v, res.Edits)
			}
			for _, f := range finders {
				for _, h := range f.Find(v) {
					if h.Replaced() && h.Kind != "" {
						r.Within++
					}
				}
				for _, h := range f.Find(stays) {
					if !h.Replaced() {
						nears[i][[2]string{h.Place.String(), h.Kind}]++
					}
				}
			}
			if err != nil {
				damaged = true
				if len(r.Broken) < brokenShown {
					r.Broken = append(r.Broken, Broken{key, cols[i].Column.Name, err.Error()})
				}
				continue
			}
			if len(res.Edits) == 0 {
				continue
			}
			for _, e := range res.Edits {
				if bytes.HasSuffix(e.New, []byte("/")) && bytes.HasPrefix(bytes.TrimPrefix(v[e.End:], []byte(`\`)), []byte("/")) && !bytes.HasSuffix(v[e.Start:e.End], []byte("/")) {
					r.Slashes++
				}
			}
			after := rewrite.Apply(v, res.Edits)
			if string(after) == string(v) {
				continue
			}
			r.Columns[i].Rows++
			var in []string
			for _, place := range res.Places {
				r.Columns[i].Hits++
				form := [2]string{place.String(), ""}
				fresh = fresh || forms[i][form] == 0
				forms[i][form]++
				if !slices.Contains(in, form[0]) {
					in = append(in, form[0])
				}
			}
			if w := cols[i].Column.Length; w > 0 && utf8.RuneCount(after) > w {
				tooLong[i]++
				if len(r.Broken) < brokenShown {
					r.Broken = append(r.Broken, Broken{key, cols[i].Column.Name, fmt.Sprintf("the new value has %d characters, %s takes %d", utf8.RuneCount(after), cols[i].Column.Type, w)})
				}
			}
			a, b := string(v), string(after)
			row.Changes = append(row.Changes, Cell{cols[i].Column.Name, &a, &b, in})
		}
		switch {
		case damaged:
			r.Damaged++
			p.Matched++
		case len(row.Changes) > 0:
			p.Matched++
			p.Changes++
			spread.add(row, fresh)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	p.Sample = spread.rows()
	for i := range cols {
		r.Columns[i].Forms, r.Columns[i].Near = forms[i].list(), nears[i].list()
		if tooLong[i] > 0 {
			p.found(hazard.Found(c.Step, hazard.DoesNotFit, tooLong[i], c.Table, cols[i].Column.Name, cols[i].Column.Type), true)
		}
	}
	p.replaceHazards(c, finders != nil)
	return nil
}

// spreader picks rows spread over all that come, without knowing how many that
// will be, and the first of every form.
type spreader struct {
	most   int
	seen   int
	stride int // one in so many is held
	held   []Row
	fresh  []Row // the first of each form
}

func (s *spreader) add(row Row, fresh bool) {
	if s.most == 0 {
		return
	}
	if fresh && len(s.fresh) < formsShown {
		s.fresh = append(s.fresh, row)
		return
	}
	at := s.seen
	s.seen++
	if s.stride = max(s.stride, 1); at%s.stride > 0 {
		return
	}
	if s.held = append(s.held, row); len(s.held) > 2*s.most {
		half := s.held[:0]
		for i := 0; i < len(s.held); i += 2 {
			half = append(half, s.held[i])
		}
		s.held, s.stride = half, 2*s.stride
	}
}

// rows gives those picked.
func (s *spreader) rows() []Row {
	out := append([]Row(nil), s.fresh...)
	n := min(max(s.most-len(out), 0), len(s.held))
	for i := range n {
		at := 0
		if n > 1 {
			at = i * (len(s.held) - 1) / (n - 1)
		} else {
			at = len(s.held) - 1
		}
		out = append(out, s.held[at])
	}
	return out
}

// replaceHazards are those of the texts themselves.
func (p *Step) replaceHazards(c *change.Change, near bool) {
	add := func(code string, rows int64, args ...any) {
		p.Hazards = append(p.Hazards, hazard.Found(c.Step, code, rows, args...))
	}
	for _, pair := range c.Rewrite.Rules.Pairs {
		if pair.Find != "" && strings.Contains(pair.With, pair.Find) {
			add("grows", -1, pair.With)
		}
	}
	if n := p.Replacement.Within; n > 0 && !c.Rewrite.Rules.Words {
		add("longer-words", -1, n)
	}
	if n := p.Replacement.Slashes; n > 0 {
		add("double-slash", -1, n)
	}
	if near && p.Replacement.Already > 0 {
		var where []string
		for _, col := range p.Replacement.Columns {
			if col.Already > 0 {
				where = append(where, fmt.Sprintf("%d times in %s", col.Already, col.Name))
			}
		}
		add("not-reversible", -1, strings.Join(where, ", "))
	}
	if n := p.Replacement.Damaged; n > 0 {
		add("damaged", n)
	}
}
