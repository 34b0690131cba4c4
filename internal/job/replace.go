package job

import (
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/rewrite"
)

// readReplace reads a step that replaces text. key is where a fault is.
func readReplace(f fileStep) (rep *change.Replace, key string, err error) {
	if f.Replace == nil {
		return nil, "", errors.New("replace is missing: replace = { find = \"…\", with = \"…\" }")
	}
	if len(f.In) == 0 {
		return nil, ".replace", errors.New("in is missing: the columns, as [\"table.column\", \"table.*\"]")
	}
	for i, list := range [][]string{f.In, f.Except} {
		for _, p := range list {
			if _, err := path.Match(p, ""); err != nil || !strings.Contains(p, ".") {
				return nil, []string{".in", ".except"}[i], fmt.Errorf("%q is no pattern of columns; write \"table.column\" or \"table.*\"", p)
			}
		}
	}
	x := f.Replace
	rep = &change.Replace{In: f.In, Except: f.Except, Rules: rewrite.Rules{Case: rewrite.Case(x.Case), Words: x.WholeWords, Keys: x.Keys, Damaged: x.Damaged, Growth: x.Growth,
		Flat: x.Structured != nil && !*x.Structured}}
	for _, form := range x.Forms {
		rep.Rules.Forms = append(rep.Rules.Forms, rewrite.Form(form))
	}
	with := ""
	if x.With != nil {
		with = *x.With
	}
	switch {
	case x.Pairs != nil && (x.Find != nil || x.With != nil || x.Pattern != nil):
		return nil, ".replace.pairs", errors.New("pairs stand instead of find, with and pattern")
	case x.Pairs != nil:
		for _, p := range x.Pairs {
			if len(p) != 2 {
				return nil, ".replace.pairs", errors.New("each of the pairs has two texts: what to find, and what takes its place")
			}
			rep.Rules.Pairs = append(rep.Rules.Pairs, rewrite.Pair{Find: p[0], With: p[1]})
		}
	case x.With == nil:
		return nil, ".replace", errors.New("with, the text that takes its place, is missing (it may be empty)")
	case x.Pattern != nil && x.Find != nil:
		return nil, ".replace.pattern", errors.New("pattern stands instead of find")
	case x.Pattern != nil:
		rep.Rules.Pattern = *x.Pattern
		rep.Rules.Pairs = []rewrite.Pair{{With: with}}
	case x.Find == nil:
		return nil, ".replace", errors.New("find is missing")
	default:
		rep.Rules.Pairs = []rewrite.Pair{{Find: *x.Find, With: with}}
	}
	if x.Damaged != "" && x.Damaged != "plain" {
		return nil, ".replace.damaged", fmt.Errorf("damaged: %q is not known; there is \"plain\", and without it damaged values are set aside", x.Damaged)
	}
	if x.Growth < 0 {
		return nil, ".replace.growth", errors.New("growth: expected a number from 1 up")
	}
	if _, err := rewrite.New(rep.Rules); err != nil {
		if x.Pattern != nil {
			return nil, ".replace.pattern", err
		}
		return nil, ".replace", err
	}
	return rep, "", nil
}

// Of gives the index of the step that a run's step comes from, by the name that was
// recorded: NAME, or "NAME: PART" where it became several. -1 if there is none.
func (j *Job) Of(name string) int {
	of, longest := -1, -1
	for i, s := range j.Steps {
		if s.Name == name {
			return i
		}
		if strings.HasPrefix(name, s.Name+": ") && len(s.Name) > longest {
			of, longest = i, len(s.Name)
		}
	}
	return of
}

// Apart refuses names of steps of which one is like that of a part of another: a run's
// record tells its steps by their names.
func (j *Job) Apart() error {
	for i, a := range j.Steps {
		for k, b := range j.Steps {
			if i != k && strings.HasPrefix(b.Name, a.Name+": ") {
				return &Error{File: j.Source.Name, Place: j.places["step."+strconv.Itoa(k)+".name"], Msg: fmt.Sprintf("steps are called %q and %q, but what follows a colon is the name of a part of a step; give one of them another name", a.Name, b.Name)}
			}
		}
	}
	return nil
}
