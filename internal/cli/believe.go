package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/seal"
	"jugatum/internal/term"
)

// What a run's record says becomes SQL: of a resume, a verification or an undo, and where
// what was kept or the lines of a list are written into files. A
// record may have been made or changed by anybody who may write to the database. So
// each has the seal of the user who made it, and what has none is shown first.

const trustRecord = "trust-record"

func trustFlag() cli.Flag {
	return &cli.BoolFlag{Name: trustRecord, Usage: "go by a record that somebody else may have written, without being asked"}
}

// key opens this user's key.
func key() (*seal.Key, error) {
	folder, err := seal.Folder()
	if err != nil {
		return nil, err
	}
	return seal.Open(folder)
}

// sealer gives new records this user's seal, and says so where there can be none.
func (a *app) sealer() func([]byte) string {
	k, err := key()
	if err != nil {
		a.err.Printf("  %s the record of the run gets no seal, and resume, verify and undo will ask whether it is to be trusted: %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(err.Error()))
		return nil
	}
	return k.Seal
}

// doubt says why a record may not be what was recorded; changed, that this user
// made it and somebody has changed it since.
func doubt(db engine.DB, l *ledger.Ledger, r *ledger.Run) (why string, changed bool) {
	verdict, divided := seal.Unknown, seal.Genuine
	k, err := key()
	if err == nil {
		text, err := l.Signed(r)
		if err != nil {
			return err.Error(), false
		}
		verdict = k.Check(text, r.Options.Seal)
		for _, st := range r.Steps {
			if st.Status == ledger.Running && verdict == seal.Genuine { // a step that is done has only its kept values left
				if v := k.Check(st.SignedWalk(r)); v != seal.Genuine {
					divided = v
				}
			}
			if divided == seal.Changed {
				return fmt.Sprintf("somebody has changed how the rows of step %s were divided among workers", st.Name), true
			}
		}
	}
	keeper, ok := db.(engine.LedgerKeeper)
	keeps := ok && keeper.KeepsLedger()
	switch {
	case verdict == seal.Changed:
		return "somebody has changed it since it was made", true
	case verdict == seal.Genuine && r.Options.SealedFor == l.Database() && (divided == seal.Genuine || keeps && r.DBUser == db.User()):
		return "", false
	case verdict == seal.Genuine && divided != seal.Genuine:
		return "how its rows were divided among workers has no seal of yours: another person went on with it, or an earlier version began it", false
	case verdict == seal.Genuine:
		return fmt.Sprintf("you recorded it in a database called %s", r.Options.SealedFor), false
	case keeps && r.DBUser == db.User():
		return "", false
	case keeps:
		return fmt.Sprintf("database user %s recorded it", r.DBUser), false
	case err != nil:
		return fmt.Sprintf("whether it is yours cannot be told (%v), and whoever may write to the database could have written it", err), false
	}
	return "it has no seal of yours, and whoever may write to the database could have written it", false
}

// doubtConsent says why what was told and accepted before a run may not be what is on record of it.
func doubtConsent(db engine.DB, l *ledger.Ledger, r *ledger.Run) string {
	if r.Options.Consent != nil {
		text, err := l.SignedConsent(r)
		if err != nil {
			return err.Error()
		}
		if why := unsealed(db, text, r.Options.ConsentSeal, "what was accepted before the run, and told of its hazards,"); why != "" {
			return why
		}
	}
	for _, x := range r.Options.Resumed {
		text, err := l.SignedResumed(r, x)
		if err != nil {
			return err.Error()
		}
		if why := unsealed(db, text, x.Seal, "what was said when it was resumed"); why != "" {
			return why
		}
	}
	return ""
}

// unsealed says why a text on record may not be what was written there, "" if it is.
func unsealed(db engine.DB, text []byte, sealed, what string) string {
	switch verdict(db, text, sealed) {
	case seal.Changed:
		return what + " has been changed since"
	case seal.Unknown:
		return what + " has no seal of yours: whoever may write to the database could have changed it"
	}
	return ""
}

// doubtVerified says the same of a verification.
func doubtVerified(db engine.DB, l *ledger.Ledger, run int64, v ledger.Verified) string {
	text, err := l.SignedVerified(run, v)
	if err != nil {
		return err.Error()
	}
	switch verdict(db, text, v.Seal) {
	case seal.Changed:
		return "the record of it has been changed since"
	case seal.Unknown:
		return "its record has no seal of yours: whoever may write to the database could have written it"
	}
	return ""
}

// verdict is that of this user's key; where only this user and superusers may write to the ledger,
// what has no seal of it is genuine as well.
func verdict(db engine.DB, text []byte, sealed string) seal.Verdict {
	v := seal.Unknown
	if k, err := key(); err == nil {
		v = k.Check(text, sealed)
	}
	if keeper, ok := db.(engine.LedgerKeeper); ok && v == seal.Unknown && keeper.KeepsLedger() {
		return seal.Genuine
	}
	return v
}

// believe refuses a record of which the parts do not agree, and one that was
// changed after this user had made it. The SQL of one that this user has not made
// it shows first, and asks.
func (a *app) believe(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
	if err := a.known(ctx, c, db, l, r); err != nil {
		return err
	}
	return l.Coherent(ctx, r)
}

func (a *app) known(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
	why, changed := doubt(db, l, r)
	switch {
	case why == "":
		return nil
	case changed:
		return refusef("the record of run %d is not the one that was made: somebody has changed it since; nothing of it is carried out. What the run kept is in the ledger's tables; docs/security.md says how to look at it", r.ID)
	case c.Bool(trustRecord):
		return nil
	}
	o := a.err
	o.Printf("%s  %s\n", o.Paint(term.Bold, fmt.Sprintf("run %d", r.ID)), term.Clean(why))
	by := r.OSUser + "@" + r.Host
	if r.DBUser != "" {
		by += " as database user " + r.DBUser
	}
	from := "from " + r.Source.Name
	if r.UndoOf != 0 {
		from = fmt.Sprintf("an undo of run %d, %s", r.UndoOf, from)
	}
	o.Printf("  recorded by %s, %s\n", term.Clean(by), term.Clean(from))
	for _, st := range r.Steps {
		what := st.Verb + " of " + change.TableName{Schema: st.TableSchema, Name: st.TableName}.String()
		if len(st.SetColumns) > 0 {
			what += " (" + strings.Join(st.SetColumns, ", ") + ")"
		}
		o.Printf("  step %s: %s\n", term.Clean(st.Name), term.Clean(what))
	}
	for _, name := range slices.Sorted(maps.Keys(r.Params)) {
		if name != change.Clock {
			o.Printf("  :%s = %s\n", term.Clean(name), term.Clean(r.Params[name].Text))
		}
	}
	for line := range strings.Lines(r.Source.Text) {
		o.Printf("    %s\n", term.Clean(strings.TrimRight(line, "\r\n")))
	}
	if !a.keyboard.TTY {
		return refusef("run %d: %s; nothing was done. If the SQL above is what is meant, --%s goes on", r.ID, term.Clean(why), trustRecord)
	}
	answer, err := a.keyboard.Ask(ctx, o, fmt.Sprintf("Type the number of the run (%d) to carry this out, anything else to leave:", r.ID))
	if err != nil || answer != fmt.Sprint(r.ID) {
		return refusef("not confirmed; nothing was done")
	}
	return nil
}
