package job

import (
	"embed"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"unicode"

	"jugatum/internal/change"
)

// A job that begins well: for each kind of step a commented file, filled in for a table.

//go:embed begin/*.toml
var begun embed.FS

var begin = template.Must(template.New("").Funcs(template.FuncMap{"q": strconv.Quote, "list": quotedList}).ParseFS(begun, "begin/*.toml"))

// Beginnings are the kinds of step for which there is a file to begin with, in the order in which they are told.
var Beginnings = []string{"update", "sql", "delete", "first", "replace", "shape", "fill", "merge", "move", "copy", "list", "each"}

// outline is what a file is filled in with.
type outline struct {
	Table   string
	SQL     string // the table as SQL
	Beside  string // what a table beside it is called after
	Archive string // such a table, for rows that are moved, and Copy for those that are copied
	Copy    string
	Known   bool     // the table was looked at
	Key     []string // its key; a made-up one if that is not known
	KeyType string
	Column  string   // one that can be assigned
	Expr    string   // of that column, as SQL
	Number  string   // a column of numbers, "" if there is none
	Text    string   // a column of texts
	Texts   []string // columns of texts, with the table's name, as they are
	Rest    []string // the columns that are no key, with their types
	Names   []string // likewise, without
}

// Begin writes a job of a kind for a table, which may be nil: then it has made-up names.
func Begin(kind string, t *change.Table, d change.Dialect) (string, error) {
	if !slices.Contains(Beginnings, kind) {
		near := change.Nearest(kind, Beginnings)
		if near != "" {
			near = fmt.Sprintf("; did you mean %q?", near)
		}
		return "", fmt.Errorf("there is no kind %q: %s%s", kind, strings.Join(Beginnings, ", "), near)
	}
	o := outline{Table: "my_table", SQL: "my_table", Beside: "my_table", Archive: "my_table_archive", Copy: "my_table_copy", Key: []string{"id"}, KeyType: "integer", Column: "my_column", Expr: "my_column", Number: "my_number", Text: "my_text", Texts: []string{"my_table.my_text"}, Rest: []string{"my_column text", "my_number numeric"}, Names: []string{"my_column", "my_number"}}
	if t != nil {
		if t.Refused != "" {
			return "", fmt.Errorf("%s: %s", t, t.Refused)
		}
		if name := strange(t); name != "" {
			return "", fmt.Errorf("the name %q is not put into a file to begin with: write the job by hand", name)
		}
		o = outlineOf(t, d)
		if o.Column == "" {
			return "", fmt.Errorf("%s has no column beside its key that could be changed", t)
		}
		if (kind == "replace" || kind == "shape") && len(o.Texts) == 0 {
			return "", fmt.Errorf("%s has no column of texts, in which there is anything to do", t)
		}
	}
	var b strings.Builder
	err := begin.ExecuteTemplate(&b, kind+".toml", o)
	return b.String(), err
}

// strange gives a name of the table's that could end the text, or the comment, in which it would stand.
func strange(t *change.Table) string {
	names := []string{t.Schema, t.Name}
	for _, c := range t.Columns {
		names = append(names, c.Name, c.Type)
	}
	for _, n := range names {
		if strings.ContainsFunc(n, func(r rune) bool {
			return !unicode.IsPrint(r) || r == '"' || r == '\\' || r == '\'' && strings.Contains(n, "'''")
		}) {
			return n
		}
	}
	return ""
}

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

func outlineOf(t *change.Table, d change.Dialect) outline {
	written := func(name string) string { // as a name is written in a job: unusual ones in the quotes of SQL
		if plainName.MatchString(name) {
			return name
		}
		return d.Quote(name)
	}
	o := outline{Table: written(t.Name), SQL: t.NameSQL(d), Known: true, Beside: t.Name, Archive: written(t.Name + "_archive"), Copy: written(t.Name + "_copy")}
	if t.String() != t.Name {
		schema := written(t.Schema) + "."
		o.Table, o.Archive, o.Copy = schema+o.Table, schema+o.Archive, schema+o.Copy
	}
	var keys []*change.Column
	if t.Key != nil && !t.Key.Hidden {
		keys = t.Key.Columns
	}
	for _, c := range keys {
		o.Key = append(o.Key, written(c.Name))
		o.KeyType = c.Type
	}
	for _, c := range t.Stored() {
		if slices.Contains(keys, c) || c.Identity {
			continue
		}
		o.Rest, o.Names = append(o.Rest, c.Name+" "+c.Type), append(o.Names, c.Name)
		if o.Column == "" || c.Class == change.Text && len(o.Texts) == 0 {
			o.Column, o.Expr = written(c.Name), d.Quote(c.Name)
		}
		if c.Class == change.Text {
			if o.Text == "" {
				o.Text = c.Name
			}
			o.Texts = append(o.Texts, t.String()+"."+c.Name)
		}
		if c.Class == change.Number && o.Number == "" {
			o.Number = d.Quote(c.Name)
		}
	}
	return o
}

func quotedList(names []string) string {
	var out []string
	for _, n := range names {
		out = append(out, strconv.Quote(n))
	}
	return strings.Join(out, ", ")
}
