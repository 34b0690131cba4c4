package kind

import (
	"regexp"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/list"
)

// scaled is a type of numbers with how many digits it has, and how many of these stand after
// the point; fractions is one of times with how many its seconds have.
var (
	scaled    = regexp.MustCompile(`^(?:numeric|decimal|dec|double|float)\(\s*[0-9]+\s*(?:,\s*([0-9]+)\s*)?\)`)
	fractions = regexp.MustCompile(`^(?:timestamp|datetime|time)\((\d)\)`)
)

// wholeTypes are types of whole numbers, as servers call them.
var wholeTypes = regexp.MustCompile(`^(?:big|small|tiny|medium)?int(?:eger)?\b|^(?:big|small)?serial\b`)

// Typed tells how values of a column are written. Dates come first: a dialect without types
// for them takes them for numbers.
func Typed(d change.Dialect, c *change.Column) list.Type {
	name, loose := strings.ToLower(c.Type), d.Forms().Digits > 0
	moment := strings.HasPrefix(name, "timestamp") || strings.HasPrefix(name, "datetime")
	switch {
	case moment || strings.HasPrefix(name, "time"):
		t := list.Type{Kind: list.Time, Scale: d.Forms().Seconds, Strict: !loose}
		if moment { // MariaDB's timestamp has a zone, but a text for it has none
			t.Kind, t.Strict = list.Timestamp, !loose && !strings.Contains(name, "with time zone")
		}
		if m := fractions.FindStringSubmatch(name); m != nil && !loose {
			t.Scale, _ = strconv.Atoi(m[1])
		}
		return t
	case name == "date":
		return list.Type{Kind: list.Date, Strict: !loose}
	case name == "year" || strings.HasPrefix(name, "year("):
		return list.Type{Kind: list.Number, Scale: 0}
	case strings.HasPrefix(name, "enum(") || strings.HasPrefix(name, "set("):
		return list.Type{Kind: list.Word}
	case c.Class == change.Text && !loose:
		return list.Type{Length: c.Length}
	case c.Class != change.Number || strings.Contains(name, "time") || strings.Contains(name, "date") || name == "money":
		return list.Type{}
	}
	t := list.Type{Kind: list.Number, Scale: list.Unlimited, Digits: d.Forms().Digits}
	if strings.Contains(name, "real") || strings.Contains(name, "floa") || strings.Contains(name, "doub") {
		t.Digits = 0 // the nearest there is
	}
	if wholeTypes.MatchString(name) {
		t.Scale = 0
	} else if m := scaled.FindStringSubmatch(name); m != nil {
		if t.Scale, _ = strconv.Atoi(m[1]); m[1] == "" && strings.HasPrefix(name, "float") {
			t.Scale = list.Unlimited // the number of its bits
		}
	}
	return t
}

// IsBits reports whether a column holds bits that a text of digits would be taken for the
// characters of.
func IsBits(d change.Dialect, c *change.Column) bool {
	return strings.HasPrefix(strings.ToLower(c.Type), "bit(") && d.Forms().TextAsBits
}

// HoldsBytes reports whether a column holds bytes rather than text.
func HoldsBytes(c *change.Column) bool {
	return c.Binary || c.Holds == change.Bytes || strings.EqualFold(c.Type, "BLOB")
}
