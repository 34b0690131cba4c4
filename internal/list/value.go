package list

import (
	"fmt"
	"regexp"
	"strings"
	"time"
)

// Type says how the values of a column are written in SQL.
type Type struct {
	Kind  Kind
	Scale int // of a Number: digits after the point that it can have; -1 without a limit
}

// Kind is a kind of values.
type Kind int

const (
	Text      Kind = iota // anything: the database reads it
	Number                // digits, a point, an exponent
	Date                  // 2006-01-02
	Timestamp             // 2006-01-02 15:04:05
)

// Unlimited is the scale of a number that can have any digits after the point.
const Unlimited = -1

var number = regexp.MustCompile(`^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?$`)

// Value is a value as SQL writes it. The error says what was expected.
func (f Format) Value(t Type, text string) (string, error) {
	switch t.Kind {
	case Number:
		return f.number(t, text)
	case Date:
		return moment(text, f.Date, "2006-01-02", "a date")
	case Timestamp:
		if f.Timestamp == "" && f.Date != "" { // a day alone, at its beginning
			return moment(text, f.Date, "2006-01-02", "a date")
		}
		return moment(text, f.Timestamp, "2006-01-02 15:04:05.999999999", "a date and time")
	}
	return text, nil
}

func (f Format) number(t Type, text string) (string, error) {
	switch text { // as some programs write what others have as numbers
	case "true":
		return "1", nil
	case "false":
		return "0", nil
	}
	plain := text
	if f.Decimal != 0 && f.Decimal != '.' {
		if strings.ContainsRune(text, '.') {
			return "", fmt.Errorf("%s is not a number with a decimal %q", shown(text), f.Decimal)
		}
		plain = strings.Replace(text, string(f.Decimal), ".", 1)
	}
	if !number.MatchString(plain) {
		return "", fmt.Errorf("%s is not a number%s", shown(text), f.example(text))
	}
	mantissa, exponent, _ := strings.Cut(strings.ToLower(plain), "e")
	_, fraction, _ := strings.Cut(mantissa, ".")
	if t.Scale == Unlimited || exponent != "" { // which the database reads
		return plain, nil
	}
	if digits := strings.TrimRight(fraction, "0"); len(digits) > t.Scale {
		if t.Scale == 0 {
			return "", fmt.Errorf("%s is not a whole number", shown(text))
		}
		return "", fmt.Errorf("%s has more than %d digits after the point, and would be rounded", shown(text), t.Scale)
	}
	if t.Scale == 0 {
		plain, _, _ = strings.Cut(plain, ".")
	}
	return plain, nil
}

// example says what may have been meant where a number is none.
func (f Format) example(text string) string {
	switch {
	case text == "":
		return `; null = "" takes an empty field for NULL`
	case strings.ContainsRune(text, ',') && f.Decimal == 0:
		return `; decimal = "," if that is how fractions are written`
	}
	return ""
}

// moment brings a date from the form in which it is written to that of SQL.
func moment(text, layout, to, what string) (string, error) {
	if layout == "" {
		return text, nil
	}
	t, err := time.Parse(layout, text)
	if err != nil {
		return "", fmt.Errorf("%s is not %s such as %s", shown(text), what, time.Date(2026, 11, 28, 16, 5, 9, 0, time.UTC).Format(layout))
	}
	return t.Format(to), nil
}

// shown is a value for a message, cut short where it is long.
func shown(text string) string {
	const most = 60
	if r := []rune(text); len(r) > most {
		text = string(r[:most]) + "…"
	}
	return fmt.Sprintf("%q", text)
}

// Dated reports whether a layout tells day, month and year apart.
func Dated(layout string) bool {
	a := time.Date(2031, 10, 28, 0, 0, 0, 0, time.UTC)
	t, err := time.Parse(layout, a.Format(layout))
	return err == nil && t.Year() == a.Year() && t.Month() == a.Month() && t.Day() == a.Day()
}
