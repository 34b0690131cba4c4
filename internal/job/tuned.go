package job

import (
	"errors"
	"fmt"
	"sort"
	"strings"
)

// Tuning is how a job is to be carried out from now on, as a trial has found.
type Tuning struct {
	Methods []string // of each step; "" leaves it as it is
	Workers int      // of the whole job; 0 leaves it as it is
}

// Tuned is the job's file with another way to carry it out; all else in it stays as its author wrote
// it, comments and blanks included.
func (j *Job) Tuned(t Tuning) (string, error) {
	if j.Source.SQL {
		return "", errors.New("one statement has no file")
	}
	if own, _ := unbundle([]byte(j.Source.Text)); len(own) < len(j.Source.Text) {
		return "", errors.New("the job is of several files; write the method and the workers where they belong")
	}
	e := editor{j: j, lines: strings.SplitAfter(j.Source.Text, "\n")}
	for i, m := range t.Methods {
		if m != "" {
			if err := e.set(fmt.Sprintf("step.%d", i), "method", fmt.Sprintf("%q", m)); err != nil {
				return "", err
			}
		}
	}
	if t.Workers > 0 {
		if _, ok := j.places["limits"]; ok {
			if err := e.set("limits", "workers", fmt.Sprint(t.Workers)); err != nil {
				return "", err
			}
		} else {
			first, ok := j.places["step.0"]
			if !ok {
				return "", errors.New("the file has no step")
			}
			e.insert(first.Line, fmt.Sprintf("[limits]\nworkers = %d\n\n", t.Workers))
		}
	}
	text := e.text()
	made, err := Parse(j.Source.Name, []byte(text))
	if err != nil {
		return "", fmt.Errorf("it is written in a way that cannot be changed like this: %w", err)
	}
	for i, m := range t.Methods {
		if m != "" && made.Steps[i].Method != m {
			return "", fmt.Errorf("the method of step %q cannot be written there", made.Steps[i].Name)
		}
	}
	return text, nil
}

// editor changes lines of a file.
type editor struct {
	j        *Job
	lines    []string
	replaced map[int]string // by the line's number, from 1
	before   []insertion
}

type insertion struct {
	line int // before which
	text string
}

func (e *editor) insert(line int, text string) { e.before = append(e.before, insertion{line, text}) }

// set writes a key of a table: in its line, if it has one of its own, else under the header.
func (e *editor) set(table, key, value string) error {
	if at, ok := e.j.places[table+"."+key]; ok {
		line := e.lines[at.Line-1]
		name, _, found := strings.Cut(line[min(at.Column-1, len(line)):], "=")
		if !found || strings.TrimSpace(name) != key || strings.TrimSpace(line[:at.Column-1]) != "" {
			return fmt.Errorf("line %d holds more than %s: change it by hand, to %s = %s", at.Line, key, key, value)
		}
		if e.replaced == nil {
			e.replaced = map[int]string{}
		}
		end := "\n"
		if strings.HasSuffix(line, "\r\n") {
			end = "\r\n"
		} else if !strings.HasSuffix(line, "\n") {
			end = ""
		}
		comment := ""
		if i := strings.Index(line, "#"); i >= 0 && !strings.ContainsAny(line[i:], `"'`) {
			comment = " " + strings.TrimRight(line[i:], "\r\n")
		}
		e.replaced[at.Line] = line[:at.Column-1] + name + "= " + value + comment + end
		return nil
	}
	at, ok := e.j.places[table]
	if !ok {
		return fmt.Errorf("the file has no table %s of its own", table)
	}
	header := strings.TrimSpace(e.lines[at.Line-1])
	if !strings.HasPrefix(header, "[") {
		return fmt.Errorf("%s is not written as a table with a header: add %s = %s by hand", table, key, value)
	}
	e.insert(at.Line+1, fmt.Sprintf("%s = %s\n", key, value))
	return nil
}

// text is the file as it is then.
func (e *editor) text() string {
	sort.SliceStable(e.before, func(a, b int) bool { return e.before[a].line < e.before[b].line })
	var b strings.Builder
	for i, line := range e.lines {
		for len(e.before) > 0 && e.before[0].line == i+1 {
			b.WriteString(e.before[0].text)
			e.before = e.before[1:]
		}
		if r, ok := e.replaced[i+1]; ok {
			line = r
		}
		b.WriteString(line)
	}
	for _, x := range e.before {
		if s := b.String(); !strings.HasSuffix(s, "\n") {
			b.WriteByte('\n')
		}
		b.WriteString(x.text)
	}
	return b.String()
}
