package plan

import (
	"context"
	"fmt"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Record makes the ledger if need be, and the run in it.
func (p *Plan) Record(ctx context.Context, l *ledger.Ledger, r *ledger.Run) ([]*runner.Work, error) {
	s, err := p.DB.Session(ctx, engine.SessionOptions{Purpose: "jugatum", LockTimeout: 5 * time.Second})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := l.Ensure(ctx, s); err != nil {
		return nil, fmt.Errorf("the ledger cannot be made in %s: %w; nothing was changed", p.DB.Name(), err)
	}
	if x, ok := p.DB.(engine.Witness); ok {
		if r.Options.Moment, err = moment(ctx, x, s); err != nil {
			return nil, fmt.Errorf("the run cannot be recorded in %s: %w; nothing was changed", p.DB.Name(), err)
		}
	}
	kept := make([]ledger.Layouts, len(p.Changes))
	for i, ch := range p.Changes {
		if !r.Options.Keep || ch.Call != nil || r.Steps[i].KeptTable != "" { // an undo has those of its run
			continue
		}
		kept[i].Own = change.NewKept("", ch)
		for _, a := range ch.Acts {
			kept[i].Acts = append(kept[i].Acts, change.NewKept("", a.Change))
		}
	}
	if err := l.Create(ctx, s, r, kept); err != nil {
		return nil, fmt.Errorf("the run cannot be recorded in the ledger: %w; nothing was changed", err)
	}
	p.recordedLists = true
	return p.Work(ctx, l, r)
}

// moment names the present, as the database counts.
func moment(ctx context.Context, x engine.Witness, s *engine.Session) (string, error) {
	tx, err := s.Start(ctx)
	if err != nil {
		return "", err
	}
	defer tx.Rollback()
	return x.Moment(ctx, tx)
}
