package plan

import "fmt"

// Endless says why a job could be carried out again and again without coming to an end: rows that it has
// changed would be changed once more. "" if nothing speaks for that.
func (p *Plan) Endless() string {
	for _, c := range p.Changes {
		if why := c.Recurs(); why != "" {
			return fmt.Sprintf("step %q: %s", c.Step, why)
		}
	}
	return ""
}
