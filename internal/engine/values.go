package engine

import (
	"context"

	"jugatum/internal/change"
)

// How values are kept, read back and computed.

// KeptReader is met by engines that want to be told before kept values are read back.
type KeptReader interface {
	PrepareKept(ctx context.Context, kept *change.Kept) error
}

// Packer is met by engines where the kept values of many rows go into one row of
// a table, since a row of a table for each would cost as much as its change.
type Packer interface {
	// Packs reports whether these columns can be kept so. KeptTable then makes
	// kept.Packed, and kept.Table as a view of it.
	Packs(kept *change.Kept) bool
}

// Unpacker is met by engines where kept values that are packed are read in many
// steps best if they are unpacked first.
type Unpacker interface {
	// Unpack puts the kept rows after from, up to to, where Unpacked finds them, for
	// this session. It is called outside of any transaction.
	Unpack(ctx context.Context, s *Session, kept *change.Kept, from, to int64) error

	// Unpacked gives the layout of those rows; kept itself if they are not unpacked.
	Unpacked(s *Session, kept *change.Kept, from, to int64) *change.Kept
}

// SourceStager is met by engines on which a table that values are looked up in is
// best read once, into one of ours: there a batch need not lock its rows.
type SourceStager interface{ StagesSources() bool }

// Skimmer is met by engines that can go through the rows of a large query
// quicker than database/sql.
type Skimmer interface {
	// Skim calls each with the texts of every row, nil for NULL, which are there
	// during the call only. An error of each ends it.
	Skim(ctx context.Context, q *change.Query, each func(values [][]byte) error) error
}
