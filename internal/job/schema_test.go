package job

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
)

// TestSchema: the schema in the docs is that of the reader, and says of every key what it is for.
// JUGATUM_UPDATE=1 writes it anew.
func TestSchema(t *testing.T) {
	const at = "../../docs/job.schema.json"
	want, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	if os.Getenv("JUGATUM_UPDATE") != "" {
		if err := os.WriteFile(at, want, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(at)
	if err != nil || !bytes.Equal(got, want) {
		t.Errorf("%s is not the reader's schema (%v): JUGATUM_UPDATE=1 go test ./internal/job", at, err)
	}
	seen := map[string]bool{}
	var walk func(path string, s map[string]any)
	walk = func(path string, s map[string]any) {
		if path != "" && !strings.HasSuffix(path, "*") {
			seen[path] = true
			if s["description"] == nil {
				t.Errorf("nothing is said of %s", path)
			}
		}
		for name, p := range asMap(s["properties"]) {
			walk(strings.TrimPrefix(path+"."+name, "."), asMap(p))
		}
		if items := asMap(s["items"]); items["properties"] != nil {
			for name, p := range asMap(items["properties"]) {
				walk(path+"."+name, asMap(p))
			}
		}
		if more := asMap(s["additionalProperties"]); more != nil {
			walk(path+".*", more)
		}
	}
	var s map[string]any
	if err := json.Unmarshal(want, &s); err != nil {
		t.Fatal(err)
	}
	walk("", s)
	for path := range told {
		if !seen[path] && told[path] != "" {
			t.Errorf("there is no key %s", path)
		}
	}
}

// TestSchemaHoldsJobs: the examples are as the schema says, and the reader refuses what it does not have:
// an unknown key, a word that is none of those listed.
func TestSchemaHoldsJobs(t *testing.T) {
	text, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	var s map[string]any
	json.Unmarshal(text, &s)
	files, err := filepath.Glob("../../examples/*.toml")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d examples, %v", len(files), err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		var v map[string]any
		if err := toml.Unmarshal(text, &v); err != nil {
			t.Fatal(err)
		}
		for _, fault := range holds("", s, v) {
			t.Errorf("%s: %s", f, fault)
		}
	}
	for path, list := range words {
		key := path[strings.LastIndexByte(path, '.')+1:]
		for _, w := range append(slices.Clone(list), "nonsense") {
			text := map[string]string{
				"param.*.type":         "[param.a]\ntype = '" + w + "'\n[[step]]\ntable = 'berth'\nwhere = 'a = 1'\nset = { a = '1' }\n",
				"step.check.when":      "[[step]]\ntable = 'berth'\nwhere = 'a = 1'\nset = { a = '1' }\ncheck = [{ sql = 'SELECT 1', is = 1, when = '" + w + "' }]\n",
				"step.replace.damaged": "[[step]]\nin = ['a.b']\nreplace = { find = 'a', with = 'b', damaged = '" + w + "' }\n",
				"step.method":          "[[step]]\ntable = 'berth'\nwhere = 'a = 1'\nset = { a = '1' }\nmethod = '" + w + "'\n",
			}[path]
			if text == "" && slices.Contains([]string{"same_as", "nulls", "blanks", "twice"}, key) {
				text = "[[step]]\ntable = 'vessel'\nmerge = ['name']\n" + key + " = '" + w + "'\n"
			}
			if text == "" {
				text = "[[step]]\ntable = 'berth'\nfrom = 'quay'\nmatch = { a = 'b' }\nfill = { c = 'd' }\n" + key + " = '" + w + "'\n"
			}
			if _, err := Parse("j.toml", []byte(text)); (err == nil) != (w != "nonsense") {
				t.Errorf("%s = %q: %v", path, w, err)
			}
		}
	}
}

func asMap(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

// holds gives what of a value is not as a schema says: types, unknown keys, words.
func holds(path string, s map[string]any, v any) (faults []string) {
	if w, ok := s["enum"].([]any); ok && !slices.Contains(w, v) {
		faults = append(faults, path+": no such word")
	}
	want, _ := s["type"].(string)
	kind := map[reflect.Kind]string{reflect.String: "string", reflect.Bool: "boolean", reflect.Int64: "integer", reflect.Slice: "array", reflect.Map: "object"}[reflect.ValueOf(v).Kind()]
	if want != "" && kind != want {
		return append(faults, path+": "+kind+", not "+want)
	}
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			switch p, more := asMap(asMap(s["properties"])[name]), s["additionalProperties"]; {
			case p != nil:
				faults = append(faults, holds(path+"."+name, p, x)...)
			case more == false:
				faults = append(faults, path+"."+name+": no such key")
			case asMap(more) != nil:
				faults = append(faults, holds(path+"."+name, asMap(more), x)...)
			}
		}
	case []any:
		for _, x := range v {
			faults = append(faults, holds(path, asMap(s["items"]), x)...)
		}
	}
	return faults
}
