package generated

import "fmt"

// firstChild is the number of the first row of child that another session makes.
const firstChild = 1000

// NewChild stands for the number of such a row, of which each has its own.
const NewChild = "{c}"

// beside writes what another session does while the steps are carried out.
func (b *builder) beside() {
	if b.Beside == 0 {
		return
	}
	c := b.Choice
	b.Gone = c.Delete == 1 || c.Move >= 1 && c.Move <= 3 || c.Merge > 0 || c.List == 2 || c.List >= 5 || c.First == 2 || c.Then == 2 || c.Then == 7
	for i := range b.Rows {
		b.Writes = append(b.Writes, fmt.Sprintf("UPDATE t SET w = w + 1 WHERE (%s) = (%s)", b.keyColumns(), b.keyOf(i)))
	}
	// Rows that come to refer to others go with them, or lose their reference, and come back.
	if b.Beside == 2 && b.children() {
		for i := range b.Rows {
			b.Children = append(b.Children, fmt.Sprintf("INSERT INTO child (c, t_id) VALUES (%s, %s)", NewChild, b.keyOf(i)))
		}
	}
}

// children reports whether another session makes rows that refer to those of the target.
func (b *builder) children() bool {
	parent, _ := b.referred()
	return b.Beside == 2 && parent != "" && b.ints && b.Gone && b.Child > 1 && !(b.maria() && b.Child == 4) && b.Set != 8 && b.Keep == 0
}
