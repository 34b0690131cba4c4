package preview

import (
	"context"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
)

// hazards asks the database what the text of the change alone cannot tell.
func (p *Step) hazards(ctx context.Context, db engine.DB, c *change.Change) error {
	for _, q := range hazard.Questions(c, p.Method, p.Changes, true) {
		n := q.Rows
		if q.From != nil {
			err := db.JobPool().QueryRowContext(ctx, "SELECT count(*)"+q.From.String(), q.From.Args...).Scan(&n)
			if err != nil && !(q.Apart && db.Fault(err) == engine.Data) {
				return err
			}
		}
		p.found(q.Finding(n))
	}
	p.unrepeated(c)
	return nil
}

// unrepeated drops what is worth knowing of a later turn of a list: it was told of the first.
func (p *Step) unrepeated(c *change.Change) {
	if c.LaterTurn() {
		p.Hazards = slices.DeleteFunc(p.Hazards, func(f hazard.Finding) bool { return f.Level == hazard.Note })
	}
}

// Refusals finds what a run is refused for as far as the catalogue and a look for
// a first row tell: what is asked also where nothing is counted. keep is whether old
// and new values are kept.
func Refusals(ctx context.Context, db engine.DB, c *change.Change, method string, keep bool) ([]hazard.Finding, error) {
	p := &Step{Hazards: hazard.Text(c, method)}
	if err := p.hindrances(ctx, db, c, method, keep); err != nil {
		return nil, err
	}
	p.unrepeated(c)
	return p.Hazards, nil
}

// Hindrances finds what of that only the rows tell, which may be others by now.
func Hindrances(ctx context.Context, db engine.DB, c *change.Change, method string, keep bool) ([]hazard.Finding, error) {
	p := &Step{}
	err := p.hindrances(ctx, db, c, method, keep)
	return p.Hazards, err
}

func (p *Step) hindrances(ctx context.Context, db engine.DB, c *change.Change, method string, keep bool) error {
	for _, q := range hazard.Questions(c, method, -1, keep) {
		first := " LIMIT 1"
		if q.Whole {
			first = ""
		}
		var n int64
		if err := db.JobPool().QueryRowContext(ctx, "SELECT count(*) FROM (SELECT 1"+q.From.String()+first+") AS jugatum_e", q.From.Args...).Scan(&n); err != nil {
			return err
		}
		p.found(q.Finding(-n)) // some, nobody has counted how many
	}
	return nil
}
