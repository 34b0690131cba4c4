package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/harbour"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// demoSchema is where the demo lives on a server.
const demoSchema = "saltmere"

func (a *app) demo() *cli.Command {
	return &cli.Command{
		Name:      "demo",
		Usage:     "make the demo database and its jobs in DIR, and run the whole order of work on it",
		ArgsUsage: "[DIR]",
		Description: "The demo is the books of Saltmere, a made-up port authority: SQLite in DIR (a temporary folder if none is given),\n" +
			"or, on the server given as --db, the schema (PostgreSQL) or database (MariaDB) " + demoSchema + ".\n\n" + example("jugatum demo --rows 100000 saltmere"),
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "rows", Value: 20_000, Usage: "rows of the biggest table, 1000 to 10000000"},
			&cli.IntFlag{Name: "seed", Value: 1, Usage: "the same seed makes the same data"},
			&cli.BoolFlag{Name: "only-data", Usage: "make database and jobs, run nothing"},
		},
		Action: a.runDemo,
	}
}

func (a *app) runDemo(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usagef("one folder at most; see `jugatum demo --help`")
	}
	dir := c.Args().First()
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "saltmere-"); err != nil {
			return err
		}
	} else if err := os.MkdirAll(dir, 0o755); err != nil {
		return usagef("the folder %s cannot be made: %v", dir, err)
	}
	rows := int(c.Int("rows"))
	if rows < harbour.Least || rows > harbour.Most {
		return usagef("--rows %d: the demo can have %d to %d visits", rows, harbour.Least, harbour.Most)
	}
	target := c.String("db")
	if !a.given("db") {
		target = "" // the demo never goes into a database that the environment names for other work
	}
	begun := time.Now()
	db, dbURL, err := a.demoDB(ctx, target, dir)
	if err != nil {
		return err
	}
	defer db.Close()
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum demo", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	err = harbour.Load(ctx, s, db.Dialect(), uint64(c.Int("seed")), rows)
	s.Close()
	if err != nil {
		return err
	}
	if err := analyze(ctx, db); err != nil {
		return err
	}
	jobs, err := harbour.WriteJobs(dir, db.Dialect())
	if err != nil {
		return err
	}
	a.say("Saltmere's books are in %s, with %s visits (made in %s). The jobs are in %s.", db.Name(), term.Count(int64(rows)), term.Duration(time.Since(begun)), dir)
	if c.Bool("only-data") {
		return nil
	}
	at := demoPlace{url: dbURL}
	if a.given("ledger") {
		at.ledger = c.String("ledger")
	}
	return a.demoWork(ctx, at, jobs, dir)
}

// demoPlace is the demo's database, and where its ledger is; "" for the usual place.
type demoPlace struct{ url, ledger string }

// args are the options that name it.
func (p demoPlace) args() []string {
	return []string{"--db", p.url, "--ledger", p.ledger}
}

func (p demoPlace) String() string {
	text := " --db " + engine.SafeURL(p.url)
	if p.ledger != "" {
		text += " --ledger " + p.ledger
	}
	return text
}

// demoDB makes the place for the demo: a new file, or a new schema.
func (a *app) demoDB(ctx context.Context, target, dir string) (engine.DB, string, error) {
	if target == "" {
		path := filepath.Join(dir, "saltmere.db")
		if _, err := os.Stat(path); err == nil {
			return nil, "", refusef("%s is there already; remove it, or name another folder", path)
		}
		f, err := create(path)
		if err != nil {
			return nil, "", err
		}
		f.Close()
		dbURL := "sqlite:" + path
		db, err := openURL(ctx, dbURL)
		if err != nil {
			return nil, "", err
		}
		return db, dbURL, a.sqliteWAL(ctx, db)
	}
	u, err := url.Parse(target)
	if err != nil || u.Host == "" {
		return nil, "", usagef("the demo goes into a new SQLite file, or onto the server given as --db postgres://… or mariadb://…")
	}
	plain, err := openURL(ctx, target)
	if err != nil {
		return nil, "", err
	}
	defer plain.Close()
	maker, ok := plain.(engine.SchemaMaker)
	if !ok {
		return nil, "", usagef("no place for the demo can be made in %s; give --db sqlite:PATH of a new file, or a server", plain.Name())
	}
	s, err := plain.Session(ctx, engine.SessionOptions{Purpose: "jugatum demo", LockTimeout: 5 * time.Second})
	if err != nil {
		return nil, "", err
	}
	defer s.Close()
	drop, err := maker.MakeSchema(ctx, s, demoSchema, u)
	if err != nil {
		return nil, "", err
	}
	if drop != "" {
		return nil, "", refusef("%s has a %s already; `%s` makes room for a new one", plain.Name(), demoSchema, drop)
	}
	db, err := openURL(ctx, u.String())
	return db, u.String(), err
}

// sqliteWAL turns the new file to write-ahead logging, as a busy file would have it.
func (a *app) sqliteWAL(ctx context.Context, db engine.DB) error {
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	var mode string
	return s.Conn.QueryRowContext(ctx, "PRAGMA journal_mode = WAL").Scan(&mode)
}

func analyze(ctx context.Context, db engine.DB) error {
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum demo", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	for _, t := range harbour.Tables {
		if text := db.Dialect().Analyze(t); text != "" {
			if _, err := s.Conn.ExecContext(ctx, text); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *app) say(format string, args ...any) {
	a.out.Printf("%s\n", a.out.Paint(term.Accent, fmt.Sprintf(format, args...)))
}

// step tells what comes, shows the command, and carries it out.
func (a *app) step(ctx context.Context, told string, at demoPlace, args ...string) error {
	a.out.Printf("\n")
	a.say("%s", told)
	a.out.Printf("%s jugatum %s\n\n", a.out.Paint(term.Faint, "$"), strings.Join(args, " ")+at.String())
	return a.root().Run(ctx, append(append([]string{"jugatum"}, args...), at.args()...))
}

// demoWork goes through the order of work.
func (a *app) demoWork(ctx context.Context, at demoPlace, jobs []string, dir string) error {
	job := filepath.Join(dir, "quay-ids.toml")
	if err := a.step(ctx, "1. Look: what tables are there, and what matters to a change in batches?", at, "survey"); err != nil {
		return err
	}
	text, err := os.ReadFile(job)
	if err != nil {
		return err
	}
	a.out.Printf("\n")
	a.say("2. The job. The visits name their quay in words; they are to point to it instead.")
	a.out.Printf("%s cat %s\n\n%s", a.out.Paint(term.Faint, "$"), job, text)
	if err := a.step(ctx, "3. Preview: which rows, before and after. Nothing is changed.", at, "preview", job); err != nil {
		return err
	}
	n, err := a.demoCount(ctx, at.url, job)
	if err != nil {
		return err
	}
	if err := a.step(ctx, "4. Run, in batches. Without a terminal the number of rows is given; at one it is asked for.", at, "run", job, "--accept", fmt.Sprint(n)); err != nil {
		return err
	}
	run, err := lastRun(ctx, at)
	if err != nil {
		return err
	}
	if err := a.step(ctx, "5. Verify: did exactly that happen?", at, "verify", run); err != nil {
		return err
	}
	changed := run
	if err := a.step(ctx, "6. It was wrong after all? Undo puts the old values back, in batches again.", at, "undo", run); err != nil {
		return err
	}
	if run, err = lastRun(ctx, at); err != nil {
		return err
	}
	if err := a.step(ctx, "7. And was it put back?", at, "verify", run); err != nil {
		return err
	}
	list := filepath.Join(dir, "rates-2027.toml")
	if n, err = a.demoCount(ctx, at.url, list); err != nil {
		return err
	}
	if err := a.step(ctx, "8. A list from a file: new rates, line by line accounted for; two of its lines name berths that there are not.", at, "run", list, "--accept", fmt.Sprint(n)); err != nil {
		return err
	}
	if run, err = lastRun(ctx, at); err != nil {
		return err
	}
	calls := filepath.Join(dir, "crane-moves.toml")
	if n, err = a.demoCount(ctx, at.url, calls); err != nil {
		return err
	}
	err = a.step(ctx, "9. A statement for each line of a file; one of them the database refuses, and it is set aside.", at, "run", calls, "--accept", fmt.Sprint(n), "--set-aside", "1", "--despite", "no-undo")
	if aside := (*asideError)(nil); !errors.As(err, &aside) { // which is what is to be shown
		return errors.Join(err, errors.New("no line was set aside"))
	}
	a.err.Printf("%v\n", err)
	if err := a.step(ctx, "10. What was run here:", at, "runs"); err != nil {
		return err
	}
	page := unused(filepath.Join(dir, "run-"+changed), ".html")
	if err := a.step(ctx, "11. A page about the first of them, for whoever has to see what was done, what it cost and that it was right:", at, "report", changed, "-o", page); err != nil {
		return err
	}
	a.out.Printf("\n")
	a.say("Try next:")
	db := at.String()
	for _, s := range []string{
		"jugatum find http://charts.saltmere.test" + db,
		"jugatum preview " + filepath.Join(dir, "charts-https.toml") + db,
		"jugatum preview " + filepath.Join(dir, "mooring-tariff.toml") + " --param rise=1.035 --page " + filepath.Join(dir, "to-approve.html") + db,
		"jugatum run " + filepath.Join(dir, "mooring-tariff.toml") + " --param rise=1.035" + db,
		"jugatum preview --sql \"UPDATE vessel SET name = substr(name, 4) WHERE name LIKE 'MV %'\"" + db,
		"jugatum run " + filepath.Join(dir, "empty-cargo.toml") + db,
		"jugatum show " + run + " --lines " + filepath.Join(dir, "rates-done.csv") + db,
	} {
		a.out.Printf("  %s\n", s)
	}
	return nil
}

// unused is the name of a file that is not there, perhaps with a number before its end.
func unused(name, end string) string {
	path := name + end
	for n := 2; ; n++ {
		if _, err := os.Lstat(path); err != nil {
			return path
		}
		path = fmt.Sprintf("%s-%d%s", name, n, end)
	}
}

// lastRun is the number of the run made last: there may have been others before
// the demo, since PostgreSQL's ledger belongs to the whole database.
func lastRun(ctx context.Context, at demoPlace) (string, error) {
	db, err := openAt(ctx, at.url, at.ledger)
	if err != nil {
		return "", err
	}
	defer db.Close()
	runs, err := ledger.Open(db).List(ctx)
	if err != nil || len(runs) == 0 {
		return "", errors.Join(errors.New("the demo's run is not in the ledger"), err)
	}
	return fmt.Sprint(runs[0].ID), nil
}

// demoCount is the number of rows that the demo's job will change.
func (a *app) demoCount(ctx context.Context, dbURL, path string) (int64, error) {
	db, err := openURL(ctx, dbURL)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	p, err := planFile(ctx, db, path)
	if err != nil {
		return 0, err
	}
	defer p.Close()
	_, n, err := preview.Count(ctx, db, p.Changes[0])
	return n, err
}
