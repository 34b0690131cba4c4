package generated

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// builder writes a case out.
type builder struct {
	Case
	r    *rand.Rand
	key  []string // the target's key columns
	ints bool     // the key is one integer column, id

	columns string // of the target, as they are declared
	listed  bool   // there are lines for a second step
}

// Write writes a choice out.
func Write(c Choice) Case {
	if c.Trigger == 3 && (c.List >= 4 || c.Then == 10) { // a line does one thing, and two statements in the place of an upsert might both
		c.Trigger = 0
	}
	if c.Trigger == 6 && (c.Fill == 8 || c.Then == 11) { // one statement would read what its own trigger makes of the source, row by row
		c.Trigger = 0
	}
	if c.Beside > 0 { // whose writes have no other effects
		c.Trigger = 0
	}
	b := &builder{Case: Case{Choice: c, Exact: true}, r: rand.New(rand.NewPCG(c.Seed, 21))}
	b.tables()
	b.fill()
	b.views()
	b.archive()
	if b.Then == 10 && b.List == 0 { // whose lines are those of the second step
		b.List = 4
		b.lines()
		b.listed, b.List = b.List > 0, 0
	} else {
		b.lines()
	}
	b.extras()
	b.statement()
	b.beside()
	b.dumps()
	return b.Case
}

func (b *builder) pg() bool     { return b.Engine == "postgres" }
func (b *builder) maria() bool  { return b.Engine == "mariadb" }
func (b *builder) sqlite() bool { return b.Engine == "sqlite" }

func (b *builder) do(format string, args ...any) {
	b.Setup = append(b.Setup, fmt.Sprintf(format, args...))
}

// by picks the engine's own form.
func (b *builder) by(sqlite, postgres, maria string) string {
	switch {
	case b.sqlite():
		return sqlite
	case b.pg():
		return postgres
	}
	return maria
}

// partitioned reports whether the target's rows lie in partitions.
func (b *builder) partitioned() bool {
	return b.ints && (b.pg() && (b.Parts == 2 || b.Parts == 3) || b.maria() && b.Parts > 1 && b.Child == 0)
}

// rules are those by which the texts of t and of o are compared, as a column is declared with them.
func (b *builder) rules() (mine, other string) {
	names := map[string][4][2]string{
		"sqlite":   {{}, {"NOCASE", "RTRIM"}, {"NOCASE", "NOCASE"}, {"", "NOCASE"}},
		"postgres": {{}, {`"C"`, `"POSIX"`}, {"anycase", `"C"`}, {"", "anycase"}},
		"mariadb":  {{}, {"utf8mb4_bin", "utf8mb4_general_ci"}, {"utf8mb4_general_ci", "utf8mb4_bin"}, {"utf8mb4_nopad_bin", "utf8mb4_unicode_ci"}},
	}[b.Engine][b.Rules]
	for i, name := range names {
		if name != "" {
			names[i] = " COLLATE " + name
		}
	}
	return names[0], names[1]
}

// keyText is the type of a key of one text, with its rules.
func (b *builder) keyText() string {
	typ := b.by("TEXT", "text", "varchar(60)")
	if b.Rules == 2 {
		mine, _ := b.rules()
		typ += mine
	}
	return typ
}

// referred is the key column to which others refer, and its type; "" where none do.
func (b *builder) referred() (column, typ string) {
	switch {
	case b.Child == 0 || b.partitioned() || b.heir():
	case b.ints && (b.Key == 8 || b.Key == 6):
		return "id", "bigint"
	case b.ints:
		return "id", "integer"
	case b.Key == 2 && b.Rules == 2:
		return "k", b.keyText()
	}
	return "", ""
}

// tables makes the target t, with the columns that every target has, and o beside it.
func (b *builder) tables() {
	text := b.by("TEXT", "text", "varchar(200)")
	key := ""
	switch b.Key {
	case 1: // composite, in another order than the columns
		b.key = []string{"k2", "k1"}
		key = "k1 integer NOT NULL, k2 " + b.by("TEXT", "varchar(20)", "varchar(20)") + " NOT NULL, PRIMARY KEY (k2, k1)"
	case 2: // texts, the empty one among them
		b.key = []string{"k"}
		key = "k " + b.keyText() + " NOT NULL PRIMARY KEY"
	case 3: // bytes, none among them
		b.key = []string{"k"}
		key = "k " + b.by("BLOB", "bytea", "varbinary(40)") + " NOT NULL PRIMARY KEY"
	case 4: // a unique index over what cannot be NULL
		b.key = []string{"k"}
		key = "k bigint NOT NULL UNIQUE"
	case 5: // none
		key = "k bigint"
	case 6: // computed by the database, where a key can be
		if b.pg() {
			b.key = []string{"k"}
			key = "a integer, k integer GENERATED ALWAYS AS (a * 2) STORED PRIMARY KEY"
			break
		}
		b.key, b.ints = []string{"id"}, true
		key = "id " + b.by("INTEGER", "bigint", "bigint") + " PRIMARY KEY"
	case 7: // dates
		b.key = []string{"k"}
		key = "k " + b.by("TEXT", "date", "date") + " NOT NULL PRIMARY KEY"
	case 8: // the first and the last integer, and some between
		b.key, b.ints = []string{"id"}, true
		key = "id " + b.by("INTEGER", "bigint", "bigint") + " PRIMARY KEY"
	case 9: // whatever, stored without a number of the row's own
		if b.sqlite() {
			b.key = []string{"k"}
			key = "k PRIMARY KEY NOT NULL"
			break
		}
		b.key = []string{"k"}
		key = "k numeric(20,4) NOT NULL PRIMARY KEY"
	case 11: // unique only to an index that tells apart what a comparison does not: no key
		key = "k " + b.by("TEXT COLLATE NOCASE NOT NULL, PRIMARY KEY (k COLLATE BINARY)", "text COLLATE anycase NOT NULL", "varchar(60) NOT NULL PRIMARY KEY")
		if b.maria() {
			b.key = []string{"k"}
		}
	case 10: // other types
		b.key = []string{"k"}
		key = "k " + b.other().typ + " NOT NULL PRIMARY KEY"
	default:
		b.key, b.ints = []string{"id"}, true
		key = "id " + b.by("INTEGER", "integer", "integer") + " PRIMARY KEY"
	}
	mine, other := b.rules()
	cols := []string{"n integer DEFAULT 5", "txt " + text + mine, "amt numeric(10,2)", "ts " + b.by("TEXT", "timestamptz", "datetime(6)"), "r " + b.by("REAL", "double precision", "double"), "m integer DEFAULT 0"}
	if b.Unique > 0 {
		u := "u integer UNIQUE"
		if b.Unique == 3 && b.pg() {
			u += " DEFERRABLE INITIALLY IMMEDIATE"
		}
		if b.partitioned() {
			u = "u integer" // a unique index would have to hold the key
		}
		cols = append(cols, u)
	}
	if b.Beside > 0 {
		cols = append(cols, "w integer NOT NULL DEFAULT 0")
	}
	if b.Check > 0 {
		cols = append(cols, "CONSTRAINT c CHECK (n IS NULL OR n < 100000)")
	}
	tail := ""
	if b.sqlite() && b.Key == 9 {
		tail = " WITHOUT ROWID"
	}
	if b.partitioned() {
		tail = " PARTITION BY RANGE (id)"
		if b.maria() {
			tail += " (PARTITION p1 VALUES LESS THAN (10), PARTITION p2 VALUES LESS THAN MAXVALUE)"
		}
	}
	head, rest, _ := strings.Cut(key, ", PRIMARY KEY")
	if rest != "" {
		cols = append(cols, "PRIMARY KEY"+rest)
	}
	b.columns = head + ", " + strings.Join(cols, ", ")
	if b.pg() && (b.Rules > 1 || b.Key == 11) {
		b.do("CREATE COLLATION anycase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)")
	}
	b.do("CREATE TABLE t (%s)%s", b.columns, tail)
	if b.pg() && b.Key == 11 {
		b.do(`CREATE UNIQUE INDEX by_bytes ON t (k COLLATE "C")`)
	}
	if b.pg() && b.partitioned() {
		b.do("CREATE TABLE p1 PARTITION OF t FOR VALUES FROM (MINVALUE) TO (10)")
		if b.Parts == 2 {
			b.do("CREATE TABLE p2 PARTITION OF t FOR VALUES FROM (10) TO (MAXVALUE)")
		} else {
			b.do("CREATE TABLE p2 PARTITION OF t FOR VALUES FROM (10) TO (MAXVALUE) PARTITION BY RANGE (id)")
			b.do("CREATE TABLE p21 PARTITION OF p2 FOR VALUES FROM (10) TO (20)")
			b.do("CREATE TABLE p22 PARTITION OF p2 FOR VALUES FROM (20) TO (MAXVALUE)")
		}
	}
	if b.heir() {
		own := ""
		if b.key != nil {
			own = ", PRIMARY KEY (" + strings.Join(b.key, ", ") + ")"
		}
		b.do("CREATE TABLE heir (extra text DEFAULT 'only here'%s) INHERITS (t)", own)
	}
	b.do("CREATE TABLE o (k integer PRIMARY KEY, v integer, name %s)", text+other)
}

// heir reports whether another table inherits from the target.
func (b *builder) heir() bool { return b.pg() && b.Parts == 1 && b.Key != 6 }

// views are over the target, over a view of it, and over another table.
func (b *builder) views() {
	b.do("CREATE VIEW vw AS SELECT sum(n) AS s FROM t")
	b.do("CREATE VIEW vv AS SELECT s FROM vw")
	b.do("CREATE VIEW vo AS SELECT k, v FROM o WHERE v > 3")
	if b.pg() {
		b.do("CREATE FUNCTION peek() RETURNS integer LANGUAGE plpgsql STABLE AS 'BEGIN RETURN (SELECT max(n) FROM t); END'")
	}
	if b.maria() {
		b.do("CREATE FUNCTION peek() RETURNS integer READS SQL DATA RETURN (SELECT max(n) FROM t)")
	}
}

// extras are triggers, tables that refer to the target, and rules over old rows.
func (b *builder) extras() {
	row := b.ints
	function := func(name, body string) {
		b.do("CREATE FUNCTION %s() RETURNS trigger LANGUAGE plpgsql AS '%s'", name, strings.ReplaceAll(body, "'", "''"))
	}
	b.do("CREATE TABLE noted (what integer, old_n integer, new_n integer)")
	switch b.Trigger {
	case 1: // notes what is done in another table
		switch {
		case b.pg():
			function("note", "BEGIN INSERT INTO noted VALUES (1, OLD.n, NEW.n); RETURN NULL; END")
			b.do("CREATE TRIGGER tr AFTER UPDATE ON t FOR EACH ROW EXECUTE FUNCTION note()")
		default:
			b.do("CREATE TRIGGER tr AFTER UPDATE ON t FOR EACH ROW %s INSERT INTO noted VALUES (1, OLD.n, NEW.n)%s", b.by("BEGIN", "", ""), b.by("; END", "", ""))
		}
	case 2, 5: // has a say in the values
		switch {
		case b.pg():
			function("more", "BEGIN NEW.n := NEW.n + 1; RETURN NEW; END")
			b.do("CREATE TRIGGER tr BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION more()")
		case b.maria():
			b.do("CREATE TRIGGER tr BEFORE UPDATE ON t FOR EACH ROW SET NEW.n = NEW.n + 1")
		}
		b.Exact = b.sqlite()
	case 6: // writes to a table that statements read
		change := "UPDATE o SET v = v + 1 WHERE k % 2 = 0"
		switch {
		case b.pg():
			function("source", "BEGIN "+change+"; RETURN NULL; END")
			b.do("%s", "CREATE TRIGGER tr AFTER UPDATE OR DELETE ON t FOR EACH ROW EXECUTE FUNCTION source()")
		case b.maria():
			b.do("%s", "CREATE TRIGGER tr AFTER UPDATE ON t FOR EACH ROW "+change)
		default:
			b.do("%s", "CREATE TRIGGER tr AFTER UPDATE ON t BEGIN "+change+"; END")
		}
		b.Exact = false
	case 3: // changes the key
		if !row {
			break
		}
		switch {
		case b.pg():
			function("away", "BEGIN NEW.id := NEW.id + 151; RETURN NEW; END")
			on := "t"
			if b.partitioned() && b.Seed%2 == 0 { // a trigger of one partition alone
				on = "p1"
			}
			b.do("CREATE TRIGGER tr BEFORE UPDATE ON %s FOR EACH ROW EXECUTE FUNCTION away()", on)
		case b.maria():
			b.do("CREATE TRIGGER tr BEFORE UPDATE ON t FOR EACH ROW SET NEW.id = NEW.id + 151")
		default:
			b.do("CREATE TRIGGER tr AFTER UPDATE OF n, txt, amt, ts, r ON t BEGIN UPDATE t SET id = id + 151 WHERE id = NEW.id; END")
		}
		b.Exact = false
	case 4: // changes another row of the table
		if !row || b.maria() {
			break
		}
		if b.pg() {
			function("other", "BEGIN UPDATE t SET m = m + 1 WHERE id = (SELECT min(id) FROM t); RETURN NULL; END")
			b.do("CREATE TRIGGER tr AFTER UPDATE OF n, txt, amt, ts, r ON t FOR EACH ROW EXECUTE FUNCTION other()")
		} else {
			b.do("CREATE TRIGGER tr AFTER UPDATE OF n, txt, amt, ts, r ON t BEGIN UPDATE t SET m = m + 1 WHERE id = (SELECT min(id) FROM t); END")
		}
		b.Exact = false
	}
	if parent, typ := b.referred(); parent != "" {
		value := parent
		if !row {
			value = "upper(" + parent + ")"
		}
		rule := []string{"", "", " ON DELETE CASCADE", " ON DELETE SET NULL", " ON DELETE SET DEFAULT", " ON DELETE CASCADE ON UPDATE CASCADE", " ON DELETE CASCADE", " ON DELETE CASCADE"}[b.Child]
		if b.maria() && b.Child == 4 { // InnoDB has no SET DEFAULT
			rule = ""
		}
		columns, other := "c integer PRIMARY KEY, t_id "+typ, ""
		if b.Child == 7 && row { // refers to two rows, of which one takes it along
			columns, other = columns+", o_id "+typ+", CONSTRAINT fo FOREIGN KEY (o_id) REFERENCES t (id) ON DELETE SET NULL", ", (SELECT min(id) FROM t)"
		}
		b.do("CREATE TABLE child (%s, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (%s)%s)", columns, parent, rule)
		b.do("INSERT INTO child SELECT row_number() OVER (ORDER BY %s), %s%s FROM t WHERE n IS NULL OR n %% 2 = 0", parent, value, other)
		if b.Child >= 6 && row { // which have such of their own, and one that is reached by two ways
			b.do("CREATE TABLE grand (g integer PRIMARY KEY, c_id integer, t_id %s, CONSTRAINT gc FOREIGN KEY (c_id) REFERENCES child (c) ON DELETE CASCADE, CONSTRAINT gt FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE %s)", typ, []string{"CASCADE", "SET NULL"}[b.Child-6])
			b.do("INSERT INTO grand SELECT row_number() OVER (ORDER BY x.c, y.c), x.c, y.t_id FROM child x JOIN child y ON y.c IN (x.c + 1, x.c - 2)")
		}
	}
	if b.Check == 2 && b.pg() && !b.partitioned() && b.Trigger != 3 { // a row that the rule would refuse today
		b.do("ALTER TABLE t DROP CONSTRAINT c")
		b.do("UPDATE ONLY t SET n = 200000 WHERE n = (SELECT min(n) FROM ONLY t)")
		b.do("ALTER TABLE t ADD CONSTRAINT c CHECK (n < 100000) NOT VALID")
	}
	if b.Index > 0 {
		b.do("CREATE INDEX by_n ON t (n)")
	}
}

// dumps give every byte of every table that the statement may touch.
func (b *builder) dumps() {
	whole := func(table, only string) string {
		if b.pg() && b.Beside > 0 {
			return "SELECT (to_jsonb(x) - 'w')::text FROM " + only + table + " AS x"
		}
		if b.pg() {
			return "SELECT x::text FROM " + only + table + " AS x"
		}
		return table // the runner knows how
	}
	if b.pg() && !b.partitioned() {
		b.Dumps = append(b.Dumps, whole("t", "ONLY "))
	} else {
		b.Dumps = append(b.Dumps, whole("t", ""))
	}
	if b.heir() {
		b.Dumps = append(b.Dumps, whole("heir", ""))
	}
	b.Dumps = append(b.Dumps, whole("o", ""))
	if b.Move > 0 {
		b.Dumps = append(b.Dumps, whole("arch", ""))
	}
	if parent, _ := b.referred(); parent != "" {
		if b.children() { // without those of others
			b.Dumps = append(b.Dumps, whole("child", "")+fmt.Sprintf(" WHERE c < %d", firstChild))
		} else {
			b.Dumps = append(b.Dumps, whole("child", ""))
		}
		if b.Child >= 6 && b.ints {
			b.Dumps = append(b.Dumps, whole("grand", ""))
		}
	}
	b.Noted = append(b.Noted, whole("noted", ""))
}
