package list

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Type says how the values of a column are written in SQL, and how much of one it holds: what
// would not stay as it is, is refused, also where the database itself would round it or cut
// it without a word.
type Type struct {
	Kind   Kind
	Scale  int  // digits after the point that a Number can have, or the seconds of a Timestamp or a Time; Unlimited
	Digits int  // that a Number keeps if it is no whole number of 64 bits; 0: all of them
	Length int  // characters that a Text can have; 0 without a limit
	Strict bool // a Date is only that, in one form, a Time has no day, and a Timestamp no zone: a database would drop what is more without a word
}

// Kind is a kind of values.
type Kind int

const (
	Text      Kind = iota // anything: the database reads it
	Number                // digits, a point, an exponent
	Date                  // 2006-01-02
	Timestamp             // 2006-01-02 15:04:05
	Time                  // 15:04:05
	Word                  // one of several, by its name: a number would be taken for its place among them
)

// Unlimited is the scale of a value that can have any digits after the point.
const Unlimited = -1

var (
	number   = regexp.MustCompile(`^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?$`)
	isoDate  = regexp.MustCompile(`^[+-]?[0-9]{4,7}-[0-9]{2}-[0-9]{2}( BC)?$|^-?infinity$`)
	seconds  = regexp.MustCompile(`:[0-9]{2}[.,]([0-9]+)`)
	day      = regexp.MustCompile(`[0-9]-[0-9]{1,2}-[0-9]`)
	zone     = regexp.MustCompile(`(?i):[0-9.]+ *(z|[+-][0-9]{1,2}(:?[0-9]{2})?)$`)
	anyDigit = regexp.MustCompile(`^[+-]?[0-9.]+$`)
)

// Value is a value as SQL writes it. The error says what was expected.
func (f Format) Value(t Type, text string) (string, error) {
	switch t.Kind {
	case Number:
		return f.number(t, text)
	case Date:
		if f.Date == "" && t.Strict && !isoDate.MatchString(text) {
			return "", fmt.Errorf("%s is not a date such as 2026-11-28; how dates are written otherwise is told so: date = \"02.01.2006\"", shown(text))
		}
		return moment(text, f.Date, "2006-01-02", "a date")
	case Timestamp:
		layout, to, what := f.Timestamp, "2006-01-02 15:04:05.999999999", "a date and time"
		if layout == "" && f.Date != "" { // a day alone, at its beginning
			layout, to, what = f.Date, "2006-01-02", "a date"
		}
		text, err := moment(text, layout, to, what)
		if err != nil {
			return "", err
		}
		if t.Strict && zone.MatchString(text) {
			return "", fmt.Errorf("%s has a time zone, which the column has not", shown(text))
		}
		return t.fraction(text)
	case Time:
		if t.Strict && day.MatchString(text) {
			return "", fmt.Errorf("%s is more than a time of day", shown(text))
		}
		return t.fraction(text)
	case Word:
		if anyDigit.MatchString(text) {
			return "", fmt.Errorf("%s is none of the names that the column can hold, and would be taken for the place of one", shown(text))
		}
	case Text:
		if n := utf8.RuneCountInString(text); t.Length > 0 && n > t.Length {
			return "", fmt.Errorf("%s has %d characters, there is room for %d", shown(text), n, t.Length)
		}
	}
	return text, nil
}

// fraction refuses a part of a second that would be rounded.
func (t Type) fraction(text string) (string, error) {
	m := seconds.FindStringSubmatch(text)
	if m == nil || t.Scale == Unlimited || len(strings.TrimRight(m[1], "0")) <= t.Scale {
		return text, nil
	}
	return "", fmt.Errorf("%s has more than %d digits after the seconds, and would be rounded", shown(text), t.Scale)
}

// simple gives the digits after the point of a number that is written with digits alone, a point between
// them and a minus before them, if any; ok is false for all others, of which most are numbers as well.
func simple(text string) (fraction string, ok bool) {
	digits := text
	if strings.HasPrefix(text, "-") {
		digits = text[1:]
	}
	point := -1
	for i := range len(digits) {
		switch c := digits[i]; {
		case '0' <= c && c <= '9':
		case c == '.' && point < 0:
			point = i
		default:
			return "", false
		}
	}
	if point < 0 {
		return "", digits != ""
	}
	return digits[point+1:], point > 0 && point < len(digits)-1
}

func (f Format) number(t Type, text string) (string, error) {
	if f.Decimal == 0 || f.Decimal == '.' { // as most of them are written
		fraction, ok := simple(text)
		if ok && t.Digits == 0 && (t.Scale == Unlimited || fraction == "" || t.Scale > 0 && len(fraction) <= t.Scale) {
			return text, nil
		}
	}
	return f.anyNumber(t, text)
}

// anyNumber is number for whatever way of writing.
func (f Format) anyNumber(t Type, text string) (string, error) {
	switch text { // as some programs write what others have as numbers
	case "true":
		return "1", nil
	case "false":
		return "0", nil
	}
	plain := text
	if f.Decimal != 0 && f.Decimal != '.' {
		if strings.ContainsRune(text, '.') {
			return "", fmt.Errorf("%s is not a number with a decimal %q", shown(text), string(f.Decimal))
		}
		plain = strings.Replace(text, string(f.Decimal), ".", 1)
	}
	if !number.MatchString(plain) {
		return "", fmt.Errorf("%s is not a number%s", shown(text), f.example(text))
	}
	mantissa, exponent, _ := strings.Cut(strings.ToLower(plain), "e")
	whole, fraction, _ := strings.Cut(mantissa, ".")
	if t.Digits > 0 {
		_, err := strconv.ParseInt(strings.TrimPrefix(whole, "+"), 10, 64)
		exact := err == nil && exponent == "" && strings.Trim(fraction, "0") == ""
		if n := len(strings.TrimRight(strings.TrimLeft(strings.TrimLeft(whole, "+-")+fraction, "0"), "0")); !exact && n > t.Digits {
			return "", fmt.Errorf("%s has %d digits, of which %d would be kept", shown(text), n, t.Digits)
		}
		if f, err := strconv.ParseFloat(plain, 64); err != nil && math.IsInf(f, 0) {
			return "", fmt.Errorf("%s is out of range", shown(text))
		}
	}
	if t.Scale == Unlimited { // which the database reads
		return plain, nil
	}
	if after(whole, fraction, exponent) > t.Scale {
		if t.Scale == 0 {
			return "", fmt.Errorf("%s is not a whole number", shown(text))
		}
		return "", fmt.Errorf("%s has more than %d digits after the point, and would be rounded", shown(text), t.Scale)
	}
	if exponent != "" {
		return plain, nil
	}
	if t.Scale == 0 {
		if plain, _, _ = strings.Cut(plain, "."); strings.Trim(plain, "+-") == "" {
			plain = "0"
		}
	}
	return plain, nil
}

// after is how many digits a number has after the point, zeros at its end not counted.
func after(whole, fraction, exponent string) int {
	power, err := strconv.Atoi(exponent)
	if err != nil && exponent != "" { // out of every range
		return math.MaxInt
	}
	digits := strings.TrimRight(strings.TrimLeft(whole, "+-")+fraction, "0")
	if strings.Trim(digits, "0") == "" {
		return 0
	}
	zeros := len(strings.TrimLeft(whole, "+-")) + len(fraction) - len(digits)
	return max(len(fraction)-zeros-power, 0)
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
