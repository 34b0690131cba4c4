package hazard

import (
	"jugatum/internal/change"
)

// A Hazard is one row of the table: all that there is to know about it, and how it
// is found. Adding one is adding a row; the docs list the codes (docs/guide.md, held
// by a test).
type Hazard struct {
	Code     string
	Level    Level
	Liftable bool   // a person may mean it, and says so with --despite CODE; other refusals would make the run go wrong
	Text     string // what is said, for fmt with what found or asked gives; {rows} and {n} stand for the rows concerned

	// At most one of these. Without any, whoever looks for it says that it is there: see Found.
	found func(look) [][]any    // by the change's text and what the catalogue says; each list is one finding
	asked func(look) []Question // by the rows
}

// look is what a hazard is looked for in.
type look struct {
	c       *change.Change
	method  string // sweep, roster, single, or "" while it is not chosen
	changes int64  // rows that will change, -1 not counted
}

// table has the hazards in the order in which they are told. Where a code stands
// more than once, it has several texts.
var table = []Hazard{
	{EveryRow, Refusal, true, "there is no filter: every row of %s is concerned; run needs --every-row", everyRow, nil},
	{ReadsTarget, Refusal, false, "%s reads %s while the statement changes it: what it finds depends on the order of the rows, also in one statement; compute the value by a sub-query", readsTargetLive, nil},
	{NoKey, Refusal, false, "%s, so there is no order to walk it in; make one (%s), or use --method single --keep none", noKey, nil},
	{KeyChanged, Refusal, false, "the change assigns a key column (%s), by which batches find their way; use --method single", keyAssigned, nil},
	{KeyChanged, Refusal, false, "the database computes the key column %s from a column that is assigned, and batches find their way by it; use --method single --keep none", keyComputed, nil},
	{"statement-trigger", Warning, false, "trigger %s fires once for a statement, and so once for each batch; --method single has it fire once", statementTriggers, nil},
	{TriggerSelf, Refusal, true, "trigger %s itself changes rows of %s: what it does to rows that later batches come to, and to the values kept, depends on the batches; use --method single, or --despite " + TriggerSelf + " if it is harmless", selfTriggers, nil},
	{"at-once", Warning, false, "%s, which one statement for all rows fulfils and a batch may not: then the run ends at that batch, with nothing wrong; --method single does all rows at once", atOnce, nil},
	{"row-policy", Warning, false, "row policies of %s hold for this user: only rows that they let it see are counted, changed and verified", policies, nil},
	{"row-policy", Warning, false, "row policies of %s, which the step reads, hold for this user: another user's statement may find other rows there", policiesRead, nil},
	{"definer-rights", Note, false, "the step reads by the rights of the users in brackets, not by those of this user, and may find rows that this user cannot see: %s", definersRead, nil},
	{"definer-rights", Note, false, "trigger %s runs with the rights of %s and may change what this user may not", definerTriggers, nil},
	{ReadsTarget, Refusal, false, "the step reads %s, the table that it changes: later batches would see what earlier ones did, one statement would not; %s", readsTarget, nil},
	{Opaque, Refusal, true, "what %s reads cannot be seen; should it be %s, later batches would see what earlier ones did: %s, or --despite " + Opaque + " if it reads nothing that the step changes", opaque, nil},
	{OncePerRun, Refusal, true, "%s is worked out once for a whole statement, and so once for each batch: its rows would get another value in each; %s, or --despite " + OncePerRun + " if that is meant", oncePerRun, nil},
	{"volatile", Warning, false, "%s stands in the filter and answers otherwise each time: other rows will change than were counted", volatileFilter, nil},
	{"volatile", Note, false, "%s gives another value for every row, and each time: a preview shows other values than a run writes", volatileValue, nil},
	{"clock", Warning, false, "the time is told in a view, a function or in another way that the run's own time cannot take the place of: it is that of each batch", clock, nil},
	{Source, Refusal, true, "trigger %s writes to %s, which the step reads: later rows would be changed by what came of earlier ones; %s, or --despite " + Source + " if that does not matter", triggerSources, nil},
	{Source, Refusal, true, "rows of %s, which the step reads, go or change with those of %s (%s): later rows would be changed by what came of earlier ones; %s, or --despite " + Source + " if that does not matter", followedSources, nil},
	{RowQuery, Refusal, true, "the query that gives %s together with other columns %s: it is asked once for each column, which could then be of different rows; join the table instead (UPDATE … FROM), or --despite " + RowQuery + " if it always gives one and the same row", rowQueries, nil},
	{"on-conflict", Warning, false, "a constraint of %s says ON CONFLICT, by which SQLite would delete other rows or pass rows by; here a row that breaks it is an error, since nothing could put those back", onConflict, nil},
	{EqualsNull, Refusal, true, "%s is never true: %s, or --despite " + EqualsNull + " if it really is to find nothing", equalsNull, nil},
	{LeftToRight, Refusal, true, "%s is computed from %s, which is assigned before it: by MariaDB's own rule from the new value, by the standard and here from the old one; --despite " + LeftToRight + " if that is meant, or write the expression out", leftToRight, nil},
	{"not-cleared", Warning, false, "%s is computed from itself and the filter still matches afterwards: a second run would change the rows again", notCleared, nil},
	{"quoted-column", Warning, false, "%s is a text here, but %s also has a column of that name; write it without quotes if the column is meant", quotedColumns, nil},
	{"quoted-text", Warning, false, "%s is no column of %s, so SQLite takes it as a text; write it in single quotes if that is meant", quotedTexts, nil},
	{"like-delete", Warning, false, "rows are deleted by a pattern; look at the sample for rows that match by chance", likeDelete, nil},
	{OthersTable, Refusal, true, "%s belongs to %s, and not to whom %s belongs: the rows would be that user's, whose triggers run with your rights; --despite " + OthersTable + " if they are meant to go there", othersTable, nil},
	{"row-policy", Warning, false, "row policies of %s hold for this user: they may refuse rows that come, and hide those that are there", policiesThere, nil},
	{"trigger", Warning, false, "trigger %s (%s) of %s fires for the rows that come: what it makes of them verify does not expect, and undo does not take back", triggersThere, nil},
	{LostColumns, Refusal, true, "%s has no column for %s, whose values undo alone would have: add it, or --despite " + LostColumns, lacked(false), nil},
	{"left-out", Note, false, "%s has no column for %s: that is not copied", lacked(true), nil},
	{"own-columns", Note, false, "%s of %s: the database fills in what is its default", ownColumns, nil},
	{"sequence", Note, false, "%s of %s is given by the list: the sequence that numbers new rows stays where it is; set it on afterwards, or the next row of somebody else's meets one of these", numbered, nil},
	{"kept-deleted", Note, false, "the rows live on in the kept values that undo needs, also what was to be forgotten; --keep none keeps nothing", keptDeleted, nil},

	{"null-key", Refusal, false, "{rows} have NULL in the key (%s) and would not be reached; give them a key first, or use --method single --keep none", nil, nullKeys},
	{"ambiguous-source", Refusal, false, "for {rows} there are several source rows, which give different new values; make the match unique", nil, ambiguous},
	{"ambiguous-source", Refusal, false, "for {rows} there are several source rows, which give different new values; pick the first by an order that leaves no two alike (pick), or make the match unique", nil, ambiguousFill},
	{"unmatched", Refusal, false, "{rows} of %s match no row of the source, and unmatched = \"fail\" allows none: add what the source lacks, narrow where, or choose \"leave\" or \"null\"", nil, lost},
	{"already-there", Refusal, false, "{rows} are in %s already, by their key; present = \"keep\" leaves those that are there, \"replace\" has the others take their place", nil, alreadyThere},
	{"absent-key", Refusal, false, "{rows} of %s have keys that %s has not, and absent = \"fail\" allows none: take them out, or choose \"report\" or \"insert\"", nil, missedLines(change.NoSuchKey)},
	{"present-key", Refusal, false, "{rows} of %s have keys that %s has already, and present = \"fail\" allows none: take them out, or choose \"report\" or \"update\"", nil, missedLines(change.KeyExists)},
	{"strayed", Refusal, false, "{rows} of %s refer, by %s, to rows that would go, and the row that stays is NULL there: they would refer to nothing; give it a value, or choose by stays one that has it", nil, strayed},
	{"stands-twice", Refusal, false, "{rows} of %s would stand twice under a unique index once they refer to the row that stays (%s); twice = \"merge\" makes each one with the row that stands there, by deleting it, or tidy these up first", nil, standTwice},
	{"unique-collision", Warning, false, "{n} values of the unique index %s would stand more than once", nil, newCollisions},
	{"unique-collision", Warning, false, "{n} values of the unique index %s would stand more than once", nil, collisions},
	{"null-unmatched", Warning, false, "{rows} with NULL in %s are not found: for them the filter is neither true nor false; add OR … IS NULL if they are meant", nil, unknowns},
	{"null-unmatched", Warning, false, "{rows} are not found, since NOT IN of a query that gives NULL, or of a NULL, is neither true nor false; leave NULL out of the query, or add OR … IS NULL", nil, unknownLists},
	{"blank-text", Note, false, "{rows} with NULL, or nothing but blanks, in %s are not found: = '' means the empty text alone", nil, blanks},
	{"mixed-types", Warning, false, "for {rows} %s comes out otherwise than it reads: %s", nil, mixed},
	{Cascade, Refusal, true, "{rows} of %s go with them (on %s %s); undo cannot put that back%s: --despite " + Cascade + " if it is meant", nil, cascades("delete", "CASCADE")},
	{Cascade, Refusal, true, "{rows} of %s change with them (on %s %s); undo cannot put that back%s: --despite " + Cascade + " if it is meant", nil, cascades("update", "CASCADE")},
	{Cascade, Refusal, true, "{rows} of %s lose their reference to them (on %s %s); undo cannot put that back%s: --despite " + Cascade + " if it is meant", nil, losing},
	{"follows", Note, false, "{rows} of %s change with them (on update cascade), and back with them in an undo", nil, following},
	{"referenced", Warning, false, "{rows} of %s refer to rows concerned (%s): the database will refuse those", nil, referenced},
	{"trigger", Note, false, "trigger %s (%s) fires for {n} rows; what it changes elsewhere is not kept", nil, triggers},

	// Told by whoever looks for it.
	{DoesNotFit, Refusal, true, "{n} new values do not fit %s.%s %s: fix the expression, or let such rows be set aside (--set-aside {n})", nil, nil},
	{Grants, Refusal, true, "%s may not %s; have it granted: %s", nil, nil},
	{"grows", Warning, false, "the new text %q contains the text it replaces: a second run would find it again and make it longer", nil, nil},
	{"longer-words", Warning, false, "%d of the occurrences are part of longer words, which would change; whole_words = true leaves those", nil, nil},
	{"double-slash", Warning, false, "the new text ends with a slash and %d occurrences are followed by one: there would be two", nil, nil},
	{"not-reversible", Warning, false, "the new text stands there already, %s: replacing it back would change those as well (undo does not)", nil, nil},
	{"not-text", Warning, false, "{rows} have a value that is not valid UTF-8, of which nobody can say which characters it has; they are set aside (--set-aside)", nil, nil},
	{"no-form", Warning, false, "{rows} have a value that a transform does not take: row %s, %s: %s; they are set aside (--set-aside)", nil, nil},
	{"becomes-null", Warning, false, "{n} values of %s.%s become NULL, since the text of %s that they are to be made of has no such part; narrow where to rows that have it, or let what is there stand", nil, nil},
	{"damaged", Warning, false, "values look structured and are not valid; they are set aside (--set-aside), or taken as plain text with damaged = \"plain\"", nil, nil},
}
