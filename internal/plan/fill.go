package plan

import (
	"context"

	"jugatum/internal/kind/fill"
	"jugatum/internal/preview"
)

// shownAfter is how many values and rows are listed of each step after a run.
const shownAfter = 6

// Filled tells of the steps that fill columns what they find now in their sources,
// and where it is asked for which constraints hold and could be declared.
func (p *Plan) Filled(ctx context.Context) (out []*preview.Fill, err error) {
	for _, c := range p.Foremost() {
		if c.Lookup == nil || c.Lookup.Missing || c.Lines != nil {
			continue
		}
		if err := p.words(ctx, c); err != nil {
			return nil, err
		}
		f, err := preview.Filled(ctx, p.DB, c, shownAfter)
		if err != nil {
			return nil, err
		}
		if p.Job.Steps[c.Of].Kind.(*fill.Step).Advise {
			if err := f.Advise(ctx, p.DB, c); err != nil {
				return nil, err
			}
		}
		out = append(out, f)
	}
	return out, nil
}
