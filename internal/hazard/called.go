package hazard

// calls has the hazards of a statement that is called for each line of a list. What it does only
// the server knows, so that nothing of table applies.
var calls = []Hazard{
	{NoUndo, Refusal, true, "what the statement does is not known beforehand and not kept: no preview, verify or undo; --despite " + NoUndo + " if that is meant", notKept, nil},
	{"ends-transaction", Warning, false, "%s: %s. So its lines are called one by one, each in transactions that it ends as it likes: a run that is killed leaves one line of which nobody knows whether it took effect, which is told and not called again", endsItself, nil},
	{"others-routine", Warning, false, "%s belongs to %s, who can make something else of it, and has your rights: look at what it does", othersRoutine, nil},
}

func othersRoutine(l look) [][]any {
	return iff(l.c.Call.Owner != "", l.c.Call.Routine, l.c.Call.Owner)
}

func notKept(l look) [][]any { return [][]any{nil} }

func endsItself(l look) [][]any {
	what := l.c.Call.Routine
	if what == "" {
		what = "the statement"
	}
	return iff(l.c.Call.Commits != "", what, l.c.Call.Commits)
}
