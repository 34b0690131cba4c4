package term

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"math"
	"os"
	"strings"
	"testing"
	"time"
	"unicode"
)

func TestCleanLeavesNothingThatATerminalObeys(t *testing.T) {
	for in, want := range map[string]string{
		"plain Köhler 日本":     "plain Köhler 日本",
		"\x1b[2J\x1b]0;x\x07": `\u001b[2J\u001b]0;x\u0007`,
		"a\nb\tc\rd":          `a\nb\tc\rd`,
		"\u202eevil":          `\u202eevil`,
		"\u200b":              `\u200b`,
		"bad \xff byte":       `bad \xff byte`,
		"\u009b31m":           `\u009b31m`,
		"\uFFFD":              "\uFFFD",
	} {
		if got := Clean(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}

func TestDiffMarksWhatChanged(t *testing.T) {
	o := &Out{Writer: &bytes.Buffer{}}
	s := func(s string) *string { return &s }
	long := strings.Repeat("moor with care ", 20)
	for _, c := range []struct {
		before, after *string
		b, a          string
	}{
		{s("http://x"), s("https://x"), "http://x", "http⟦s⟧://x"},
		{s("12.50"), s("13.13"), "1⟦2.50⟧", "1⟦3.13⟧"},
		{nil, s(""), "NULL", "''"},
		{s("a"), nil, "a", "NULL"},
		{s("é"), s("è"), "é", "è"},
		{s("same"), s("same"), "same", "same"},
		{s("\x1b[1m"), s("x"), `\u001b[1m`, "x"},
	} {
		b, a := o.Diff(c.before, c.after, 40)
		b = strings.ReplaceAll(b, "⟦⟧", "")
		if b != c.b || a != c.a {
			t.Errorf("%q and %q, want %q and %q", b, a, c.b, c.a)
		}
	}
	before, after := o.Diff(s(long+"X"+long), s(long+"Y"+long), 40)
	for _, v := range []string{before, after} {
		if n := len([]rune(v)); n > 44 || !strings.HasPrefix(v, "…") || !strings.HasSuffix(v, "…") {
			t.Errorf("a long text is shown as %q (%d)", v, n)
		}
	}
	if !strings.Contains(before, "⟦X⟧") || !strings.Contains(after, "⟦Y⟧") {
		t.Errorf("the change is not shown: %q, %q", before, after)
	}
}

func TestNumbers(t *testing.T) {
	for d, want := range map[time.Duration]string{420 * time.Microsecond: "0.42 ms", 1500 * time.Microsecond: "1.5 ms", 120 * time.Millisecond: "120 ms",
		1500 * time.Millisecond: "1.5 s", 125 * time.Second: "2 min 05 s", 2*time.Hour + 3*time.Minute: "2 h 03 min"} {
		if got := Duration(d); got != want {
			t.Errorf("%v: %q, want %q", d, got, want)
		}
	}
	if Count(1234567) != "1,234,567" || Count(-1) != "?" || Bytes(-1) != "?" || Bytes(3<<20) != "3.0 MiB" {
		t.Error(Count(1234567), Count(-1), Bytes(-1), Bytes(3<<20))
	}
}

// TestLiveWithoutATerminal writes lines, and no more than one in a while.
func TestLiveWithoutATerminal(t *testing.T) {
	var b bytes.Buffer
	l := (&Out{Writer: &b}).NewLive()
	for range 100 {
		l.Show(func(int) []string { return []string{"block"} }, func() string { return "line" }, true)
	}
	if b.Len() != 0 {
		t.Errorf("it wrote %q at once", b.String())
	}
	l.last = time.Now().Add(-time.Minute)
	l.Show(func(int) []string { return []string{"block"} }, func() string { return "line" }, false)
	if b.String() != "line\n" {
		t.Errorf("it wrote %q", b.String())
	}
}

// TestCleanJSON: on a terminal nothing in a document is more than text, and it is
// the same document.
func TestCleanJSON(t *testing.T) {
	for _, s := range []string{"plain\nquay", "\u009b31mred", "a\u202eb\u200d", "\x7f", "\U000e0041", "é 漢 🚢", "tab\tend", "\x1b[2J"} {
		in, err := json.MarshalIndent(map[string]string{"a": s}, "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		out := CleanJSON(in)
		var back map[string]string
		if err := json.Unmarshal(out, &back); err != nil || back["a"] != s {
			t.Errorf("%q comes back as %q: %v", s, back["a"], err)
		}
		for _, r := range string(out) {
			if r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) {
				t.Errorf("%q: %U is left in %q", s, r, out)
			}
		}
	}
}

// TestSpark: the newest value stands at the right end, and gaps stay gaps.
func TestSpark(t *testing.T) {
	for _, x := range []struct {
		values []float64
		most   float64
		want   string
	}{
		{[]float64{0, 1, 2, 7}, 7, "  ▁▂▃█"},
		{[]float64{1, 2, 3, 4, 5, 6, 7, 8}, 8, "▃▄▅▆▇█"},
		{[]float64{8, math.NaN(), 99, -1}, 8, "  █ █▁"},
		{[]float64{0, 0}, 0, "      "},
		{nil, 1, "      "},
	} {
		if got := Spark(x.values, x.most, 6); got != x.want {
			t.Errorf("%v: %q, expected %q", x.values, got, x.want)
		}
	}
}

// TestYield: columns give way in the order that is told, no more of them than must, and none where there is room.
func TestYield(t *testing.T) {
	for width, want := range map[string]string{"200": "run steps by job", "51": "run steps by job", "50": "run by job", "44": "run by job", "43": "run job", "40": "run job"} {
		t.Setenv("COLUMNS", width)
		var b strings.Builder
		o := &Out{Writer: &b}
		table := o.NewTable(">run", ">steps", "by", "job").Yield("steps", "by", "started")
		table.Row("1", "12", "mara@quay1", "Rates for the next season")
		table.Print()
		head, _, _ := strings.Cut(b.String(), "\n")
		if got := strings.Join(strings.Fields(head), " "); got != want {
			t.Errorf("at %s columns: %q, expected %q\n%s", width, got, want, b.String())
		}
	}
}

// TestAskGivesUp: a question ends with its context, though nobody answers.
func TestAskGivesUp(t *testing.T) {
	unanswered, typed := io.Pipe()
	defer typed.Close()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer null.Close()
	if s, err := NewKeyboard(unanswered, true).Ask(ctx, NewOut(null), "How much?"); s != "" || !errors.Is(err, context.Canceled) {
		t.Errorf("%q, %v", s, err)
	}
	if s, err := NewKeyboard(strings.NewReader(" 7 \n"), true).Ask(context.Background(), NewOut(null), "How much?"); s != "7" || err != nil {
		t.Errorf("%q, %v", s, err)
	}
}
