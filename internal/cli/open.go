package cli

import (
	"context"
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/term"
)

// open connects to the database that --db or JUGATUM_DB names.
func (a *app) open(ctx context.Context, c *cli.Command) (engine.DB, error) {
	url := c.String("db")
	if url == "" {
		return nil, usagef("which database? Give --db sqlite:PATH, postgres://… or mariadb://…, or set JUGATUM_DB")
	}
	if a.given("db") && engine.HasPassword(url) && !a.warned {
		a.warned = true
		a.err.Printf("  %s --db holds a password, which other users of this machine can see among the processes; JUGATUM_DB, PGPASSWORD, MYSQL_PWD or PostgreSQL's password file hide it\n", a.err.Paint(term.Warn, "warning"))
	}
	place := c.String("ledger")
	if engine.IsFile(url) && !a.given("ledger") {
		place = "" // the environment names it for other databases
	}
	db, err := openAt(ctx, url, place)
	if err != nil {
		return nil, err
	}
	a.opened = append(a.opened, db)
	if x, ok := db.(engine.Exposed); ok && x.InClear() {
		a.err.Printf("  %s %s offers no TLS: what is read and written, and perhaps the password, crosses the network in clear\n", a.err.Paint(term.Warn, "warning"), term.Clean(db.Name()))
	}
	return db, nil
}

// ledger is the record in a database; that an old one was brought up to date is told.
func (a *app) ledger(db engine.DB) *ledger.Ledger {
	l := ledger.Open(db)
	l.Migrated = func(from, to int) {
		a.err.Printf("  the ledger in %s was brought from version %d to version %d\n", term.Clean(db.Name()), from, to)
	}
	return l
}

// openAt connects to a database whose ledger is in a named place, or "" where it is found.
func openAt(ctx context.Context, url, where string) (engine.DB, error) {
	db, err := openURL(ctx, url)
	if err != nil {
		return nil, err
	}
	if err := place(ctx, db, where); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// place settles where the ledger is: where the person says, or else where there is one.
func place(ctx context.Context, db engine.DB, named string) error {
	p, ok := db.(engine.LedgerPlacer)
	switch {
	case !ok && named != "":
		return usagef("--ledger %s: the ledger of an %s database is in its file; leave the option out", named, db.Dialect())
	case !ok:
		return nil
	case named != "":
		return p.PlaceLedger(ctx, named)
	}
	places, err := p.Ledgers(ctx)
	switch {
	case err != nil || len(places) == 0:
		return err
	case len(places) > 1:
		return usagef("%s has several ledgers: %s; name one with --ledger", db.Name(), strings.Join(places, ", "))
	case places[0] == p.LedgerPlace():
		return nil
	}
	return p.PlaceLedger(ctx, places[0])
}

func openURL(ctx context.Context, url string) (engine.DB, error) {
	db, err := engine.Open(ctx, url)
	var unknown *engine.SchemeError
	if errors.As(err, &unknown) {
		err = usagef("%v", err)
	}
	return db, err
}

// dbFlag is how --db is repeated in the commands we recommend.
func dbFlag(c *cli.Command, db engine.DB) string {
	if os.Getenv("JUGATUM_DB") == c.String("db") {
		return ledgerFlag(c)
	}
	name := db.Name()
	if strings.ContainsAny(name, " &?;'\"") {
		name = "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
	}
	return " --db " + name + ledgerFlag(c)
}

// ledgerFlag is how --ledger is repeated.
func ledgerFlag(c *cli.Command) string {
	named := c.String("ledger")
	if named == "" || named == os.Getenv("JUGATUM_LEDGER") {
		return ""
	}
	return " --ledger " + named
}
