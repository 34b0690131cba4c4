package preview

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/rewrite"
	"jugatum/internal/shape"
)

// Replacement is what a step that replaces text would do, and what it would leave.
type Replacement struct {
	Columns []ReplacedColumn `json:"columns"`
	Shapes  bool             `json:"shapes,omitempty"` // the texts are brought into a form: forms are transforms, and occurrences the values that they change
	Damaged int64            `json:"damaged"`          // rows with a value that looks structured and is not valid
	Broken  []Broken         `json:"broken"`           // the first of them
	Already int64            `json:"new_before"`       // occurrences of the new text before the run
	Within  int64            `json:"in_longer_words"`  // occurrences to be replaced that are part of a longer word
	Slashes int64            `json:"double_slashes"`   // occurrences after which the new text would make two slashes of one
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
	x, err := p.lookAtTexts(c, near, sample)
	if err != nil {
		return err
	}
	q := x.query()
	rows, err := db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	defer rows.Close()
	cells, into := engine.Cells(x.keys() + x.read.N + len(c.Let))
	values := make([][]byte, len(cells))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i := range cells {
			values[i] = cells[i].B
		}
		x.row(values)
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	x.end()
	return nil
}

// texts is a look at the rows of a step that replaces text.
type texts struct {
	p       *Step
	r       *Replacement
	c       *change.Change
	cols    []change.Set      // of the columns in which text is replaced
	near    bool              // what is nearly the text, and the new one, are looked for as well
	finders []*rewrite.Finder // of what is nearly one of the texts; none where there is a pattern

	read change.Texts // where of a row that is read what is
	last []string     // the key of the row before; only where there is a source

	forms, nears []tally // of each column
	tooLong      []int64 // new values that do not fit, of each column
	lost         []int64 // values that become NULL, since another column's text has nothing for them
	spread       spreader

	notText  bool   // a value of the row at hand is no text
	taken    Broken // the last value that a transform did not take
	formless int64  // rows with such a value
	first    Broken // the first of them
}

func (p *Step) lookAtTexts(c *change.Change, near bool, sample int) (*texts, error) {
	p.Replacement = &Replacement{Broken: []Broken{}}
	x := &texts{p: p, r: p.Replacement, c: c, near: near, spread: spreader{most: sample}}
	for _, s := range c.Set {
		if s.Implicit {
			break
		}
		x.cols = append(x.cols, s)
		x.forms, x.nears = append(x.forms, tally{}), append(x.nears, tally{})
		x.r.Columns = append(x.r.Columns, ReplacedColumn{Name: s.Column.Name})
	}
	x.tooLong, x.lost = make([]int64, len(x.cols)), make([]int64, len(x.cols))
	if c.Rewrite.Shapes != nil {
		x.near, x.r.Shapes = false, true
		return x, nil
	}
	if !near || c.Rewrite.Rules.Pattern != "" {
		return x, nil
	}
	for _, pair := range c.Rewrite.Rules.Pairs {
		f, err := rewrite.NewFinder(pair.Find)
		if err != nil {
			return nil, err
		}
		f.Ignore(pair.With)
		x.finders = append(x.finders, f)
	}
	return x, nil
}

// keys is how many columns of a row are its key.
func (x *texts) keys() int {
	if x.c.Table.Key == nil {
		return 0
	}
	return len(x.c.Table.Key.Columns)
}

// query is for the rows that may hold the text, or something near it: keys, then texts.
func (x *texts) query() *change.Query {
	c := x.c
	q := (&change.Query{D: c.D}).Add("SELECT ")
	if c.Table.Key != nil {
		for _, k := range c.Table.Key.Columns {
			q.Add(engine.KeyOut(c.D, c.Ref, k), ", ")
		}
	}
	x.read = q.Texts(c, x.cols)
	for _, l := range c.Let {
		q.Add(", ").TextOf(l.Expr, c.Params)
	}
	if !c.From.Empty() { // where several source rows may give one row the same
		return q.Source(c, change.Range{}).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns)
	}
	q.Add(" FROM ", c.TargetSQL(), " WHERE (").Fragment(c.Where, c.Params).Add(")")
	or := func(text string, fold bool) {
		for _, s := range x.cols {
			q.Add(" OR ").Contains(c.Ref, s.Column, text, fold)
		}
	}
	for _, f := range x.finders {
		if a := f.Anchor(); a != "" {
			or(a, true)
		}
	}
	for _, pair := range c.Rewrite.Rules.Pairs {
		if x.near && pair.With != "" && utf8.ValidString(pair.With) {
			or(pair.With, false)
		}
	}
	return q
}

// row looks at one row.
func (x *texts) row(values [][]byte) {
	keys := make([]string, x.keys())
	for i := range keys {
		keys[i] = string(values[i])
	}
	if !x.c.From.Empty() {
		if slices.Equal(keys, x.last) {
			return
		}
		x.last = keys
	}
	row := Row{Key: strings.Join(keys, ", "), Named: []*string{}}
	damaged, fresh := false, false
	x.notText = false
	cells := values[len(keys):]
	for _, v := range cells[x.read.N:] {
		row.Named = append(row.Named, shownText(v))
	}
	for i := range x.cols {
		cell, first, err := x.value(i, row.Key, cells)
		damaged, fresh = damaged || err != nil, fresh || first
		if cell != nil {
			row.Changes = append(row.Changes, *cell)
		}
	}
	switch {
	case damaged && x.r.Shapes && !x.notText:
		x.formless++
		if x.formless == 1 {
			x.first = x.taken
		}
		x.p.Matched++
	case damaged:
		x.r.Damaged++
		x.p.Matched++
	case len(row.Changes) > 0:
		x.p.Matched++
		x.p.Changes++
		x.spread.add(row, fresh)
	}
}

// value looks at the value of one column: what it would become, nil if it stays; and
// whether it holds a form that no value before it held. An error is that it looks
// structured and is not valid.
func (x *texts) value(i int, key string, cells [][]byte) (cell *Cell, first bool, err error) {
	v := cells[i]
	switch {
	case x.r.Shapes:
		return x.shaped(i, key, cells)
	case v == nil:
		return nil, false, nil
	}
	x.before(i, v)
	res, err := x.c.Rewrite.Look(v)
	if err != nil {
		x.left(i, v, v)
		x.broken(key, i, err.Error())
		return nil, false, err
	}
	after := v
	if len(res.Edits) > 0 {
		after = rewrite.Apply(v, res.Edits)
	}
	x.left(i, v, after) // what is nearly the text and is not replaced stands in the new value as well
	x.slashes(v, res.Edits)
	if bytes.Equal(after, v) {
		return nil, false, nil
	}
	col := &x.r.Columns[i]
	col.Rows++
	var in []string
	for _, place := range res.Places {
		col.Hits++
		form := [2]string{place.String(), ""}
		first = first || x.forms[i][form] == 0
		x.forms[i][form]++
		if !slices.Contains(in, form[0]) {
			in = append(in, form[0])
		}
	}
	x.fits(i, key, after)
	a, b := string(v), string(after)
	return &Cell{col.Name, &a, &b, in}, first, nil
}

// shaped is that of a value that is brought into a form; the transforms that change it are counted.
func (x *texts) shaped(i int, key string, cells [][]byte) (cell *Cell, first bool, err error) {
	after, now, done, err := x.read.New(i, cells)
	switch {
	case err != nil:
		x.broken(key, i, err.Error())
		x.notText = x.notText || errors.Is(err, shape.ErrNotText)
		x.taken = Broken{key, x.r.Columns[i].Name, err.Error()}
		return nil, false, err
	case !done || x.read.Same(i, after, now):
		return nil, false, nil
	}
	x.r.Columns[i].Rows++
	if after == nil && x.c.Rewrite.Source(i) != nil && cells[i] != nil {
		x.lost[i]++
	}
	steps := x.c.Rewrite.Shapes[i].Steps(cells[i])
	for _, name := range steps {
		form := [2]string{name, ""}
		first = first || x.forms[i][form] == 0
		x.forms[i][form]++
		x.r.Columns[i].Hits++
	}
	x.fits(i, key, after)
	return &Cell{x.r.Columns[i].Name, shownText(now), shownText(after), steps}, first, nil
}

// shownText is a value for reading; nil is NULL.
func shownText(v []byte) *string {
	if v == nil {
		return nil
	}
	s := string(v)
	return &s
}

// before counts where the new text stands already.
func (x *texts) before(i int, v []byte) {
	for _, pair := range x.c.Rewrite.Rules.Pairs {
		if x.near && pair.With != "" {
			n := int64(bytes.Count(v, []byte(pair.With)))
			x.r.Already += n
			x.r.Columns[i].Already += n
		}
	}
}

// left counts what is replaced within longer words, and what is nearly the text and stays.
func (x *texts) left(i int, v, after []byte) {
	for _, f := range x.finders {
		for _, h := range f.Find(v) {
			if h.Replaced() && h.Kind != "" {
				x.r.Within++
			}
		}
		for _, h := range f.Find(after) {
			if !h.Replaced() {
				x.nears[i][[2]string{h.Place.String(), h.Kind}]++
			}
		}
	}
}

// slashes counts new texts that end in a slash before one that stands there already.
func (x *texts) slashes(v []byte, edits []rewrite.Edit) {
	slash := []byte("/")
	for _, e := range edits {
		next := bytes.TrimPrefix(v[e.End:], []byte(`\`))
		if bytes.HasSuffix(e.New, slash) && bytes.HasPrefix(next, slash) && !bytes.HasSuffix(v[e.Start:e.End], slash) {
			x.r.Slashes++
		}
	}
}

// fits counts a new value that is too long for its column.
func (x *texts) fits(i int, key string, after []byte) {
	col := x.cols[i].Column
	if n := utf8.RuneCount(after); col.Length > 0 && n > col.Length {
		x.tooLong[i]++
		x.broken(key, i, fmt.Sprintf("the new value has %d characters, %s takes %d", n, col.Type, col.Length))
	}
}

// broken lists the first values that cannot be replaced in.
func (x *texts) broken(key string, i int, why string) {
	if len(x.r.Broken) < brokenShown {
		x.r.Broken = append(x.r.Broken, Broken{key, x.cols[i].Column.Name, why})
	}
}

// end tells what was counted.
func (x *texts) end() {
	x.p.Sample = x.spread.rows()
	for i, s := range x.cols {
		x.r.Columns[i].Forms, x.r.Columns[i].Near = x.forms[i].list(), x.nears[i].list()
		if n := x.lost[i]; n > 0 {
			x.p.found(hazard.Found(x.c.Step, "becomes-null", n, x.c.Table, s.Column.Name, x.c.Rewrite.Source(i).Name()), true)
		}
		if n := x.tooLong[i]; n > 0 {
			x.p.found(hazard.Found(x.c.Step, hazard.DoesNotFit, n, x.c.Table, s.Column.Name, s.Column.Type), true)
		}
	}
	if x.formless > 0 {
		x.p.found(hazard.Found(x.c.Step, "no-form", x.formless, x.first.Key, x.first.Column, x.first.Reason), true)
	}
	x.p.replaceHazards(x.c, x.finders != nil)
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
	if n := p.Replacement.Damaged; n > 0 && p.Replacement.Shapes {
		add("not-text", n)
	} else if n > 0 {
		add("damaged", n)
	}
}
