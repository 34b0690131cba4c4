package sqlite

import "jugatum/internal/engine"

// What this engine meets of the seam; docs/architecture.md has the table of all.
var (
	_ engine.DB      = (*DB)(nil)
	_ engine.Yielder = (*DB)(nil)
	_ engine.Marker  = (*DB)(nil)
)
