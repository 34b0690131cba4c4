package list

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"jugatum/internal/shape"
)

// Keys are the keys in a job file that say how a list is written.
type Keys struct {
	Header    []string `toml:"header"`
	Separator *string  `toml:"separator"`
	Null      *string  `toml:"null"`
	Encoding  *string  `toml:"encoding"`
	Date      *string  `toml:"date"`
	Timestamp *string  `toml:"timestamp"`
	Decimal   *string  `toml:"decimal"`
	Guarded   *bool    `toml:"guarded"`

	// Shape is what is done to the texts of some columns: a key of other steps as well, and handed over.
	Shape map[string]any `toml:"-"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool {
	return k.Header != nil || k.Separator != nil || k.Null != nil || k.Encoding != nil || k.Date != nil || k.Timestamp != nil || k.Decimal != nil || k.Guarded != nil
}

// Read makes the format of its keys. field is the key where a fault is.
func (k Keys) Read() (f Format, field string, err error) {
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	f = Format{Header: k.Header, Null: k.Null, Encoding: text(k.Encoding), Date: text(k.Date), Timestamp: text(k.Timestamp)}
	f.Guarded = k.Guarded != nil && *k.Guarded
	if f.Separator, err = one("separator", k.Separator); err != nil {
		return f, "separator", err
	}
	if f.Decimal, err = one("decimal", k.Decimal); err != nil {
		return f, "decimal", err
	}
	if f.Decimal != 0 && f.Decimal != '.' && f.Decimal != ',' {
		return f, "decimal", fmt.Errorf("decimal: %q is not . or ,", *k.Decimal)
	}
	for _, x := range []struct{ name, layout string }{{"date", f.Date}, {"timestamp", f.Timestamp}} {
		if x.layout != "" && !Dated(x.layout) {
			return f, x.name, fmt.Errorf("%s: %q does not say how a date is written; write 2 January 2006 so: \"02.01.2006\"", x.name, x.layout)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(k.Shape)) {
		s := Shaped{Column: name}
		if s.Chain, err = shape.Specs(k.Shape[name]); err != nil {
			return f, "shape." + name, fmt.Errorf("shape.%s: %w", name, err)
		}
		f.Shape = append(f.Shape, s)
	}
	return f, "", nil
}

// one reads a single character.
func one(name string, text *string) (rune, error) {
	if text == nil {
		return 0, nil
	}
	r, size := utf8.DecodeRuneInString(*text)
	if size == 0 || size != len(*text) {
		return 0, fmt.Errorf("%s: expected one character, not %q", name, *text)
	}
	return r, nil
}

// Source is where the lines of a list come from: a file, or a query that is asked once.
type Source struct {
	File string // its path; Stdin for the standard input
	SQL  string
}

// ReadSource reads the key of a job file that says so: a path, or { sql = "…" }.
func ReadSource(key string, v any) (Source, error) {
	switch v := v.(type) {
	case string:
		if strings.TrimSpace(v) == "" {
			return Source{}, fmt.Errorf("%s is empty; it names a file, or is - for the standard input", key)
		}
		return Source{File: v}, nil
	case map[string]any:
		text, ok := v["sql"].(string)
		if !ok || len(v) != 1 {
			break
		}
		if strings.TrimSpace(text) == "" {
			return Source{}, fmt.Errorf("%s: sql is empty", key)
		}
		return Source{SQL: text}, nil
	}
	return Source{}, errors.New(key + `: expected a file's name, or { sql = "SELECT …" }`)
}

// Name is what messages call it.
func (s Source) Name() string {
	if s.SQL != "" {
		return "the query"
	}
	return s.File
}
