package change

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// AtOnce says why one statement for all rows may go through where batches are
// refused by a constraint, since it is checked at the end of the statement or of
// the transaction; "" if nothing speaks for that.
func (c *Change) AtOnce() string {
	if c.D.Forms().RowByRow {
		return ""
	}
	assigned := func(columns []string) bool {
		return slices.ContainsFunc(c.Set, func(s Set) bool { return slices.Contains(columns, s.Column.Name) })
	}
	for _, x := range c.Table.Deferrable {
		if c.Verb == sqltext.Update && assigned(x.Columns) {
			return fmt.Sprintf("constraint %s can wait for the end of a statement", x.Name)
		}
	}
	for _, fk := range c.Table.ReferredBy {
		itself := fk.Table == c.Table.Name || strings.HasSuffix(fk.Table, "."+c.Table.Name)
		if itself && (c.Verb == sqltext.Delete && !Follows(fk.OnDelete) || c.Verb == sqltext.Update && assigned(append(slices.Clone(fk.Columns), fk.Parent...))) {
			return fmt.Sprintf("rows of %s refer to each other (%s)", c.Table, fk.Name)
		}
	}
	return ""
}
