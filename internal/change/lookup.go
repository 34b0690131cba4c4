package change

import "jugatum/internal/sqltext"

// Joint is what a kind of step that looks values up in other rows says of them.
// It is made by the kind, of pieces of SQL that have been read one by one.
type Joint struct {
	From      string   // where the rows come from, as an item of a FROM list with its alias
	As        string   // the alias
	Match     string   // the condition that joins them to the target
	Missing   bool     // the rows of the target for which there is none are meant instead
	Columns   []string // of the target, which Match compares; none where it is a condition
	Unmatched Unmatched
	Unique    bool // no two rows match the same row of the target, by what the catalogue says

	// Table is what From reads, nil if that is a query or a view; Copied gives for each
	// column that is filled the one of the table that its value is, nil if it is none.
	Table  *Table
	Copied []*Column

	// Query, if not empty, gives the rows of From, which are to be read once, into a
	// table that is made before the first batch. Index lists those of its columns that
	// Match compares.
	Query string
	Index []string

	// Words, if not nil, are what Query joins the source's texts to the target's by.
	Words *Words
}

// Unmatched says what becomes of rows of the target that match nothing.
type Unmatched string

const (
	Leave Unmatched = "leave" // they stay as they are
	Null  Unmatched = "null"  // the columns that are filled become NULL
	Fail  Unmatched = "fail"  // the run is refused
)

// Lookup is where a change takes its new values from.
type Lookup struct {
	Joint
	Where   sqltext.Fragment // the step's own filter; that of the change has the match as well
	From    sqltext.Fragment
	Match   sqltext.Fragment
	Columns []*Column
	whole   *Change                      // of a staged change, the one that reads the rows where they come from
	build   func(Joint) (*Change, error) // the same change with the rows from elsewhere
}

// joint reads where the new values come from.
func (b *builder) joint(j *Joint) (err error) {
	c := b.c
	l := &Lookup{Joint: *j, Where: c.Where}
	l.build = func(j Joint) (*Change, error) {
		spec := b.spec
		spec.Joint = &j
		return Build(c.D, spec, c.Params, b.tables)
	}
	c.Lookup = l
	if j.Words != nil {
		if err := b.words(j.Words); err != nil {
			return err
		}
	}
	tokens, err := sqltext.Lex(c.D, j.From)
	if err != nil {
		return b.fail("from", err)
	}
	l.From = sqltext.Fragment{Tokens: tokens}
	if l.Match, err = sqltext.Expression(c.D, j.Match); err != nil {
		return b.fail("match", err)
	}
	for _, name := range j.Columns {
		l.Columns = append(l.Columns, c.Table.Column(c.D, b.token(name)))
	}
	more := "(" + j.Match + ")"
	if j.Missing {
		more = "NOT EXISTS (SELECT 1 FROM " + j.From + " WHERE " + j.Match + ")"
	} else {
		c.From = l.From
	}
	match, err := sqltext.Expression(c.D, more)
	if err != nil {
		return b.fail("match", err)
	}
	c.Where, err = b.both(c.Where, match)
	return err
}

// both is the conjunction of two conditions, the first of which may be empty.
func (b *builder) both(first, second sqltext.Fragment) (sqltext.Fragment, error) {
	if first.Empty() {
		return second, nil
	}
	open, err := sqltext.Lex(b.c.D, "(")
	if err != nil {
		return first, err
	}
	and, err := sqltext.Lex(b.c.D, ") AND")
	if err != nil {
		return first, err
	}
	whole := append(append(append(open, first.Tokens...), and...), second.Tokens...)
	whole[len(whole)-len(second.Tokens)].Space = true
	return sqltext.Fragment{Tokens: whole}, nil
}

// Staged is the change with the rows that it looks up in the given table, which is
// made before the first batch; the change itself where it reads them as they come.
func (c *Change) Staged(table string) (*Change, error) {
	if !c.Stages() {
		return c, nil
	}
	j := c.Lookup.Joint
	j.From, j.Query = table+" AS "+j.As, ""
	out, err := c.Lookup.build(j)
	if err != nil {
		return nil, err
	}
	out.Reads, out.Split, out.Lookup.whole = c.Reads, c.Split, c
	return out, nil
}

// Stages reports whether the rows that the change looks up are read once, into a
// table of their own.
func (c *Change) Stages() bool { return c.Lookup != nil && c.Lookup.Query != "" }

// LooksUp reports whether the change finds its values in a table of ours, by an index.
func (c *Change) LooksUp() bool {
	return c.Lookup != nil && c.ReadsOurs() && len(c.Lookup.Columns) > 0
}

// ReadsOurs reports whether what the change reads besides its own rows is a table of ours,
// which nobody changes.
func (c *Change) ReadsOurs() bool { return c.Whole() != c || c.Lines != nil }

// Whole is the change as it reads its rows where they come from, whatever has
// become of a table that was made of them.
func (c *Change) Whole() *Change {
	if c.Lookup == nil || c.Lookup.whole == nil {
		return c
	}
	return c.Lookup.whole
}

// Known is the change of rows that are known to match: all that is asked of them is
// what joins them to the rows that they look up.
func (c *Change) Known() *Change {
	out := *c
	out.Where = sqltext.Fragment{}
	if !c.From.Empty() && c.Lookup != nil {
		out.Where = c.Lookup.Match
	}
	return &out
}

// Sought is the change of the rows that the step's own filter finds, whatever they
// match.
func (c *Change) Sought() *Change {
	out := *c
	out.From, out.Where = sqltext.Fragment{}, c.Lookup.Where
	return &out
}

// Lost is the query, from FROM on, for the rows of the target within the step's
// filter that match nothing. Where no row is looked up it is nil.
func Lost(c *Change) *Query {
	l := c.Lookup
	if l == nil {
		return nil
	}
	by := "" // a source that is a table is joined by an index of its own
	if l.Query != "" && len(l.Columns) > 0 {
		by = l.As + "." + l.Index[0]
	}
	q := (&Query{D: c.D}).Add(" FROM ", c.TargetSQL())
	q.lacking(c, by, func() { q.Fragment(l.From, c.Params) })
	if !l.Where.Empty() {
		q.Add(" AND (").Fragment(l.Where, c.Params).Add(")")
	}
	return q
}

// Unused is the query, from FROM on, for the rows that could be looked up and that
// no row of the target matches, whatever the step's filter.
func Unused(c *Change) *Query {
	l, forms := c.Lookup, c.D.Forms()
	q := (&Query{D: c.D}).SourceRows(c)
	if w := l.Words; w != nil {
		q.Add(" WHERE NOT EXISTS (SELECT 1 FROM ").Fragment(w.table, c.Params)
		if !w.Alone {
			q.Add(", ", c.TargetSQL())
		}
		return q.Add(" WHERE ").Fragment(w.on, c.Params).Add(")")
	}
	if len(l.Columns) == 0 || !forms.AntiJoins && !forms.IndexesDerived {
		return q.lacking(c, "", func() { q.Add(c.TargetSQL()) })
	}
	// The target need not have an index of what is matched: it stands as a query, for which one is made.
	return q.lacking(c, c.Ref+"."+c.D.Quote(l.Columns[0].Name), func() {
		q.Add("(SELECT ")
		for i, col := range l.Columns {
			q.sep(i).Add(c.D.Quote(col.Name))
		}
		q.Add(" FROM ", c.TargetSQL())
		if forms.IndexesDerived {
			q.Add(forms.Unmerged)
		}
		q.Add(") AS ", c.Ref)
	})
}

// lacking appends, to rows of a FROM list, that what others appends has none that the change
// matches with them. by, if not empty, is one of its columns that are compared for equality,
// and so not NULL in a row that matches.
func (q *Query) lacking(c *Change, by string, others func()) *Query {
	if by != "" && q.D.Forms().AntiJoins {
		q.Add(" LEFT JOIN ")
		others()
		return q.Add(" ON ").Fragment(c.Lookup.Match, c.Params).Add(" WHERE ", by, " IS NULL")
	}
	q.Add(" WHERE NOT EXISTS (SELECT 1 FROM ")
	others()
	return q.Add(" WHERE ").Fragment(c.Lookup.Match, c.Params).Add(")")
}

// Source is the query for the rows that a change looks up.
func Source(c *Change) (*Query, error) {
	tokens, err := sqltext.Lex(c.D, c.Lookup.Query)
	if err != nil {
		return nil, err
	}
	b := builder{c: c}
	return (&Query{D: c.D}).Fragment(b.clock(sqltext.Fragment{Tokens: tokens}), c.Params), nil
}
