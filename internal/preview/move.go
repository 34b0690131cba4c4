package preview

import "jugatum/internal/change"

// Move is where the rows of a step go.
type Move struct {
	To        string   `json:"to"`
	Made      bool     `json:"made"` // the table is not there yet: the run makes it
	Rows      int64    `json:"rows"` // that it has
	Estimated bool     `json:"rows_estimated"`
	Lost      []string `json:"columns_lost"` // that it has not
	Own       []string `json:"columns_own"`  // that only it has
}

func moved(c *change.Change) *Move {
	x := c.Into
	if x == nil {
		return nil
	}
	return &Move{x.Table.String(), x.Make, x.Table.Rows, x.Table.Estimated, append([]string{}, x.Lost...), append([]string{}, x.Own...)}
}
