package job

import (
	"errors"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// bundled reads a job with the jobs beside it, by their names.
func bundled(main string, others map[string]string) (*Job, error) {
	text, err := Bundle("jobs/main.toml", []byte(main), func(file string) ([]byte, error) {
		if text, ok := others[file]; ok {
			return []byte(text), nil
		}
		return nil, errors.New("no such file")
	})
	if err != nil {
		return nil, err
	}
	return Parse("jobs/main.toml", text)
}

const (
	zones = "title = \"zones\"\n\n[param.to]\ntype = \"text\"\n\n[[step]]\ntable = \"visit\"\nwhere = \"zone = 'A'\"\nset = { zone = \":to\" }\n"
	rates = "[[step]]\nname = \"raise\"\ntable = \"berth\"\nset = { rate = \"rate + 1\" }\n"
)

func TestInclude(t *testing.T) {
	others := map[string]string{"zones.toml": zones, "rates.toml": rates, "nested.toml": "include = [\"zones.toml\"]\n", "limits.toml": "[limits]\nworkers = 2\n" + rates,
		"broken.toml": "[[step]]\ntable = \"t\"\nwhere = 3\n", "number.toml": strings.Replace(zones, `"text"`, `"integer"`, 1), "marked.toml": rates + "#: x\n"}
	j, err := bundled("title = \"spring\"\ninclude = [\"zones.toml\", \"rates.toml\"]\n\n[[step]]\ntable = \"quay\"\nput = { name = \"x\" }\n", others)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range j.Steps {
		names = append(names, s.Name+" of "+s.Table)
	}
	if got := strings.Join(names, ", "); got != "step 1 of visit, raise of berth, step 3 of quay" || j.Title != "spring" || len(j.Params) != 1 {
		t.Errorf("%s, %q, %v", got, j.Title, j.Params)
	}
	again, err := Restore(j.Source)
	if err != nil || len(again.Steps) != 3 {
		t.Fatalf("read from its record: %v", err)
	}
	one, err := Parse("one.toml", []byte(strings.Replace(zones+rates+"[[step]]\ntable = \"quay\"\nput = { name = \"x\" }\n", "zones", "other", 1)))
	if err != nil {
		t.Fatal(err)
	}
	values := map[string]change.Value{"to": {Type: change.TextValue, Text: "B"}}
	if d := dialect.SQLite; j.Digest(d, values) != one.Digest(d, values) || again.Digest(d, values) != one.Digest(d, values) {
		t.Error("it is another job than the one in a single file")
	}
	for step, want := range map[string]string{"step 1": "jobs/zones.toml:8:1: ", "raise": "jobs/rates.toml:3:1: ", "step 3": "jobs/main.toml:5:1: "} {
		field := map[string]string{"step 1": "where", "raise": "table", "step 3": "table"}[step]
		if got := again.At(&change.FieldError{Step: step, Field: field, Err: errors.New("x")}).Error(); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, expected %s…", step, got, want)
		}
	}
	for _, x := range []struct{ main, want string }{
		{"include = [\"zones.toml\", \"zones.toml\"]\n", `jobs/main.toml:1:1: include: two steps are called "step 1"`},
		{"include = [\"gone.toml\"]\n", "jobs/main.toml:1:1: include: gone.toml cannot be read: no such file"},
		{"include = [\"../zones.toml\"]\n", "not the name of another job in the same folder"},
		{"include = [\"main.toml\"]\n", "not the name of another job"},
		{"include = [\"nested.toml\"]\n", "jobs/nested.toml:1:1: a job that another one includes"},
		{"include = [\"limits.toml\"]\n", "jobs/limits.toml:1:1: a job that another one includes"},
		{"include = [\"broken.toml\"]\n", "jobs/broken.toml:3:"},
		{"include = [\"marked.toml\"]\n", "cannot stand in one of these jobs"},
		{"include = [\"zones.toml\"]\n[param.to]\ntype = \"integer\"\n", "jobs/main.toml:3:1: param.to is integer here and text in a job that is included"},
		{"include = [\"zones.toml\", \"number.toml\"]\n", "called"},
		{"include = [\"rates.toml\"]\n[[step]]\nname = \"raise\"\ntable = \"t\"\nput = { n = 1 }\n", `jobs/main.toml:3:1: two steps are called "raise"`},
		{"[[step]]\ntable = \"t\"\nput = { n = 1 }\n#: x\n", "which stands only between jobs"},
		{"title = \"x\"\n", "the job has no [[step]]"},
	} {
		if _, err := bundled(x.main, others); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, expected %s", x.main, err, x.want)
		}
	}
	if _, err := Parse("main.toml", []byte("include = [\"zones.toml\"]\n")); err == nil || !strings.Contains(err.Error(), "the text of zones.toml is not there") {
		t.Error(err)
	}
}
