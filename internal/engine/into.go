package engine

import (
	"fmt"

	"jugatum/internal/change"
)

// MovedError says that not as many rows came into the other table as were taken out
// of their own, or read there to be copied. The batch is to be rolled back.
type MovedError struct {
	From, To      *change.Table
	Deleted, Came int64
	Copied        bool
}

func (e *MovedError) Error() string {
	if e.Copied {
		return fmt.Sprintf("%d rows were read in %s, but %d came into %s: a trigger interferes with the batch", e.Deleted, e.From, e.Came, e.To)
	}
	return fmt.Sprintf("%d rows were taken out of %s, but %d came into %s: a trigger interferes with the batch", e.Deleted, e.From, e.Came, e.To)
}

// Came holds the rows that a batch deleted, or read to copy them, against those that came into the other table.
func Came(c *change.Change, deleted, came int64) error {
	if deleted != came {
		return &MovedError{c.Table, c.Into.Table, deleted, came, c.Into.Copied}
	}
	return nil
}
