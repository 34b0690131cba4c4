package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

const growthHead = `Every kind of step, each command on it, at a tenth of the rows and at all of them: how many times as long ten times the rows take, and the most memory that the program had at all of them. A command that takes more than 13 times as long, and more than a second, is marked; one that has not ended within the limit is told as such.

| engine | kind | command | a tenth | all | times | memory |
|---|---|---|---|---|---|---|
`

// tooSteep is how many times as long ten times the rows may take before a command is marked: what
// goes over an index, or sorts, takes a little more than ten times.
const tooSteep = 13

// grown is a kind of step as it is tried at two sizes.
type grown struct {
	name   string
	job    func(b *bench, dir string) (string, error)
	merge  bool // over the tables of duplicates
	named  bool // over those, each with a name of its own, by which it is found
	refers bool // rows of another table go along
	line   bool // what became of its lines is asked for
	calls  bool // what it does cannot be taken back
}

// text is a job that is the same whatever the engine and the size.
func text(s string) func(*bench, string) (string, error) {
	return func(*bench, string) (string, error) { return s, nil }
}

func listed(keys string, line func(i int) string, head string, count func(rows int) int) func(*bench, string) (string, error) {
	return func(b *bench, dir string) (string, error) {
		var s strings.Builder
		s.WriteString(head + "\n")
		for i := 1; i <= count(b.rows); i++ {
			s.WriteString(line(i) + "\n")
		}
		path := filepath.Join(dir, "growth.csv")
		return "[[step]]\n" + fmt.Sprintf(keys, path), os.WriteFile(path, []byte(s.String()), 0o644)
	}
}

func every(rows int) int { return rows }

// tossed is a number from 1 to rows for each of as many numbers, in no order: rows is a power of ten.
func tossed(i, rows int) int { return 1 + i*7919%rows }

func grownKinds() []grown {
	const sum = "SELECT visit_id, sum(tonnes) AS tonnes FROM cargo GROUP BY visit_id"
	return []grown{
		{name: "every row computed", job: text("[[step]]\nsql = \"UPDATE visit SET dues = dues + 1 WHERE id > 0\"\n")},
		{name: "two steps over the same rows", job: text("[[step]]\nsql = \"UPDATE visit SET dues = dues + 1 WHERE id > 0\"\n[[step]]\nsql = \"UPDATE visit SET berth = berth + 1 WHERE id > 0\"\n")},
		{name: "the first half by an order", job: func(b *bench, _ string) (string, error) {
			return fmt.Sprintf("[[step]]\ntable = \"visit\"\nset = { dues = \"dues + 1\" }\norder = \"dues, id\"\nfirst = %d\n", b.rows/2), nil
		}},
		{name: "text replaced", job: text("[[step]]\nin = [\"visit.note\"]\nreplace = { find = \"o\", with = \"oo\" }\n")},
		{name: "text replaced, every column", job: text("[[step]]\nin = [\"visit.*\"]\nreplace = { find = \"http\", with = \"https\", case = \"keep\" }\n")},
		{name: "a chain of transforms", job: text("[[step]]\ntable = \"visit\"\nshape = { note = [\"collapse\", \"upper\"] }\n")},
		{name: "filled by a key", job: text("[[step]]\ntable = \"visit\"\nfrom = \"rate\"\nmatch = { berth = \"berth\" }\nfill = { dues = \"day_rate\" }\n")},
		{name: "filled from sums", job: text("[[step]]\ntable = \"visit\"\nfrom = \"(" + sum + ")\"\nmatch = { id = \"visit_id\" }\nfill = { dues = \"tonnes\" }\n")},
		{name: "filled by the first of several", job: text("[[step]]\ntable = \"visit\"\nfrom = \"cargo\"\nmatch = { id = \"visit_id\" }\nfill = { dues = \"tonnes\" }\npick = \"tonnes DESC, line\"\nunmatched = \"null\"\n")},
		{name: "moved", job: text("[[step]]\ntable = \"visit\"\nwhere = \"berth < 499\"\nmove_to = \"visit_archive\"\n")},
		{name: "copied", job: text("[[step]]\ntable = \"visit\"\nwhere = \"berth < 499\"\ncopy_to = \"visit_archive\"\n")},
		{name: "deleted with those that refer", refers: true, job: text("[[step]]\nsql = \"DELETE FROM visit WHERE berth < 499\"\n")},
		{name: "merged", merge: true, job: func(b *bench, _ string) (string, error) {
			s := "[[step]]\ntable = \"vessel\"\nmerge = [\"name\", \"flag\"]\nblanks = \"fill\"\n"
			if b.engine == "sqlite" {
				s += "also = [\"arrival.vessel\"]\n"
			}
			return s, nil
		}},
		{name: "merged, folded", merge: true, job: func(b *bench, _ string) (string, error) {
			s := "[[step]]\ntable = \"vessel\"\nmerge = [\"name\", \"flag\"]\nsame_as = \"folded\"\nstays = \"crew DESC, id\"\n"
			if b.engine == "sqlite" {
				s += "also = [\"arrival.vessel\"]\n"
			}
			return s, nil
		}},
		{name: "list of updates", line: true, job: func(b *bench, dir string) (string, error) {
			return listed("table = \"visit\"\nchanges = %q\nkey = [\"id\"]\naction = \"update\"\n", func(i int) string { return fmt.Sprintf("%d,%d.25", tossed(i, 2*b.rows), i%1000) }, "id,dues", every)(b, dir)
		}},
		{name: "list of upserts", line: true, job: func(b *bench, dir string) (string, error) {
			return listed("table = \"visit\"\nchanges = %q\nkey = [\"id\"]\naction = \"upsert\"\n", func(i int) string { return fmt.Sprintf("%d,%d.25,a note", tossed(i, 2*b.rows), i%1000) }, "id,dues,note", every)(b, dir)
		}},
		{name: "list by a column that is not the key", line: true, named: true, job: func(b *bench, dir string) (string, error) {
			return listed("table = \"vessel\"\nchanges = %q\nkey = [\"name\"]\naction = \"update\"\n", func(i int) string { return fmt.Sprintf("Vessel no. %d,%d", tossed(i, 2*b.rows), i%40) }, "name,crew", every)(b, dir)
		}},
		{name: "list of deletes", line: true, job: func(b *bench, dir string) (string, error) {
			return listed("table = \"visit\"\nchanges = %q\nkey = [\"id\"]\naction = \"delete\"\n", func(i int) string { return fmt.Sprint(tossed(i, 2*b.rows)) }, "id", every)(b, dir)
		}},
		{name: "list in the order of the file", line: true, job: func(b *bench, dir string) (string, error) {
			act := []string{"insert", "update", "delete"}
			return listed("table = \"visit\"\nchanges = %q\nkey = [\"id\"]\naction = { column = \"op\" }\norder = \"file\"\n", func(i int) string { return fmt.Sprintf("%s,%d,%d.25", act[i%3], tossed(i, b.rows/2), i%1000) }, "op,id,dues", every)(b, dir)
		}},
		{name: "a statement for each line", line: true, calls: true, job: func(b *bench, dir string) (string, error) {
			s, err := listed("each = %q\ncall = \"UPDATE visit SET dues = :dues WHERE id = :id\"\ntypes = { id = \"integer\", dues = \"decimal\" }\n", func(i int) string { return fmt.Sprintf("%d,%d.25", tossed(i, b.rows), i%1000) }, "id,dues", func(rows int) int { return rows / 10 })(b, dir)
			return s, err
		}},
		{name: "a last pass over late rows", job: text("[[step]]\nsql = \"UPDATE visit SET dues = 7 WHERE dues <> 7\"\nlate = \"again\"\n")},
	}
}

// took is what one command needed; over is that it was ended at the limit.
type took struct {
	seconds float64
	memory  int64 // KiB
	over    bool
	status  int
	said    string
}

// growth carries every kind out at two sizes.
func (b *bench) growth(limit time.Duration) (string, error) {
	out, rows := "", b.rows
	defer func() { b.rows = rows }()
	for _, kind := range grownKinds() {
		if !strings.Contains(kind.name, wanted) {
			continue
		}
		small := map[string]took{}
		for _, n := range []int{rows / 10, rows} {
			b.rows = n
			commands, all, err := b.grow(kind, limit)
			if err != nil {
				return "", fmt.Errorf("%s, %d rows: %w", kind.name, n, err)
			}
			for _, command := range commands {
				t := all[command]
				if n < rows {
					small[command] = t
					continue
				}
				if t.status == 3 && command == "trial" {
					continue // there is one way to carry it out
				}
				line := growthLine(b.engine, kind.name, command, small[command], t)
				fmt.Fprint(os.Stderr, line)
				out += line
			}
		}
	}
	return out, nil
}

func growthLine(engine, kind, command string, small, large took) string {
	told := func(t took) string {
		switch {
		case t.over:
			return fmt.Sprintf("**not done after %.0f s**", t.seconds)
		case t.status != 0 && t.status != 5:
			return fmt.Sprintf("**exit %d after %.1f s** %s", t.status, t.seconds, t.said)
		}
		return fmt.Sprintf("%.2f s", t.seconds)
	}
	times := large.seconds / small.seconds
	mark := fmt.Sprintf("%.1f", times)
	if times > tooSteep && large.seconds > 1 {
		mark = "**" + mark + "**"
	}
	return fmt.Sprintf("| %s | %s | %s | %s | %s | %s | %d MiB |\n", engine, kind, command, told(small), told(large), mark, large.memory>>10)
}

// prepare makes the tables of a kind and its job; done takes away what the job needs.
func (b *bench) prepare(kind grown) (job string, done func(), err error) {
	dir, err := os.MkdirTemp(filepath.Dir(b.bin), "growth-")
	if err != nil {
		return "", nil, err
	}
	defer func() {
		if err != nil {
			os.RemoveAll(dir)
		}
	}()
	b.sources, b.refers = true, kind.refers
	if err := b.fresh(); err != nil {
		return "", nil, err
	}
	if kind.merge || kind.named {
		if err := b.mergeSetup(); err != nil {
			return "", nil, err
		}
	}
	if kind.named {
		for _, text := range []string{"UPDATE vessel SET name = concat('Vessel no. ', id)", "CREATE UNIQUE INDEX vessel_name ON vessel (name)"} {
			if _, err := b.db.Exec(text); err != nil {
				return "", nil, err
			}
		}
	}
	text, err := kind.job(b, dir)
	if err != nil {
		return "", nil, err
	}
	job = filepath.Join(dir, "job.toml")
	return job, func() { os.RemoveAll(dir) }, os.WriteFile(job, []byte(text), 0o644)
}

// despite is what a person has to say before a kind runs.
func (k grown) despite() []string {
	if k.calls {
		return []string{"--despite", "no-undo"}
	}
	return nil
}

// grow carries one kind out, and has each command look at it.
func (b *bench) grow(kind grown, limit time.Duration) (commands []string, all map[string]took, err error) {
	job, done, err := b.prepare(kind)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	dir, despite := filepath.Dir(job), kind.despite()
	all = map[string]took{}
	ask := func(name string, args ...string) took {
		t := b.within(limit, args...)
		commands, all[name] = append(commands, name), t
		return t
	}
	ask("preview", append([]string{"preview", job}, despite...)...)
	ask("trial", "trial", "--spend", "10s", job)
	if t := ask("run", append([]string{"run", "--accept", "any", job}, despite...)...); t.over || (t.status != 0 && t.status != 5) {
		return commands, all, nil
	}
	ask("show", "show", "1")
	if kind.line {
		ask("show --lines", "show", "1", "--lines", filepath.Join(dir, "lines.csv"))
	}
	ask("verify", "verify", "1")
	ask("report", "report", "1", "-o", filepath.Join(dir, "report.html"))
	if kind.calls {
		return commands, all, nil
	}
	ask("kept --write", "kept", "1", "--write", filepath.Join(dir, "kept.csv"))
	ask("undo", "undo", "1")
	ask("verify of the undo", "verify", "2")
	ask("prune", "prune", "--run", "1", "--yes")
	return commands, all, nil
}

// within has the program do something, and ends it after the limit.
func (b *bench) within(limit time.Duration, args ...string) took {
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	cmd := exec.CommandContext(ctx, b.bin, append([]string{"--db", b.url}, args...)...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGINT) }
	cmd.WaitDelay = 10 * time.Second
	var said strings.Builder
	cmd.Stderr = &said
	begun := time.Now()
	_, err := cmd.Output()
	t := took{seconds: time.Since(begun).Seconds(), over: ctx.Err() != nil}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		t.status = exit.ExitCode()
		lines := strings.Split(strings.TrimSpace(said.String()), "\n")
		t.said = lines[len(lines)-1]
	} else if err != nil {
		t.status, t.said = -1, err.Error()
	}
	if use, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		t.memory = use.Maxrss
	}
	return t
}
