package job

import (
	"reflect"
	"sort"
	"strconv"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Where the keys of a job file stand.

// keys lists a table's keys in the order of the file.
func (r *reader) keys(path string, m any) []string {
	var out []string
	for _, k := range reflect.ValueOf(m).MapKeys() {
		out = append(out, k.String())
	}
	at := map[string]int{}
	for i, k := range r.order[path] {
		at[k] = i
	}
	sort.Slice(out, func(a, b int) bool {
		if at[out[a]] != at[out[b]] {
			return at[out[a]] < at[out[b]]
		}
		return out[a] < out[b]
	})
	return out
}

// places finds where each key of the file stands: "step.0.let.full" → line and
// column, in which order the keys of a table come, and how numbers with a point are
// written, digit by digit.
func places(text []byte) (map[string]Place, map[string][]string, map[string]string) {
	at := map[string]Place{}
	order := map[string][]string{}
	written := map[string]string{}
	count := map[string]int{}
	var p unstable.Parser
	p.Reset(text)
	note := func(base string, it unstable.Iterator) string {
		path := base
		for it.Next() {
			n := it.Node()
			part := string(n.Data)
			order[path] = append(order[path], part)
			if path != "" {
				path += "."
			}
			path += part
			pos := p.Shape(n.Raw).Start
			if _, ok := at[path]; !ok {
				at[path] = Place{Line: pos.Line, Column: pos.Column}
			}
			if n, ok := count[path]; ok && it.Node().Next() != nil {
				path += "." + strconv.Itoa(n-1)
			}
		}
		return path
	}
	base := ""
	var value func(path string, n *unstable.Node)
	value = func(path string, n *unstable.Node) {
		if n.Kind == unstable.Float {
			written[path] = string(n.Data)
		}
		if n.Kind != unstable.InlineTable {
			return
		}
		for it := n.Children(); it.Next(); {
			kv := it.Node()
			if kv.Kind == unstable.KeyValue {
				value(note(path, kv.Key()), kv.Value())
			}
		}
	}
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			base = tablePath(e.Key(), count)
			note("", e.Key())
		case unstable.ArrayTable:
			path := note("", e.Key())
			place := at[path]
			count[path]++
			base = path + "." + strconv.Itoa(count[path]-1)
			it := e.Key()
			for it.Next() {
				pos := p.Shape(it.Node().Raw).Start
				place = Place{Line: pos.Line, Column: pos.Column}
			}
			at[base] = place
		case unstable.KeyValue:
			value(note(base, e.Key()), e.Value())
		}
	}
	return at, order, written
}

// tablePath is the path of a [table] header, with the index of the last
// [[array]] element where the header goes through one ([step.let]).
func tablePath(it unstable.Iterator, count map[string]int) string {
	path := ""
	for it.Next() {
		if path != "" {
			path += "."
		}
		path += string(it.Node().Data)
		if n, ok := count[path]; ok {
			path += "." + strconv.Itoa(n-1)
		}
	}
	return path
}
