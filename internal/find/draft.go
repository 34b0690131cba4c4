package find

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/rewrite"
	"jugatum/internal/term"
)

// Draft is a job that replaces what was found, a step a table. Its text is that of
// a job file.
type Draft struct {
	Steps []DraftStep
	Left  []string // what no job can change, and why

	text, becomes, database string
}

// DraftStep is one of its steps. What it expects is known once it was previewed.
type DraftStep struct {
	Table   string
	Counted bool
	Expect  int64 // rows that change
	Damaged int64 // rows with values that look structured and are not valid

	columns []string
}

// NewDraft makes the draft of a job that replaces a text that was found.
func NewDraft(ctx context.Context, db engine.DB, r *Result, becomes string) (*Draft, error) {
	tables, err := db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	d := &Draft{text: r.Text, becomes: becomes, database: r.Database}
	for _, t := range tables {
		step := DraftStep{Table: t.String()}
		for _, c := range r.Columns {
			if c.Table != t.Name || c.Schema != t.Schema || c.Exact == 0 {
				continue
			}
			name := t.String() + "." + c.Column
			switch col, why := t.Named(c.Column), Unchangeable(t, rewrite.Rules{}); {
			case c.Parts:
				d.leave(name, "an array or an enumeration", c.Exact)
			case c.Bytes:
				d.leave(name, "bytes", c.Exact)
			case why != "":
				d.leave(name, why, c.Exact)
			case col.Generated:
				d.leave(name, "computed by the database", c.Exact)
			case t.Key != nil && slices.Contains(t.Key.Columns, col):
				d.leave(name, "a part of the key, by which batches find their way", c.Exact)
			default:
				step.columns = append(step.columns, name)
			}
		}
		if len(step.columns) > 0 {
			d.Steps = append(d.Steps, step)
		}
	}
	return d, nil
}

func (d *Draft) leave(column, why string, hits int64) {
	d.Left = append(d.Left, fmt.Sprintf("%s, %s found there: %s", column, term.Count(hits), why))
}

// String is the job file.
func (d *Draft) String() string {
	quote := func(s string) string {
		b, err := toml.Marshal(map[string]string{"k": s})
		if err != nil {
			return fmt.Sprintf("%q", s)
		}
		return strings.TrimSpace(strings.TrimPrefix(string(b), "k = "))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Found on %s in %s.\ntitle = %s\n", time.Now().Format("2006-01-02 15:04"), term.Clean(d.database), quote("Replace "+d.text))
	for _, x := range d.Left {
		fmt.Fprintf(&b, "# Left out: %s\n", term.Clean(x))
	}
	for _, s := range d.Steps {
		b.WriteString("\n[[step]]\n")
		if s.Damaged > 0 {
			fmt.Fprintf(&b, "# %d rows hold values that look structured and are damaged: --set-aside %d, or damaged = \"plain\"\n", s.Damaged, s.Damaged)
		}
		var in []string
		for _, c := range s.columns {
			in = append(in, quote(c))
		}
		fmt.Fprintf(&b, "name = %s\nin = [%s]\nreplace = { find = %s, with = %s }\n", quote(s.Table), strings.Join(in, ", "), quote(d.text), quote(d.becomes))
		if s.Counted {
			fmt.Fprintf(&b, "expect = %d\n", s.Expect)
		}
	}
	return b.String()
}

// Unchangeable says why a table's texts cannot be replaced, "" if they can.
func Unchangeable(t *change.Table, rules rewrite.Rules) string {
	switch {
	case t.Refused != "":
		return t.Refused
	case t.Key == nil && !rules.Flat:
		return fmt.Sprintf("%s has no key by which its rows could be changed one by one", t)
	}
	return ""
}
