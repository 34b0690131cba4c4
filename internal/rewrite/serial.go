package rewrite

import (
	"bytes"
	"fmt"
	"strconv"
)

// Serialised text is the format that PHP's serialize() writes: values that begin
// with a letter for their type, strings preceded by their length in bytes.
//
//	N; b:1; i:-3; d:0.5; s:3:"abc"; a:1:{KEY VALUE} O:3:"Cls":1:{KEY VALUE}
//	C:3:"Cls":2:{..} E:8:"Suit:Hea"; R:2; r:2;

// looksSerialised reports whether a text begins like a serialised value that can
// hold strings: s:5:" a:2:{ O:3:" C:3:" .
func looksSerialised(s []byte) bool {
	if len(s) < 5 || s[1] != ':' || bytes.IndexByte([]byte("saOC"), s[0]) < 0 {
		return false
	}
	i := 2
	for i < len(s) && s[i] >= '0' && s[i] <= '9' {
		i++
	}
	want := byte('"')
	if s[0] == 'a' {
		want = '{'
	}
	return i > 2 && i+1 < len(s) && s[i] == ':' && s[i+1] == want
}

// serialised gives the edits within the strings of serialised text, and for
// every length that changes with them.
func (w *walker) serialised(s []byte, in string) ([]Edit, error) {
	p := serial{w: w, s: s, in: in}
	if err := p.value(false, 0); err != nil {
		return nil, err
	}
	if rest := bytes.TrimSpace(s[p.at:]); len(rest) > 0 {
		return nil, p.bad("%d bytes follow the value", len(s)-p.at)
	}
	return p.edits, nil
}

// serial reads one serialised value.
type serial struct {
	w     *walker
	s     []byte
	in    string
	at    int
	edits []Edit
}

func (p *serial) bad(format string, args ...any) error {
	return &Damage{Kind: "serialised text", At: p.at, What: fmt.Sprintf(format, args...)}
}

func (p *serial) expect(c byte) error {
	if p.at >= len(p.s) {
		return p.bad("it ends where %q is expected", c)
	}
	if p.s[p.at] != c {
		return p.bad("%q stands where %q is expected", p.s[p.at], c)
	}
	p.at++
	return nil
}

// number reads digits up to the byte that ends them.
func (p *serial) number(end byte) (n int, err error) {
	begin := p.at
	for p.at < len(p.s) && p.s[p.at] >= '0' && p.s[p.at] <= '9' {
		p.at++
	}
	if n, err = strconv.Atoi(string(p.s[begin:p.at])); err != nil {
		p.at = begin
		return 0, p.bad("expected a number")
	}
	return n, p.expect(end)
}

// value reads a value; key says that it is the key of an array or a property.
func (p *serial) value(key bool, depth int) error {
	if depth > deepest {
		return p.bad("more than %d levels deep", deepest)
	}
	if p.at+2 > len(p.s) {
		return p.bad("it ends where a value is expected")
	}
	kind := p.s[p.at]
	if kind == 'N' {
		p.at++
		return p.expect(';')
	}
	p.at++
	if err := p.expect(':'); err != nil {
		return err
	}
	switch kind {
	case 'b', 'i', 'd', 'r', 'R':
		if key && kind != 'i' {
			return p.bad("a key is a number or a string")
		}
		end := bytes.IndexByte(p.s[p.at:], ';')
		if end < 1 || end > 40 || !scalar(kind, p.s[p.at:p.at+end]) {
			return p.bad("this is no value of type %q", kind)
		}
		p.at += end + 1
		return nil
	case 's':
		if err := p.text('"', '"', key); err != nil {
			return err
		}
		return p.expect(';')
	case 'E':
		if _, err := p.name(); err != nil {
			return err
		}
		return p.expect(';')
	}
	if key {
		return p.bad("a key is a number or a string")
	}
	switch kind {
	case 'C':
		if _, err := p.name(); err != nil {
			return err
		}
		if err := p.expect(':'); err != nil {
			return err
		}
		return p.text('{', '}', false)
	case 'O':
		if _, err := p.name(); err != nil {
			return err
		}
		if err := p.expect(':'); err != nil {
			return err
		}
	case 'a':
	default:
		p.at -= 2
		return p.bad("there is no type %q", kind)
	}
	n, err := p.number(':')
	if err != nil {
		return err
	}
	if err := p.expect('{'); err != nil {
		return err
	}
	for range n {
		if err := p.value(true, depth+1); err != nil {
			return err
		}
		if err := p.value(false, depth+1); err != nil {
			return err
		}
	}
	return p.expect('}')
}

// scalar reports whether a text is a value of a type without strings.
func scalar(kind byte, s []byte) bool {
	switch kind {
	case 'b':
		return len(s) == 1 && (s[0] == '0' || s[0] == '1')
	case 'd':
		_, err := strconv.ParseFloat(string(s), 64) // also INF, -INF, NAN
		return err == nil
	}
	_, err := strconv.ParseInt(string(s), 10, 64)
	return err == nil
}

// name reads LEN:"…", the name of a class or an enumeration's case, which is
// never replaced.
func (p *serial) name() (string, error) {
	n, err := p.number(':')
	if err != nil {
		return "", err
	}
	if err := p.expect('"'); err != nil {
		return "", err
	}
	if n > len(p.s)-p.at {
		return "", p.bad("a name of %d bytes is announced, %d follow", n, len(p.s)-p.at)
	}
	name := string(p.s[p.at : p.at+n])
	p.at += n
	return name, p.expect('"')
}

// text reads LEN, a colon and LEN bytes between two marks, and gathers the edits
// within, and that of the length itself.
func (p *serial) text(open, end byte, key bool) error {
	digits := p.at
	n, err := p.number(':')
	if err != nil {
		return err
	}
	after := p.at - 1
	if err := p.expect(open); err != nil {
		return err
	}
	if n > len(p.s)-p.at {
		return p.bad("a string of %d bytes is announced, %d follow", n, len(p.s)-p.at)
	}
	begin := p.at
	p.at += n
	if err := p.expect(end); err != nil {
		return p.bad("the string announced with %d bytes does not end there", n)
	}
	inner, err := p.w.text(p.s[begin:begin+n], p.in, key)
	if err != nil || len(inner) == 0 {
		return err
	}
	if d := delta(inner); d != 0 {
		p.edits = append(p.edits, Edit{digits, after, strconv.AppendInt(nil, int64(n+d), 10)})
	}
	for _, e := range inner {
		p.edits = append(p.edits, Edit{begin + e.Start, begin + e.End, e.New})
	}
	return nil
}

// lengths finds the strings with a length before them, s:12:"…", in a text that is
// not serialised as a whole. It goes through the text once, however often it is asked.
type lengths struct {
	s    []byte
	upTo int // looked through up to here
	at   int // the last that began before that: where its text begins,
	end  int // and ends by its length
}

// hold reports whether a stretch lies within the last such string that begins
// before it. The stretches must be asked for in their order.
func (l *lengths) hold(start, end int) bool {
	const back = 1 << 16 // further back nobody looks
	for l.upTo < start {
		i := bytes.Index(l.s[l.upTo:start], []byte(`:"`))
		if i < 0 {
			l.upTo = max(l.upTo, start-1) // the colon may be its last byte
			break
		}
		at := l.upTo + i
		l.upTo = at + 2
		digits := at
		for digits > 0 && at-digits < 10 && l.s[digits-1] >= '0' && l.s[digits-1] <= '9' {
			digits--
		}
		if digits < at && at-digits < 10 && digits >= 2 && l.s[digits-1] == ':' && l.s[digits-2] == 's' {
			n, _ := strconv.Atoi(string(l.s[digits:at]))
			l.at, l.end = at+2, at+2+n
		}
	}
	return l.at > 0 && start-l.at < back && l.end >= end
}
