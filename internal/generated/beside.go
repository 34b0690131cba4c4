package generated

import "fmt"

// beside writes what another session does while the steps are carried out.
func (b *builder) beside() {
	if b.Beside == 0 {
		return
	}
	c := b.Choice
	b.Gone = c.Delete == 1 || c.Move >= 1 && c.Move <= 3 || c.Merge > 0 || c.List == 2 || c.List >= 5 || c.Then == 2 || c.Then == 7
	for i := range b.Rows {
		b.Writes = append(b.Writes, fmt.Sprintf("UPDATE t SET w = w + 1 WHERE (%s) = (%s)", b.keyColumns(), b.keyOf(i)))
	}
}
