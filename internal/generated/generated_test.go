package generated

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite"

	"jugatum/internal/cli"
	"jugatum/internal/testserver"
)

// JUGATUM_CASES is how many cases an engine has, JUGATUM_SEED where they begin,
// JUGATUM_CASE one case to look at, and JUGATUM_BIN another program to hold
// against the statements than the code here.

var (
	bin string // the built program, for what cannot be done within this process
	pg  *testserver.Postgres
	my  *testserver.MariaDB
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		mysql.SetLogger(log.New(io.Discard, "", 0))
		dir, err := os.MkdirTemp("", "jugatum-generated-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		if bin = os.Getenv("JUGATUM_BIN"); bin == "" {
			bin = filepath.Join(dir, "jugatum")
			build := exec.Command("go", "build", "-o", bin, "jugatum/cmd/jugatum")
			build.Env = append(os.Environ(), "CGO_ENABLED=0")
			if out, err := build.CombinedOutput(); err != nil {
				fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
				return 1
			}
		}
		os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")) // where the key of this user is
		var noPG, noMy error
		if pg, noPG = testserver.StartPostgres("fsync=off", "max_connections=100", "autovacuum=off"); pg != nil {
			defer pg.Stop()
		}
		if my, noMy = testserver.StartMariaDB("innodb-flush-log-at-trx-commit=0", "log-bin=bin", "binlog-format=ROW", "sync-binlog=0"); my != nil {
			defer my.Stop()
		}
		if my != nil {
			noMy = adminExec("mysql", my.DSN("mysql"), append(testserver.Zones, "SET GLOBAL time_zone = '"+inZone+"'")...)
		}
		for _, err := range []error{noPG, noMy} {
			if err != nil && (os.Getenv("CI") != "" || !errors.Is(err, testserver.ErrMissing)) {
				fmt.Fprintln(os.Stderr, err)
				return 1
			}
		}
		os.Unsetenv("JUGATUM_DB")
		return m.Run()
	}())
}

// TestGenerated holds runs against plain statements, case after case.
func TestGenerated(t *testing.T) {
	if text := os.Getenv("JUGATUM_CASE"); text != "" {
		c, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		h, err := newHouse(t.TempDir(), c.Engine, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer h.close()
		if x := h.try(c); x.fault != "" {
			t.Error(x.told())
		} else {
			t.Log(x.told())
		}
		return
	}
	cases, first := 150, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("JUGATUM_CASES")); err == nil {
		cases = n
	}
	if n, err := strconv.ParseUint(os.Getenv("JUGATUM_SEED"), 10, 64); err == nil {
		first = n
	}
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		if engine == "postgres" && pg == nil || engine == "mariadb" && my == nil {
			continue
		}
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			many(t, engine, first, cases)
		})
	}
}

// many tries cases by two at a time.
func many(t *testing.T, engine string, first uint64, cases int) {
	var next atomic.Uint64
	next.Store(first)
	var mu sync.Mutex
	outcomes, faults := map[string]int{}, 0
	dirs := []string{t.TempDir(), t.TempDir()}
	var group sync.WaitGroup
	for w := range dirs {
		group.Add(1)
		go func() {
			defer group.Done()
			h, err := newHouse(dirs[w], engine, w)
			if err != nil {
				t.Error(err)
				return
			}
			defer h.close()
			for {
				seed := next.Add(1) - 1
				c := New(engine, seed)
				if of := int(seed-first) - cases; of >= 2*len(otherKeys[engine]) {
					return
				} else if of >= 0 { // few of the others have such keys
					c = withOtherKey(c, of)
				}
				x := h.try(c)
				mu.Lock()
				outcomes[x.outcome]++
				if x.fault != "" {
					faults++
				}
				many := faults > 20
				mu.Unlock()
				if x.fault == "" {
					continue
				}
				kind, _, _ := strings.Cut(x.fault, ":")
				small := Shrink(x.Choice, func(c Choice) bool {
					k, _, _ := strings.Cut(h.try(c).fault, ":")
					return k == kind
				})
				if again := h.try(small); again.fault != "" {
					x = again
				}
				t.Errorf("seed %d, made smaller:\n%s", seed, x.told())
				if many {
					return
				}
			}
		}()
	}
	group.Wait()
	t.Logf("%s: %d cases from seed %d: %v", engine, cases, first, outcomes)
}

// result is what came of a case.
type result struct {
	Case
	outcome string   // in a word
	fault   string   // what must not be, "" if nothing
	said    []string // by the program
}

func (x result) told() string {
	return fmt.Sprintf("%s\nJUGATUM_CASE=%q\n%s;\n\n%srun --sql %q %s\n%s\n%s", x.fault, x.Choice.String(), strings.Join(x.Setup, ";\n"), x.Job, x.SQL, strings.Join(x.Args, " "), x.outcome, strings.Join(x.said, "\n"))
}

// program runs the program on our copy.
func (h *house) program(args ...string) (status int, out, errs string) {
	args = append(args, "--db", h.url)
	if os.Getenv("JUGATUM_BIN") != "" {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, bin, args...)
		var a, b strings.Builder
		cmd.Stdout, cmd.Stderr = &a, &b
		cmd.Run()
		return cmd.ProcessState.ExitCode(), a.String(), b.String()
	}
	open := func(name string) *os.File {
		f, err := os.Create(filepath.Join(h.dir, name))
		if err != nil {
			panic(err)
		}
		return f
	}
	a, b := open("out"), open("err")
	none, err := os.Open(os.DevNull)
	if err != nil {
		panic(err)
	}
	defer none.Close()
	status = cli.Main(append([]string{"jugatum"}, args...), none, a, b)
	read := func(f *os.File) string {
		text, _ := os.ReadFile(f.Name())
		f.Close()
		return string(text)
	}
	return status, read(a), read(b)
}

// killed runs the built program, and kills it and resumes the run as often as
// the case says, at some moment or other.
func (h *house) killed(c Case, args []string) (status int, out, errs string) {
	r := rand.New(rand.NewPCG(c.Seed, 22))
	for kills := 0; ; kills++ {
		cmd := exec.Command(bin, append(args, "--db", h.url)...)
		var a, b strings.Builder
		cmd.Stdout, cmd.Stderr = &a, &b
		if err := cmd.Start(); err != nil {
			panic(err)
		}
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		if kills < c.Kills {
			select {
			case <-done:
			case <-time.After(time.Duration(10+r.IntN(60)) * time.Millisecond):
				cmd.Process.Kill()
				<-done
			}
		} else {
			<-done
		}
		status, out, errs = cmd.ProcessState.ExitCode(), a.String(), b.String()
		if status != -1 { // it ended by itself
			return status, out, errs
		}
		run := "jugatum_run"
		if h.engine == "postgres" {
			run = "jugatum.run"
		}
		if ids, err := lines(h.ours, "SELECT max(id) FROM "+run); err == nil && len(ids) == 1 && ids[0] != "" {
			if ended, err := lines(h.ours, "SELECT status FROM "+run+" WHERE id = "+ids[0]); err == nil && len(ended) == 1 && ended[0] == "done" {
				return 0, out, errs
			}
			args = []string{"resume", ids[0]}
		}
	}
}

// try carries a case out both ways.
func (h *house) try(choice Choice) result {
	x := result{Case: Write(choice)}
	if choice.Seed%10 == 3 && os.Getenv("JUGATUM_BIN") == "" && choice.Kills == 0 {
		x.Kills = 1 + int(choice.Seed/10%3)
	}
	fail := func(format string, args ...any) result {
		x.fault = fmt.Sprintf(format, args...)
		return x
	}
	say := func(what string, status int, out, errs string) {
		x.said = append(x.said, fmt.Sprintf("%s: exit status %d\n%s%s", what, status, out, errs))
	}
	zone := utc
	if x.Listed != nil { // a list in a file has texts, which cannot say which of two they are
		zone = inZone
	}
	if err := h.furnish(zone, x.Setup); err != nil {
		return fail("setup: %v", err)
	}
	all := append(append([]string(nil), x.Dumps...), x.Noted...)
	before, err := h.dump(h.ours, all)
	if err != nil {
		return fail("dump: %v", err)
	}
	orig, err := h.dump(h.ours, x.Dumps) // as far as an undo puts it back
	if err != nil {
		return fail("dump: %v", err)
	}
	if err := h.list(x.Listed, cmp.Or(x.Lines, "l")); err != nil {
		return fail("setup: %v", err)
	}
	_, plainErr := h.within(h.plain, inZone).Exec(x.SQL)
	want, err := h.dump(h.plain, all)
	if err != nil {
		return fail("dump: %v", err)
	}

	what := []string{"--sql", x.SQL}
	if x.Job != "" {
		what = []string{filepath.Join(h.dir, "job.toml")}
		if err := os.WriteFile(what[0], []byte(x.Job), 0o644); err != nil {
			return fail("setup: %v", err)
		}
	}
	args := append(append([]string{"run"}, what...), x.Args...)
	accept := "any"
	if x.Count == 1 {
		status, out, errs := h.program(append(append([]string{"preview", "--json"}, what...), without(x.Args, "--keep", "--workers", "--batch", "--every-row")...)...)
		say("preview", status, out, errs)
		var p struct{ Total int64 }
		if status == 0 && json.Unmarshal([]byte(out), &p) == nil {
			accept = fmt.Sprint(p.Total)
		}
	}
	args = append(args, "--accept", accept)
	run := h.program
	if x.Kills > 0 {
		run = func(args ...string) (int, string, string) { return h.killed(x.Case, args) }
	}
	other, err := h.other(x.Case)
	if err != nil {
		return fail("setup: %v", err)
	}
	status, out, errs := run(args...)
	other.end()
	say("run", status, out, errs)
	got, err := h.dump(h.ours, all)
	if err != nil {
		return fail("dump: %v", err)
	}
	x.outcome = fmt.Sprintf("status %d", status)
	if plainErr != nil {
		x.outcome += ", the plain statement fails"
		x.said = append(x.said, plainErr.Error())
	}
	if strings.Contains(errs, "goroutine ") {
		return fail("panic: %s", errs)
	}
	if x.Wrong && (plainErr == nil || status != 2) {
		return fail("taken: exit status %d for a statement that is none (%v)", status, plainErr)
	}
	switch status {
	case 0:
	case 2, 3:
		if !slices.Equal(got, before) && !strings.Contains(errs, "after the steps before it") {
			return fail("refused but changed: %s", first(got, before))
		}
		return x
	case 1, 6:
		// It ended midway: what it did must be taken back whole.
		if slices.Equal(got, before) {
			return x
		}
		if plainErr == nil && status == 1 && x.Trigger != 3 && !(x.Unique > 0 && x.Set == 7) && !strings.Contains(errs, "several source rows") && !strings.Contains(errs, "not valid UTF-8") {
			return fail("failed: the plain statement does not, and it ended midway: %s", errs)
		}
	default:
		return fail("status: %d", status)
	}
	if status == 0 && plainErr == nil && len(x.Once) == 0 && !slices.Equal(got, want) {
		return fail("wrong rows: %s", first(got, want))
	}
	if lost := other.lost(h.ours); lost != "" && !x.Gone {
		return fail("lost: %s", lost)
	}
	for _, q := range x.Once {
		one, perr := lines(h.plain, q)
		if n, err := lines(h.ours, q); err != nil || perr != nil || status == 0 && (one[0] == "0" || one[0] == "1") && n[0] != "0" && n[0] != "1" {
			return fail("several values: one statement writes one, the run %v (%v)", n, errors.Join(err, perr))
		}
	}
	if strings.Contains(out+errs, "nothing was done") || x.Keep == 1 {
		return x
	}
	run1 := numberOf(out) // not 1 where a killed process left tables of that number
	status, out, errs = h.program("verify", run1)
	say("verify", status, out, errs)
	if status != 0 && x.Exact && (status != 3 || !strings.Contains(x.outcome, "status 1")) {
		return fail("verify: exit status %d after %s", status, x.outcome)
	}
	was, err := h.dump(h.ours, x.Dumps)
	if err != nil {
		return fail("dump: %v", err)
	}
	status, out, errs = h.program("undo", run1, "--batch", strconv.Itoa(x.Batch+1))
	say("undo", status, out, errs)
	got, err = h.dump(h.ours, x.Dumps)
	if err != nil {
		return fail("dump: %v", err)
	}
	if status == 0 {
		// Rows that one step's undo has put back may be those of another's, whose triggers then have a say.
		if held, out, errs := h.program("verify", numberOf(out)); held != 0 && (x.Exact || x.Then == 0) {
			say("verify of the undo", held, out, errs)
			return fail("undo: exit status 0, and its verify does not hold")
		}
	}
	if lost := other.lost(h.ours); lost != "" && status == 0 && x.Exact {
		return fail("lost: after undo %s", lost)
	}
	if lost := other.orphaned(h.ours); lost != "" && status == 0 && x.Exact {
		return fail("orphaned: %s", lost)
	}
	switch {
	case status == 0 && x.Exact && !slices.Equal(got, orig):
		return fail("undo: exit status 0, and not as it was: %s", first(got, orig))
	case status == 5 && x.Exact && x.Check != 2 && x.Beside == 0 && slices.Equal(got, was) && !slices.Equal(was, orig): // a rule that is NOT VALID may refuse all of them
		return fail("undo leaves all alone: though nobody else has written")
	case status != 0 && status != 5:
		return fail("undo is a dead end: exit status %d", status)
	}
	return x
}

// without leaves options out that a preview has not, with their values.
func without(args []string, names ...string) []string {
	var out []string
	for i := 0; i < len(args); i++ {
		if !slices.Contains(names, args[i]) {
			out = append(out, args[i])
		} else if i+1 < len(args) && !strings.HasPrefix(args[i+1], "--") {
			i++
		}
	}
	return out
}

// first tells the first row that is another one.
func first(got, want []string) string {
	for i := range max(len(got), len(want)) {
		g, w := "(none)", "(none)"
		if i < len(got) {
			g = got[i]
		}
		if i < len(want) {
			w = want[i]
		}
		if g != w {
			return fmt.Sprintf("%.200s, want %.200s", g, w)
		}
	}
	return ""
}

// TestParse: a case that was written is read back.
func TestParse(t *testing.T) {
	for seed := range uint64(200) {
		c := New("sqlite", seed)
		if got, err := Parse(c.String()); err != nil || got != c {
			t.Fatalf("%s: %+v %v", c, got, err)
		}
	}
}

// numberOf reads a run's number from its summary.
func numberOf(out string) string {
	if m := regexp.MustCompile(`(?m)^run ([0-9]+) `).FindStringSubmatch(out); m != nil {
		return m[1]
	}
	return "1"
}
