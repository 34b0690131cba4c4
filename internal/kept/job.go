package kept

import (
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// File is the list of a part.
type File struct {
	*Part
	Name string // of the file; "" if there is none, since no row was kept
	Null string // in a .csv file
}

// jobStep is a step of the job that puts rows back.
type jobStep struct {
	Name    string            `toml:"name"`
	Table   string            `toml:"table"`
	Changes string            `toml:"changes"`
	Key     []string          `toml:"key"`
	Action  string            `toml:"action"`
	Columns map[string]string `toml:"columns,omitempty"`
	Null    string            `toml:"null,omitempty"`
	Guarded bool              `toml:"guarded,omitempty"`
}

// Job is the text of a job that puts the old values of the lists back, in their order. title is that of
// the run.
func Job(d change.Dialect, run int64, title, database string, files []File) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "# Old values that run %d in %s has kept, as lists. `preview` tells which rows differ from them now.\n", run, oneLine(database))
	head, err := toml.Marshal(struct {
		Title string `toml:"title"`
	}{fmt.Sprintf("Old values of run %d: %s", run, oneLine(title))})
	if err != nil {
		return "", err
	}
	b.Write(head)
	for i, f := range files {
		if f.Name == "" { // there was nothing to write
			continue
		}
		if why := f.Lost(); why != "" {
			fmt.Fprintf(&b, "\n# %s is not put back: %s.\n", oneLine(f.Name), oneLine(why))
			continue
		}
		for n, s := range f.steps(d) {
			s.Name = fmt.Sprintf("%d: %s", i+1, f.Step)
			if n > 0 {
				s.Name += ", from the other table"
			}
			text, err := toml.Marshal(struct {
				Step []jobStep `toml:"step"`
			}{[]jobStep{s}})
			if err != nil {
				return "", err
			}
			b.WriteString("\n" + string(text))
		}
	}
	return b.String(), nil
}

// steps are those that put a part back.
func (f File) steps(d change.Dialect) []jobStep {
	base := jobStep{Changes: f.Name, Columns: map[string]string{}}
	if strings.HasSuffix(strings.ToLower(f.Name), ".csv") {
		base.Null, base.Guarded = f.Null, true
	}
	in := func(t *change.Table, action string, keysAlone bool) jobStep {
		s := base
		s.Table, s.Action, s.Columns = t.NameSQL(d), action, map[string]string{}
		for _, c := range f.columns() {
			switch {
			case c.of == "" || keysAlone && !c.key:
				s.Columns[c.name] = "" // to be looked at
			case c.name != c.of:
				s.Columns[c.name] = c.of
			}
			if c.key {
				s.Key = append(s.Key, c.of)
			}
		}
		return s
	}
	switch {
	case f.c.Verb == sqltext.Insert:
		return []jobStep{in(f.c.Into.Table, "delete", true)}
	case f.c.Verb == sqltext.Delete && f.c.Into != nil:
		return []jobStep{in(f.c.Table, "insert", false), in(f.c.Into.Table, "delete", true)}
	case f.c.Verb == sqltext.Delete:
		return []jobStep{in(f.c.Table, "insert", false)}
	}
	return []jobStep{in(f.c.Table, "update", false)}
}

// oneLine is a text that stays within a comment.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}
