package ledger

import (
	"context"
	"fmt"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// migrations bring a ledger of the version that is their key to the next one.
// None of their statements fails where it was carried out already: MariaDB has no
// transactions for such statements, and a kill may come between two of them. What
// a program of the older version is in the middle of must be able to end.
var migrations = map[int]func(sqltext.Dialect) []string{
	2: func(d sqltext.Dialect) []string {
		switch d {
		case sqltext.MariaDB:
			return []string{"ALTER TABLE @step ADD COLUMN IF NOT EXISTS walk {text} NOT NULL DEFAULT ''", "ALTER TABLE @step MODIFY COLUMN walk {text} NOT NULL"}
		case sqltext.SQLite: // the default stays: there is no taking it away
			return []string{"ALTER TABLE @step ADD COLUMN walk {text} NOT NULL DEFAULT ''"}
		}
		return []string{"ALTER TABLE @step ADD COLUMN walk {text} NOT NULL DEFAULT ''", "ALTER TABLE @step ALTER COLUMN walk DROP DEFAULT"}
	},
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

func (l *Ledger) migrateOnce(ctx context.Context, s *engine.Session, from int) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for v := from; v < Version; v++ {
		for _, text := range migrations[v](l.db.Dialect()) {
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
