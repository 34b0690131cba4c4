package job

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind/shape"
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
		{"include = [\"marked.toml\"]\n", "cannot stand in this job"},
		{"include = [\"zones.toml\"]\n[param.to]\ntype = \"integer\"\n", "jobs/main.toml:3:1: param.to is integer here and text in a job that is included"},
		{"include = [\"zones.toml\", \"number.toml\"]\n", "called"},
		{"include = [\"rates.toml\"]\n[[step]]\nname = \"raise\"\ntable = \"t\"\nput = { n = 1 }\n", `jobs/main.toml:3:1: two steps are called "raise"`},
		{"[[step]]\ntable = \"t\"\nput = { n = 1 }\n#: x\n", "#: "},
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

// TestMapFromAFile: a map of two columns is part of the job, wherever its text comes from.
func TestMapFromAFile(t *testing.T) {
	const job = "[[step]]\ntable = \"vessel\"\n[step.shape]\nflag = [\"trim\", { map = \"flags.csv\", otherwise = \"refuse\" }]\n"
	flags := "old,new\nGB,UK\n\" x, y\",\"\"\n"
	files := map[string]string{"flags.csv": flags, "wide.csv": "a,b,c\n1,2,3\n", "twice.csv": "a,b\nx,1\nx,2\n", "none.csv": "a,b\n", "bad.csv": "a,b\n1\n", "flags.tsv": "old\tnew\nGB\tUK\n",
		"sub.toml": strings.Replace(job, "vessel", "visit", 1)}
	j, err := bundled(job, files)
	if err != nil {
		t.Fatal(err)
	}
	inline, err := Parse("x.toml", []byte(strings.Replace(job, `"flags.csv"`, `{ GB = "UK", " x, y" = "" }`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	again, err := Restore(j.Source)
	if err != nil {
		t.Fatal(err)
	}
	d := dialect.SQLite
	if j.Digest(d, nil) != inline.Digest(d, nil) || again.Digest(d, nil) != inline.Digest(d, nil) {
		t.Error("it is another job than the one with the map in it")
	}
	files["flags.csv"] += "NL,HL\n"
	if other, err := bundled(job, files); err != nil || other.Digest(d, nil) == j.Digest(d, nil) {
		t.Errorf("with another map it is the same job (%v)", err)
	}
	if two, err := bundled("include = [\"sub.toml\"]\n"+job, map[string]string{"flags.csv": flags, "sub.toml": strings.Replace(files["sub.toml"], "[[step]]", "[[step]]\nname = \"of visits\"", 1)}); err != nil || len(two.Steps) != 2 {
		t.Error(err)
	}
	for file, want := range map[string]string{"gone.csv": "jobs/main.toml: map: gone.csv cannot be read", "../flags.csv": "not the name of a file in the same folder", "wide.csv": "jobs/main.toml:4:1: shape.flag: map: wide.csv has 3 columns, not two",
		"twice.csv": `twice.csv:3: "x" stands there twice`, "none.csv": "no line after its header", "bad.csv": "bad.csv:2", "flags.tsv": ""} {
		_, err := bundled(strings.Replace(job, "flags.csv", file, 1), files)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v, expected %s", file, err, want)
		}
	}
	if _, err := Parse("x.toml", []byte(job)); err == nil || !strings.Contains(err.Error(), "the text of flags.csv is not there") {
		t.Error(err)
	}
}

// TestNamedTransforms: what let names stands for its transforms wherever a column is made of it.
func TestNamedTransforms(t *testing.T) {
	const head = "[[step]]\ntable = \"visit\"\n"
	read := func(text string) ([]shape.Column, error) {
		j, err := Parse("x.toml", []byte(head+text))
		if err != nil {
			return nil, err
		}
		return j.Steps[0].Kind.(*shape.Step).Columns, nil
	}
	named, err := read("[step.let]\nplain = [{ of = \"note\" }, { decode = \"html\" }, \"trim\"]\nplace = [{ of = \"Plain\" }, { after = \"zone \" }]\n[step.shape]\nnote = { of = \"plain\" }\nzone = [{ of = \"place\" }, \"upper\"]\n")
	if err != nil {
		t.Fatal(err)
	}
	whole, err := read("[step.shape]\nnote = [{ of = \"note\" }, { decode = \"html\" }, \"trim\"]\nzone = [{ of = \"note\" }, { decode = \"html\" }, \"trim\", { after = \"zone \" }, \"upper\"]\n")
	if err != nil || !reflect.DeepEqual(named, whole) {
		t.Errorf("%v: %+v, expected %+v", err, named, whole)
	}
	for text, want := range map[string]string{
		"[step.let]\na = [\"trim\"]\n[step.shape]\nnote = { of = \"a\" }\n":                                                 "x.toml:4:1: step \"step 1\": let.a: a list of transforms begins with { of",
		"[step.let]\na = [{ of = \"b\" }, \"trim\"]\nb = [{ of = \"a\" }, \"trim\"]\n[step.shape]\nnote = { of = \"a\" }\n": "x.toml:4:1: step \"step 1\": let.a: let.a is made of itself",
		"[step.let]\na = [{ of = \"a\" }, \"trim\"]\n[step.shape]\nnote = \"trim\"\n":                                       "x.toml:4:1: step \"step 1\": let.a: let.a is made of itself",
		"[step.let]\na = [{ of = \"note\" }, \"trimm\"]\n[step.shape]\nnote = \"trim\"\n":                                   "x.toml:4:1: step \"step 1\": let.a: there is no transform",
		"[step.let]\na = [{ of = \"note\" }, \"trim\"]\nA = \"note\"\n[step.shape]\nnote = \"trim\"\n":                      "x.toml:5:1: step \"step 1\": let.A: there are two values of this name",
		"[step.let]\na = 1\n[step.shape]\nnote = \"trim\"\n":                                                                "x.toml:4:1: step \"step 1\": let.a: it is an SQL expression",
		"set = { note = \"a\" }\n[step.let]\na = [{ of = \"note\" }, \"trim\"]\n":                                           "x.toml:5:1: step \"step 1\": let.a: it is an SQL expression, as a text; in a step with shape",
	} {
		if _, err := read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, expected %s", text, err, want)
		}
	}
}
