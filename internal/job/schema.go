package job

import (
	"encoding/json"
	"reflect"
	"strings"
)

// told says of each key of a job file what it is for, by its path.
var told = map[string]string{
	"title":              "What the job changes, in a few words; it stands in the record of its runs",
	"reason":             "Why, or the number of the request",
	"param":              "Parameters, whose values are given with each run; in SQL :name",
	"param.*.type":       "Of its values",
	"param.*.ask":        "The question at a terminal",
	"limits":             "How much others may notice of a run; the command line overrides these",
	"limits.hold":        "Longest time a batch may hold its locks, such as 200ms",
	"limits.batch":       "A fixed number of rows for every batch",
	"limits.workers":     "How many sessions change rows at the same time",
	"limits.replicas":    "URLs of replicas, or of nodes of a cluster, that lag minds (MariaDB)",
	"limits.waiters":     "Ease off while more other sessions than this wait on us",
	"limits.lag":         "Write no faster than keeps every replica within this, such as 5s",
	"limits.log_rate":    "Most log to write, such as 20MB/s",
	"limits.window":      "Begin batches only at this time of day, such as 22:00-05:30",
	"keep":               "What older runs have kept is dropped when a run of this job is done",
	"keep.days":          "After so many days",
	"keep.bytes":         "The oldest first, while all of it takes more, such as 5GB",
	"step":               "The changes, in their order",
	"step.name":          "What the step is called in messages and in the record",
	"step.sql":           "One UPDATE or DELETE",
	"step.table":         "The table that is changed",
	"step.where":         "Which rows, as an SQL condition",
	"step.let":           "Named values: SQL expressions, for where and set; or transforms of a column's texts, for shape",
	"step.set":           "Column = an SQL expression over the row as it was",
	"step.put":           "Column = a value as it is",
	"step.delete":        "The rows go",
	"step.order":         "Of the rows of which the first are meant, as in ORDER BY; for a list, any or file",
	"step.skip":          "So many of the first rows are passed by",
	"step.first":         "So many rows are meant",
	"step.once":          "A column that tells rows that are done: NULL before, assigned with the change",
	"step.in":            "Columns in which a text is replaced: table.column, with * for any",
	"step.except":        "Columns that are left out of those",
	"step.replace":       "A text that is replaced wherever it stands",
	"step.replace.find":  "The text that is looked for",
	"step.replace.with":  "The text that takes its place",
	"step.replace.pairs": "Several texts, each with what takes its place",

	"step.replace.pattern":     "An RE2 pattern in the place of a text",
	"step.replace.growth":      "How many times as long as before a value may become",
	"step.replace.case":        "How upper and lower case count, and what becomes of them",
	"step.replace.whole_words": "Occurrences within longer words stay",
	"step.replace.forms":       "The forms in which the text is looked for",
	"step.replace.keys":        "Keys of structured values are replaced as well",
	"step.replace.structured":  "Values are taken apart where they look structured",
	"step.replace.damaged":     "What becomes of values that look structured and are not valid",

	"step.shape":     "Column = a transform of its texts, or several from left to right",
	"step.from":      "The table, or a query in brackets, that columns are filled from",
	"step.match":     "Column = column of the source; or an SQL condition",
	"step.fill":      "Column = an SQL expression over the source",
	"step.match_as":  "How texts are matched",
	"step.unmatched": "What becomes of rows without a match",
	"step.pick":      "The order by which the first of several source rows is taken",
	"step.advise":    "After the run it is told what could be declared now",
	"step.merge":     "Rows that are the same in these columns become one",
	"step.same_as":   "When texts are the same there",
	"step.nulls":     "Whether NULL is the same as NULL there",
	"step.stays":     "An order as in ORDER BY: the first row of a group stays",
	"step.blanks":    "Whether what is missing in it is taken from those that go",
	"step.also":      "References to the rows that are not declared: table.column",
	"step.twice":     "What becomes of references that would stand twice under a unique key",
	"step.move_to":   "The table that rows go to",
	"step.copy_to":   "The table that rows are copied to",
	"step.present":   "What becomes of rows, or lines, whose key is there already",
	"step.changes":   "A file whose lines change the rows with their keys; or { sql = a query }",
	"step.key":       "The columns by which lines find their rows",
	"step.action":    "What the lines do; or { column = the file's column that says so }",
	"step.columns":   "Name in the file = column; = \"\" leaves one out",
	"step.absent":    "What becomes of lines without a row",
	"step.each":      "A file, or { sql = a query }, for each of whose lines a statement is called",
	"step.call":      "That statement; its parameters are the line's columns",
	"step.types":     "Types of these columns",
	"step.header":    "The file's columns, where its first line does not name them",
	"step.separator": "What stands between the values of a line",
	"step.null":      "The text that stands for NULL",
	"step.encoding":  "Of the file, by its name",
	"step.date":      "How dates are written, by 2 January 2006",
	"step.timestamp": "How timestamps are written, by 2 January 2006, 15:04:05",
	"step.decimal":   "What stands before decimals",
	"step.guarded":   "An apostrophe before what a spreadsheet would run is taken off",
	"include":        "Names of jobs in the same folder, whose steps come first",
	"step.late":      "What becomes of rows that come to match while the step is at work",
	"step.method":    "How the step is carried out; left out, the cheaper of sweep and roster",
	"step.expect":    "How many rows should change: a number, or least..most as a text",
	"step.check":     "What must hold before or after the step",

	"step.check.sql":  "A query that gives one value",
	"step.check.is":   "That value",
	"step.check.when": "When it is asked",
}

// words are the values that some keys have.
var words = map[string][]string{
	"param.*.type":         {"text", "integer", "decimal", "boolean", "date", "timestamp"},
	"step.late":            {"again"},
	"step.method":          {"sweep", "roster", "single"},
	"step.match_as":        {"trimmed", "folded"},
	"step.same_as":         {"exact", "trimmed", "folded"},
	"step.nulls":           {"apart", "equal"},
	"step.blanks":          {"leave", "fill"},
	"step.twice":           {"refuse", "merge"},
	"step.unmatched":       {"leave", "null", "fail"},
	"step.check.when":      {"before", "after", "both"},
	"step.replace.damaged": {"plain"},
}

// several are the types of values that may be of one or another.
var several = map[string][]string{
	"step.let.*": {"string", "array", "object"},
}

// Schema describes job files for editors: JSON Schema, draft 2020-12.
func Schema() ([]byte, error) {
	s := schemaOf("", reflect.TypeFor[file]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "A job of Jugatum"
	s["required"] = []string{"step"}
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

func schemaOf(path string, t reflect.Type) map[string]any {
	s := map[string]any{}
	if d := told[path]; d != "" {
		s["description"] = d
	}
	if w := words[path]; w != nil {
		s["enum"] = w
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if of := several[path]; of != nil {
		s["type"] = of
		return s
	}
	switch t.Kind() {
	case reflect.String:
		s["type"] = "string"
	case reflect.Bool:
		s["type"] = "boolean"
	case reflect.Int, reflect.Int64:
		s["type"] = "integer"
	case reflect.Slice:
		s["type"] = "array"
		items := schemaOf(path, t.Elem())
		delete(items, "description")
		s["items"] = items
	case reflect.Map:
		s["type"] = "object"
		s["additionalProperties"] = schemaOf(path+".*", t.Elem())
	case reflect.Struct:
		s["type"] = "object"
		s["additionalProperties"] = false
		properties := map[string]any{}
		keysOf(t, func(name string, of reflect.Type) {
			properties[name] = schemaOf(strings.TrimPrefix(path+"."+name, "."), of)
		})
		s["properties"] = properties
	}
	return s
}

// keysOf tells of the keys of a table of the file, those of the kinds of steps among them: two of
// them may have fields of one name, of which one is no key.
func keysOf(t reflect.Type, do func(name string, of reflect.Type)) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			keysOf(f.Type, do)
			continue
		}
		if name := f.Tag.Get("toml"); name != "" && name != "-" {
			do(name, f.Type)
		}
	}
}
