package change

import (
	"strings"

	"jugatum/internal/sqltext"
)

// once makes the step one that a second run has nothing to do for: a column of
// the table, NULL in every row that is still to be done, is assigned in the same
// update, and the filter asks for it. Undo takes it back with the rest.
func (b *builder) once() error {
	c, name := b.c, b.spec.Once
	if name == "" {
		return nil
	}
	if c.Verb != sqltext.Update {
		if c.Verb == sqltext.Insert {
			return b.failf("once", "rows that are copied have no column that could be marked; leave it out, present = \"keep\" copies none twice")
		}
		return b.failf("once", "rows that are deleted cannot be deleted again; leave it out")
	}
	col, err := b.column("once", b.token(name))
	if err != nil {
		return err
	}
	switch {
	case col.NotNull:
		return b.failf("once", "column %s.%s is NOT NULL, but NULL is to tell the rows that are not done yet", c.Table, col.Name)
	case c.Table.Key != nil && containsColumn(c.Table.Key.Columns, col):
		return b.failf("once", "column %s.%s belongs to the key", c.Table, col.Name)
	}
	mark, err := b.mark(col)
	if err != nil {
		return err
	}
	c.Set = append(c.Set, mark)
	c.marked = true
	if c.Where.Empty() && c.From.Empty() && c.First == nil {
		c.everywhere = true
	}
	asked, err := sqltext.Expression(c.D, c.Ref+"."+c.D.Quote(col.Name)+" IS NULL")
	if err != nil {
		return err
	}
	if l := c.Lookup; l != nil {
		if l.Where, err = b.both(l.Where, asked); err != nil {
			return err
		}
	}
	c.Where, err = b.both(c.Where, asked)
	return err
}

// mark is what the column is to hold afterwards: when it was done, where it can
// hold a time, else true, 1 or the step's name.
func (b *builder) mark(col *Column) (Set, error) {
	typ := strings.ToLower(col.Type)
	word := ""
	switch {
	case strings.Contains(typ, "timestamp"), strings.Contains(typ, "datetime"):
		word = "CURRENT_TIMESTAMP"
	case typ == "date":
		word = "CURRENT_DATE"
	case strings.HasPrefix(typ, "bool"):
		word = "TRUE"
	case col.Class == Number:
		word = "1"
	case col.Class == Text || col.Holds == WholeText:
		if col.Length > 0 && len([]rune(b.spec.Mark)) > col.Length {
			return Set{}, b.failf("once", "the step's name is longer than %s.%s, which is to hold it", b.c.Table, col.Name)
		}
		return Set{Column: col, Literal: &Value{Type: TextValue, Text: b.spec.Mark}}, nil
	default:
		return Set{}, b.failf("once", "column %s.%s is of type %s; it should hold a time, a date, a boolean, a number or a text", b.c.Table, col.Name, col.Type)
	}
	expr, err := sqltext.Expression(b.c.D, word)
	return Set{Column: col, Expr: expr}, err
}

func containsColumn(list []*Column, c *Column) bool {
	for _, x := range list {
		if x == c {
			return true
		}
	}
	return false
}

// EveryRow reports whether no filter is written, so that every row of the table
// is concerned; what once adds to it is none.
func (c *Change) EveryRow() bool {
	return c.everywhere || c.Where.Empty() && c.From.Empty() && c.First == nil
}
