package ledger

import (
	"cmp"
	"encoding/json"
	"net/url"
	"path"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/job"
)

// What the seals of a run cover.

// Signed is what of a run's record becomes SQL of ours, or says where: what its
// seal covers. It is the same from the record's making on.
func (l *Ledger) Signed(r *Run) ([]byte, error) {
	type step struct {
		N                         int
		Name, Verb, Schema, Table string
		Keys, Set                 []string
		Kept, Packed              bool
		Acts                      []step `json:",omitempty"`
	}
	record := struct {
		Database   string
		ID, UndoOf int64
		Source     job.Source
		Params     map[string]change.Value
		User       string
		Steps      []step
	}{Database: r.Options.SealedFor, ID: r.ID, UndoOf: r.UndoOf, Source: r.Source, Params: r.Params, User: r.DBUser}
	for _, s := range r.Steps {
		x := step{s.N, s.Name, s.Verb, s.TableSchema, s.TableName, s.KeyColumns, s.SetColumns, s.KeptTable != "", s.PackedTable != "", nil}
		for _, a := range s.Acts {
			x.Acts = append(x.Acts, step{a.N, a.Name(), a.Verb, a.TableSchema, a.TableName, a.KeyColumns, a.SetColumns, a.KeptTable != "", a.PackedTable != "", nil})
		}
		record.Steps = append(record.Steps, x)
	}
	return json.Marshal(record)
}

// SignedConsent is what the seal of what was told and accepted before a run covers.
func (l *Ledger) SignedConsent(r *Run) ([]byte, error) {
	return json.Marshal(struct {
		What     string
		Database string
		Run      int64
		Consent  *Consent
	}{"consent", r.Options.SealedFor, r.ID, r.Options.Consent})
}

// SignedResumed is what the seal of what was said to a resumed run covers.
func (l *Ledger) SignedResumed(r *Run, x Resumed) ([]byte, error) {
	x.Seal = ""
	return json.Marshal(struct {
		What     string
		Database string
		Run      int64
		Resumed  Resumed
	}{"resumed", l.Database(), r.ID, x})
}

// Despite adds to a run's options what a person says to it who resumes it; they are recorded when
// the run is taken.
func (l *Ledger) Despite(r *Run, codes []string) error {
	if len(codes) == 0 {
		return nil
	}
	x := Resumed{At: time.Now().UTC().Truncate(time.Millisecond), By: OSUser(), Despite: codes}
	if r.Sealer != nil {
		text, err := l.SignedResumed(r, x)
		if err != nil {
			return err
		}
		x.Seal = r.Sealer(text)
	}
	r.Options.Resumed = append(r.Options.Resumed, x)
	return nil
}

// Database names the database without its server, which is named in several ways.
func (l *Ledger) Database() string {
	name := l.db.Name()
	if u, err := url.Parse(name); err == nil {
		name = cmp.Or(u.Path, u.Opaque)
	}
	return path.Base(name)
}
