package ledger

import (
	"context"
	"fmt"
	"strings"
	"time"

	"jugatum/internal/engine"
)

// migrations bring a ledger of the version that is their key to the next one.
// None of their statements fails where it was carried out already: MariaDB has no
// transactions for such statements, and a kill may come between two of them.
var migrations = map[int]func(l *Ledger) []string{
	// How the lanes of a step were made is recorded. What became of rows is in one
	// table, in two before.
	2: func(l *Ledger) []string {
		d := l.db.Dialect()
		list := append(d.AddColumn("@step", "walk", "{text}", "''"), d.RenameColumn("@batch", "left_alone", "skipped", "{int}"))
		if engine.DDLCommits(l.db) { // these were there, unless an earlier try has come as far as to drop them
			list = append(list, "CREATE TABLE IF NOT EXISTS @set_aside (run {int}, step {int}, n {int}, row_key {text}, new_values {text}, error {text}, at {time}, retried_at {time})",
				"CREATE TABLE IF NOT EXISTS @left_alone (run {int}, step {int}, seq {int}, row_key {text}, expected {text}, found {text})")
		}
		return append(list, made("@outcome"),
			"INSERT INTO @outcome (run, step, kind, n, row_key, detail, at, settled_at) SELECT o.run, o.step, 'set aside', o.n, o.row_key, "+d.Concat(`'{"new":'`, "o.new_values", `',"error":'`, d.JSONText("o.error"), "'}'")+
				", o.at, o.retried_at FROM @set_aside o WHERE NOT EXISTS (SELECT 1 FROM @outcome x WHERE x.run = o.run AND x.step = o.step AND x.kind = 'set aside' AND x.n = o.n)",
			"INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) SELECT o.run, o.step, 'skipped', o.seq, o.row_key, "+d.Concat(`'{"expected":'`, "o.expected", "CASE WHEN o.found = '' THEN '' ELSE "+d.Concat(`',"found":'`, "o.found")+" END", "'}'")+
				", r.started_at FROM @left_alone o JOIN @run r ON r.id = o.run WHERE NOT EXISTS (SELECT 1 FROM @outcome x WHERE x.run = o.run AND x.step = o.step AND x.kind = 'skipped' AND x.n = o.seq)",
			"DROP TABLE @set_aside", "DROP TABLE @left_alone")
	},
	// Steps have acts.
	3: func(l *Ledger) []string {
		return append([]string{made("@act")}, l.db.Dialect().AddColumn("@batch", "acts", "{text}", "''")...)
	},
	// Replicas' lag, and what happened to the server and to connections.
	4: func(l *Ledger) []string {
		return append([]string{made("@incident")}, l.db.Dialect().AddColumn("@batch", "lag_ms", "{real}", "-1")...)
	},
}

// made is the statement that makes a table of the ledger.
func made(table string) string {
	for _, text := range tables {
		if strings.HasPrefix(text, "CREATE TABLE IF NOT EXISTS "+table+" ") {
			return stripComments(text)
		}
	}
	panic("there is no table " + table)
}

// oldest is the first version that can be brought up to date.
const oldest = 2

// migrate brings the ledger from an older version to this one, in one transaction
// where the engine has that for such statements.
func (l *Ledger) migrate(ctx context.Context, from int) error {
	if from < oldest {
		return fmt.Errorf("the ledger in %s is of version %d, made by a development version of this program, which needs %d; drop its tables if their runs are not needed any more", l.db.Name(), from, Version)
	}
	s, err := l.db.Session(ctx, engine.SessionOptions{Purpose: "jugatum ledger", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := l.idle(ctx, s, from); err != nil {
		return err
	}
	for attempt := 0; ; attempt++ {
		err := l.migrateOnce(ctx, s, from)
		if err == nil {
			break
		}
		// Of two that do it at the same moment one waits, and finds it done.
		if v, verr := l.version(ctx); verr == nil && v >= Version {
			return nil
		}
		if f := l.db.Fault(err); f != engine.Busy || attempt == 5 {
			return fmt.Errorf("the ledger in %s is of version %d and could not be brought to version %d, which this program needs; a user who may alter its tables can do it by `jugatum runs`: %w", l.db.Name(), from, Version, err)
		}
	}
	if l.Migrated != nil {
		l.Migrated(from, Version)
	}
	return nil
}

// idle refuses to bring a ledger up to date while a process of the older version is
// at work on a run of it, which goes by the tables as they are.
func (l *Ledger) idle(ctx context.Context, s *engine.Session, from int) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT "+runColumns+" FROM @run r WHERE r.status = 'running'"))
	if err != nil {
		return err
	}
	defer rows.Close()
	var list []*Run
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return err
		}
		list = append(list, r)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, r := range list {
		free := l.Free(r) == nil
		if locker, ok := l.db.(engine.RunLocker); ok && locker.HasRunLock() {
			if free, err = locker.LockRun(ctx, s, r.ID, time.Second); err != nil {
				return err
			}
		}
		if !free {
			return fmt.Errorf("the ledger in %s is of version %d, and an earlier version of this program is at work on run %d; it is brought to version %d once that run has ended, or was stopped", l.db.Name(), from, r.ID, Version)
		}
	}
	return nil
}

func (l *Ledger) migrateOnce(ctx context.Context, s *engine.Session, from int) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for v := from; v < Version; v++ {
		for _, text := range migrations[v](l) {
			if _, err := tx.Exec(ctx, l.sql(text)); err != nil {
				return err
			}
		}
	}
	if _, err := tx.Exec(ctx, l.sql("INSERT INTO @ledger (version, made_at) VALUES (?, ?)"), Version, stamp(time.Now())); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// version reads which version the ledger is of; 0: left unfinished, where tables
// cannot be made in a transaction.
func (l *Ledger) version(ctx context.Context) (v int, err error) {
	err = l.db.Pool().QueryRowContext(ctx, l.sql("SELECT coalesce(max(version), 0) FROM @ledger")).Scan(&v)
	return v, err
}
