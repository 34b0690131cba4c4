package verify

import (
	"context"

	"jugatum/internal/change"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Called is what is known of a step that called a statement for each line of a list: what it did
// is not kept, so that only the lines can be accounted for.
type Called struct {
	Lines   int64 `json:"lines"`   // of the list
	Called  int64 `json:"called"`  // for which the statement was carried out, by what is written of each
	Refused int64 `json:"refused"` // which were set aside
	Holds   bool  `json:"holds"`
}

// called holds the lines of a list against the batches' own counts.
func (s *Step) called(ctx context.Context, l *ledger.Ledger, w *runner.Work) error {
	counts, err := l.Called(ctx, w.Change.Lines.List)
	if err != nil {
		return err
	}
	t := w.Step.Totals
	x := &Called{Lines: w.Change.Lines.Lines, Called: counts[change.Called], Refused: t.SetAside}
	x.Holds = w.Step.Status != ledger.Done || x.Called == t.Changed && x.Called+x.Refused == x.Lines
	s.Called = x
	return nil
}
