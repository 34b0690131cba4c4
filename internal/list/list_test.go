package list

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// read gives what a list holds, a line each with the place where it begins, or its fault.
func read(t *testing.T, name, text string, f Format) string {
	t.Helper()
	r, err := Open(name, strings.NewReader(text), f)
	if err != nil {
		return err.Error()
	}
	defer r.Close()
	var out strings.Builder
	out.WriteString(strings.Join(r.Columns, ","))
	for n := 1; ; n++ {
		l, err := r.Next()
		if err == io.EOF {
			return out.String()
		}
		if err != nil {
			var fault *Fault
			if !errors.As(err, &fault) {
				t.Fatalf("%v is no fault of the list", err)
			}
			return err.Error()
		}
		fmt.Fprintf(&out, " | %d@%d", n, l.At)
		for _, v := range l.Values {
			if v == nil {
				out.WriteString(" NULL")
			} else {
				fmt.Fprintf(&out, " %q", *v)
			}
		}
	}
}

func TestRead(t *testing.T) {
	empty := ""
	for _, x := range []struct {
		name, file, text, want string
		f                      Format
	}{
		{"commas", "a.csv", "a,b\n1,2\n3,\n", `a,b | 1@2 "1" "2" | 2@3 "3" ""`, Format{}},
		{"a mark, returns, no last newline", "a.csv", "\ufeffa,b\r\n1,2\r\n3,4", `a,b | 1@2 "1" "2" | 2@3 "3" "4"`, Format{}},
		{"quotes", "a.csv", "a,b\n\"x, \"\"y\"\"\nz\",2\n3,4\n", `a,b | 1@2 "x, \"y\"\nz" "2" | 2@4 "3" "4"`, Format{}},
		{"returns within quotes", "a.csv", "a,b\r\n\"x\r\ny\r\",\"z\r\n\"\r\n3,4\r\n", `a,b | 1@2 "x\r\ny\r" "z\r\n" | 2@5 "3" "4"`, Format{}},
		{"semicolons", "a.csv", "a;b\n1,5;2\n", `a,b | 1@2 "1,5" "2"`, Format{Separator: ';'}},
		{"no header", "a.csv", "1,2\n", `a,b | 1@1 "1" "2"`, Format{Header: []string{"a", "b"}}},
		{"a mark for NULL", "a.csv", "a,b\n1,\n", `a,b | 1@2 "1" NULL`, Format{Null: &empty}},
		{"tabs", "a.tsv", "a\tb\n5\" pipe\tx,y\n\n1\t\n", `a,b | 1@2 "5\" pipe" "x,y" | 2@4 "1" ""`, Format{}},
		{"objects", "a.jsonl", `{"a": 12345678901234567890.10, "b": "x"}` + "\n" + `{"b": null, "a": true}` + "\n", `a,b | 1@1 "12345678901234567890.10" "x" | 2@2 "true" NULL`, Format{}},
		{"nested", "a.jsonl", `{"a": {"x": [1,  2]}}`, `a | 1@1 "{\"x\":[1,2]}"`, Format{}},
		{"another encoding", "a.csv", "a\nS\xf8nder\xe5\n", `a | 1@2 "Sønderå"`, Format{Encoding: "windows-1252"}},
		{"header only", "a.csv", "a,b\n", `a,b`, Format{}},

		{"empty", "a.csv", "", "a.csv: the file is empty: expected a line with the names of the columns", Format{}},
		{"empty objects", "a.jsonl", "\n", "a.jsonl: the file is empty: expected a JSON object on each line", Format{}},
		{"too few", "a.csv", "a,b\n1,2\n3\n", "a.csv:3: expected 2 fields (a, b), this line has 1", Format{}},
		{"too many", "a.tsv", "a\tb\n1\t2\t3\n", "a.tsv:2: expected 2 fields (a, b), this line has 3", Format{}},
		{"two of a name", "a.csv", "a,b,a\n", `a.csv:1: columns 1 and 3 are both called "a"`, Format{}},
		{"no name", "a.csv", "a,,b\n", `a.csv:1: column 2 has no name`, Format{}},
		{"a quote within", "a.csv", "a\nx\"y\n", `a.csv:2:2: a quote within a field that is not quoted; write "a ""quoted"" word"`, Format{}},
		{"an open quote", "a.csv", "a\n\"x\ny\n", `a.csv:3:3: a quoted field is not closed, or text follows its closing quote; the line begins on line 2`, Format{}},
		{"NUL", "a.csv", "a,b\n1,x\x00y\n", "a.csv:2: a NUL byte, which no text can hold", Format{}},
		{"NUL in an object", "a.jsonl", `{"a": "\u0000"}`, "a.jsonl:1: column a: a NUL byte, which no text can hold", Format{}},
		{"no UTF-8", "a.csv", "a\nok\nS\xf8nder\n", `a.csv:3: byte 0xf8 is not valid UTF-8; if the file has another encoding, name it: encoding = "windows-1252"`, Format{}},
		{"no such encoding", "a.csv", "a\n", `a.csv: "klingon" is no character encoding that is known here; expected a name such as windows-1252, iso-8859-15 or utf-16le`, Format{Encoding: "klingon"}},
		{"not of the encoding", "a.csv", "a\n\x81\xff\n", "a.csv:2: bytes that stand for nothing in the file's encoding", Format{Encoding: "shift_jis"}},
		{"no such kind", "a.xlsx", "", "a.xlsx: expected a name that ends in .csv, .tsv or .jsonl, with .gz or .zst after that if it is compressed", Format{}},
		{"not compressed", "a.csv.gz", "a,b\n", "a.csv.gz:1: it is not compressed by gzip: unexpected EOF", Format{}},
		{"another key", "a.jsonl", `{"a":1}` + "\n" + `{"a":1,"b":2}`, `a.jsonl:2: there is a key "b", which the first line does not have; every line has the same keys, with null where there is no value`, Format{}},
		{"a key less", "a.jsonl", `{"a":1,"b":2}` + "\n" + `{"a":1}`, `a.jsonl:2: column b: the key is missing; write null where there is no value`, Format{}},
		{"a key twice", "a.jsonl", `{"a":1,"a":2}`, `a.jsonl:1: the key "a" is there twice`, Format{}},
		{"no object", "a.jsonl", `[1]`, `a.jsonl:1:1: expected an object: { … }`, Format{}},
		{"cut off", "a.jsonl", `{"a":1}` + "\n" + `{"a":`, `a.jsonl:2:6: the object is cut off`, Format{}},
		{"more after it", "a.jsonl", `{"a":1} x`, `a.jsonl:1:8: text after the object`, Format{}},
		{"half a character", "a.jsonl", `{"a":"\ud800"}`, `a.jsonl:1:14: half of a pair of UTF-16, which is no character`, Format{}},
		{"a separator of tabs", "a.tsv", "", "a.tsv: a separator is for .csv files", Format{Separator: ';'}},
	} {
		t.Run(x.name, func(t *testing.T) {
			if got := read(t, x.file, x.text, x.f); got != x.want {
				t.Errorf("got\n%s\nexpected\n%s", got, x.want)
			}
		})
	}
}

func TestCompressed(t *testing.T) {
	text := "a,b\n" + strings.Repeat("1,sønder å\n", 30_000)
	var gz, zst bytes.Buffer
	z := gzip.NewWriter(&gz)
	z.Write([]byte(text))
	z.Close()
	s, err := zstd.NewWriter(&zst)
	if err != nil {
		t.Fatal(err)
	}
	s.Write([]byte(text))
	s.Close()
	plain := read(t, "a.csv", text, Format{})
	for name, packed := range map[string]string{"a.csv.gz": gz.String(), "a.csv.zst": zst.String()} {
		if got := read(t, name, packed, Format{}); got != plain {
			t.Errorf("%s is read otherwise than the text itself: %.200s", name, got)
		}
		if got := read(t, name, packed[:len(packed)/2], Format{}); !strings.HasPrefix(got, name) || !strings.HasSuffix(got, "the file is cut off") {
			t.Errorf("half of %s: %.200s", name, got)
		}
	}
}

// endless is a line without an end.
type endless struct{ given int }

func (e *endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	e.given += len(p)
	return len(p), nil
}

func TestLongLines(t *testing.T) {
	for _, name := range []string{"a.csv", "a.tsv", "a.jsonl"} {
		for _, begin := range []string{"", "a\n1\n\""} {
			e := &endless{}
			from := io.MultiReader(strings.NewReader(begin), e)
			var got string
			if r, err := Open(name, from, Format{}); err != nil {
				got = err.Error()
			} else {
				for err == nil {
					_, err = r.Next()
				}
				got = err.Error()
			}
			if begin != "" && name == "a.jsonl" { // no object
				continue
			}
			if !strings.HasSuffix(got, "the line is longer than 16 MiB") {
				t.Errorf("%s: %.200s", name, got)
			}
			if e.given > MaxLine+1<<20 {
				t.Errorf("%s: %d bytes were read of a line without an end", name, e.given)
			}
		}
	}
}

func TestValue(t *testing.T) {
	german := Format{Decimal: ',', Date: "02.01.2006", Timestamp: "02.01.2006 15:04"}
	for _, x := range []struct {
		f    Format
		t    Type
		text string
		want string // or what the error says, after "!"
	}{
		{Format{}, Type{Kind: Number, Scale: Unlimited}, "12345678901234567890.123456789", "12345678901234567890.123456789"},
		{Format{}, Type{Kind: Number, Scale: Unlimited}, "-1.5e-3", "-1.5e-3"},
		{Format{}, Type{Kind: Number, Scale: 2}, "1.50", "1.50"},
		{Format{}, Type{Kind: Number, Scale: 2}, "1.5000", "1.5000"},
		{Format{}, Type{Kind: Number, Scale: 2}, "1.505", `!"1.505" has more than 2 digits after the point, and would be rounded`},
		{Format{}, Type{Kind: Number, Scale: 0}, "7.00", "7"},
		{Format{}, Type{Kind: Number, Scale: 0}, "-.0", "0"},
		{Format{}, Type{Kind: Number, Scale: 0}, "15e-1", `!"15e-1" is not a whole number`},
		{Format{}, Type{Kind: Number, Scale: 0}, "150e-1", "150e-1"},
		{Format{}, Type{Kind: Number, Scale: 0}, "1.5e1", "1.5e1"},
		{Format{}, Type{Kind: Number, Scale: 0}, "0e-5", "0e-5"},
		{Format{}, Type{Kind: Number, Scale: 2}, "1.2345e0", `!"1.2345e0" has more than 2 digits after the point, and would be rounded`},
		{Format{}, Type{Kind: Number, Scale: 2}, "1.2345e2", "1.2345e2"},
		{Format{}, Type{Kind: Number, Scale: 2}, "1e-99999999999999999999", `!"1e-99999999999999999999" has more than 2 digits after the point, and would be rounded`},
		{Format{}, Type{Kind: Number, Scale: 0}, "7.5", `!"7.5" is not a whole number`},
		{Format{}, Type{Kind: Number, Scale: 0}, "", `!"" is not a number; null = "" takes an empty field for NULL`},
		{Format{}, Type{Kind: Number, Scale: 2}, "1,5", `!"1,5" is not a number; decimal = "," if that is how fractions are written`},
		{Format{}, Type{Kind: Number, Scale: 2}, "0x10", `!"0x10" is not a number`},
		{Format{}, Type{Kind: Number, Scale: 0}, "true", "1"},
		{german, Type{Kind: Number, Scale: 2}, "1,5", "1.5"},
		{german, Type{Kind: Number, Scale: 2}, "1.5", `!"1.5" is not a number with a decimal ","`},
		{german, Type{Kind: Number, Scale: 2}, "1.234,5", `!"1.234,5" is not a number with a decimal ","`},
		{german, Type{Kind: Date}, "31.12.2026", "2026-12-31"},
		{german, Type{Kind: Date}, "31.02.2026", `!"31.02.2026" is not a date such as 28.11.2026`},
		{german, Type{Kind: Date}, "2026-12-31", `!"2026-12-31" is not a date such as 28.11.2026`},
		{german, Type{Kind: Timestamp}, "31.12.2026 06:30", "2026-12-31 06:30:00"},
		{Format{Date: "02.01.2006"}, Type{Kind: Timestamp}, "31.12.2026", "2026-12-31"},
		{Format{}, Type{Kind: Number, Scale: Unlimited, Digits: 15}, "1234567890123456789", "1234567890123456789"},
		{Format{}, Type{Kind: Number, Scale: Unlimited, Digits: 15}, "12345678901234567890", `!"12345678901234567890" has 19 digits, of which 15 would be kept`},
		{Format{}, Type{Kind: Number, Scale: Unlimited, Digits: 15}, "0.123456789012345", "0.123456789012345"},
		{Format{}, Type{Kind: Number, Scale: Unlimited, Digits: 15}, "100.1234567890123", `!"100.1234567890123" has 16 digits, of which 15 would be kept`},
		{Format{}, Type{Kind: Number, Scale: Unlimited, Digits: 15}, "1e999", `!"1e999" is out of range`},
		{Format{}, Type{Kind: Date, Strict: true}, "2026-11-28", "2026-11-28"},
		{Format{}, Type{Kind: Date, Strict: true}, "2026-11-28 10:00", `!"2026-11-28 10:00" is not a date such as 2026-11-28; how dates are written otherwise is told so: date = "02.01.2006"`},
		{Format{}, Type{Kind: Timestamp, Scale: 3}, "2026-11-28 10:00:00.1230", "2026-11-28 10:00:00.1230"},
		{Format{}, Type{Kind: Timestamp, Scale: 0}, "2026-11-28 10:00:00.5", `!"2026-11-28 10:00:00.5" has more than 0 digits after the seconds, and would be rounded`},
		{Format{}, Type{Kind: Timestamp, Scale: 6, Strict: true}, "2026-11-28T10:00:00Z", `!"2026-11-28T10:00:00Z" has a time zone, which the column has not`},
		{Format{}, Type{Kind: Timestamp, Scale: 6, Strict: true}, "2026-11-28 10:00:00.5+02:00", `!"2026-11-28 10:00:00.5+02:00" has a time zone, which the column has not`},
		{Format{}, Type{Kind: Timestamp, Scale: 6}, "2026-11-28 10:00:00+02", "2026-11-28 10:00:00+02"},
		{Format{}, Type{Kind: Timestamp, Scale: 6, Strict: true}, "2026-11-28 10:00:00", "2026-11-28 10:00:00"},
		{Format{}, Type{Kind: Timestamp, Scale: 6, Strict: true}, "2026-11-28", "2026-11-28"},
		{Format{}, Type{Kind: Time, Scale: 6, Strict: true}, "2026-11-28 10:00:00", `!"2026-11-28 10:00:00" is more than a time of day`},
		{Format{}, Type{Kind: Time, Scale: 6, Strict: true}, "-10:00:00", "-10:00:00"},
		{Format{}, Type{Kind: Time, Scale: 0}, "10:00:00.5", `!"10:00:00.5" has more than 0 digits after the seconds, and would be rounded`},
		{Format{}, Type{Kind: Word}, "2", `!"2" is none of the names that the column can hold, and would be taken for the place of one`},
		{Format{}, Type{Kind: Word}, "open", "open"},
		{Format{}, Type{Length: 3}, "äöü", "äöü"},
		{Format{}, Type{Length: 3}, "abc ", `!"abc " has 4 characters, there is room for 3`},
		{Format{}, Type{Kind: Date}, "whatever the database takes", "whatever the database takes"},
		{german, Type{}, "1,5", "1,5"},
	} {
		got, err := x.f.Value(x.t, x.text)
		if err != nil {
			got = "!" + err.Error()
		}
		if got != x.want {
			t.Errorf("%q: got %s, expected %s", x.text, got, x.want)
		}
	}
}

// FuzzRead holds that whatever the bytes are, they are read as text that is some, or told as a
// fault, and that lines have as many values as there are columns.
func FuzzRead(f *testing.F) {
	for _, text := range []string{"a,b\n1,2\n", "a\tb\n1\t2\n", `{"a":1,"b":"x"}` + "\n", "a\n\"x\n\"\n", "\ufeffa\n\xff\n", "a,a\n"} {
		f.Add(text, uint8(0))
	}
	f.Fuzz(func(t *testing.T, text string, kind uint8) {
		name := []string{"a.csv", "a.tsv", "a.jsonl", "a.csv.gz", "a.csv.zst"}[int(kind)%5]
		r, err := Open(name, strings.NewReader(text), Format{Encoding: []string{"", "windows-1252", "utf-16le"}[int(kind)/5%3]})
		for err == nil {
			var l Line
			if l, err = r.Next(); err != nil {
				break
			}
			if len(l.Values) != len(r.Columns) || l.At < 1 {
				t.Fatalf("line %+v, columns %q", l, r.Columns)
			}
			for _, v := range l.Values {
				if v != nil && (strings.IndexByte(*v, 0) >= 0 || strings.ToValidUTF8(*v, "") != *v) {
					t.Fatalf("%q is no text", *v)
				}
			}
		}
		var fault *Fault
		if err != io.EOF && !errors.As(err, &fault) {
			t.Fatalf("%v has no place", err)
		}
	})
}

// TestNumbersTheShortWay: of numbers that are read at a glance comes what comes of them by all rules.
func TestNumbersTheShortWay(t *testing.T) {
	r := rand.New(rand.NewPCG(51, 0))
	for range 200_000 {
		text := make([]byte, r.IntN(7))
		for i := range text {
			text[i] = "0012.-+e9 "[r.IntN(10)]
		}
		sameNumber(t, string(text), r.IntN(5)-1, r.IntN(2)*15)
	}
}

func sameNumber(t *testing.T, text string, scale, digits int) {
	t.Helper()
	typ := Type{Kind: Number, Scale: scale, Digits: digits}
	short, err := Format{}.number(typ, text)
	long, other := Format{}.anyNumber(typ, text)
	if short != long || (err == nil) != (other == nil) {
		t.Errorf("%q with %d digits after the point: %q, %v; by all rules %q, %v", text, scale, short, err, long, other)
	}
}

// FuzzValue holds that a number comes out as one that SQL reads, and a date as a date.
func FuzzValue(f *testing.F) {
	f.Add("1,5", uint8(0), 2)
	f.Add("31.12.2026", uint8(1), 0)
	f.Fuzz(func(t *testing.T, text string, kind uint8, scale int) {
		form := Format{Decimal: ',', Date: "02.01.2006"}
		typ := Type{Kind: Kind(kind % 6), Scale: max(scale%10, Unlimited), Digits: int(kind) / 6 % 2 * 15}
		if typ.Kind == Number {
			sameNumber(t, text, typ.Scale, typ.Digits)
		}
		out, err := form.Value(typ, text)
		switch {
		case err != nil:
			if out != "" {
				t.Errorf("%q: %q and an error", text, out)
			}
		case typ.Kind == Number && !number.MatchString(out):
			t.Errorf("%q gave %q", text, out)
		case typ.Kind == Date && (len(out) != 10 || out[4] != '-'):
			t.Errorf("%q gave %q", text, out)
		}
	})
}
