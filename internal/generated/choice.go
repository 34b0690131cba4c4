// Package generated makes cases that look for wrong rows: from a seed a schema,
// its data and a statement over it, with the ugliness that databases have. A case
// is a Choice, a few small numbers, so that one that goes wrong can be made
// smaller by setting them to 0 one by one. It runs nothing.
package generated

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
)

// Choice is one case. Everywhere 0 is the plainest; what a number means is told
// where it is written out.
type Choice struct {
	Engine string // sqlite, postgres, mariadb
	Seed   uint64 // of the data

	Key     int // keys
	Rows    int
	Parts   int // inheritance and partitions
	Trigger int
	Child   int // a table that refers to the target
	Unique  int // a unique column beside the key
	Check   int
	Index   int // 1: an index on n
	Values  int // how ugly the values are
	Rules   int // by which rules texts are compared: other ones in each column; 2: also keys, to which others refer in another case

	Delete int // 1: a DELETE
	Set    int
	Where  int
	From   int // 1: joined to another table

	Batch   int
	Workers int
	Method  int // 0 left to the program, 1 sweep, 2 single, 3 roster (PostgreSQL)
	Keep    int // 1: --keep none
	Count   int // 1: the number of rows is counted beforehand and accepted
	Kills   int // how often the run is killed, where the runner can

	Fill int // columns are filled from other rows, in this way
	Move int // rows are moved to another table: 1 of no such keys, 2 and 3 with some, which stay or give way; 4 to 6 are copied likewise
	List int // lines of a list are carried out: 1 update, 2 delete, 3 insert, 4 upsert, 5 each as it says itself, 6 so and two for most keys, in their order

	Merge int // rows that are the same become one: in one column or two, by an order, filled or not
	Shape int // texts are brought into a form
	Late  int // 1: there is a last pass, which must leave what is done

	Then int // a second step over the target, of this kind

	Beside int // 1: another session writes to the rows meanwhile, to a column that no step names; 2: and makes rows that refer to them

	First   int // the rows that come first by an order: 1 and 4 changed, 2 deleted, 3 given a value
	Replace int // text is replaced, in this way
	Marks   int // 1: rows that are done are marked so
	Call    int // 1: a statement is carried out for each line of a list
}

// most is the largest value of each field of a Choice that is chosen by chance.
var most = map[string]int{"Key": 11, "Rows": 40, "Parts": 3, "Trigger": 6, "Child": 7, "Unique": 3, "Check": 2, "Index": 1, "Values": 3, "Rules": 3,
	"Delete": 1, "Set": 19, "Where": 9, "From": 1, "Batch": 9, "Workers": 3, "Method": 3, "Keep": 1, "Count": 1, "Fill": 10, "Move": 6, "List": 6, "Merge": 7, "Shape": 9, "Late": 1, "Then": 11, "First": 4, "Replace": 5, "Marks": 1, "Call": 1, "Beside": 2}

// rare are fields that are 0 in most cases, so that what they bring about is
// not hidden by refusals for another reason: one case in so many has another value.
var rare = map[string]int{"Parts": 4, "Trigger": 4, "Child": 5, "Unique": 3, "Check": 4, "Rules": 4, "Delete": 4, "From": 5, "Method": 4, "Keep": 5, "Workers": 3, "Fill": 4, "Move": 5, "List": 5, "Merge": 6, "Shape": 6, "Late": 4, "Then": 4, "First": 10, "Replace": 10, "Marks": 10, "Call": 6, "Beside": 4}

// New makes a case from a seed.
func New(engine string, seed uint64) Choice {
	r := rand.New(rand.NewPCG(seed, 20))
	c := Choice{Engine: engine, Seed: seed}
	v := reflect.ValueOf(&c).Elem()
	for i := range v.NumField() {
		name := v.Type().Field(i).Name
		n, ok := most[name]
		if !ok || rare[name] > 0 && r.IntN(rare[name]) > 0 {
			continue
		}
		v.Field(i).SetInt(int64(r.IntN(n + 1)))
	}
	return c
}

// String writes the case so that it can be read back by Parse.
func (c Choice) String() string {
	var parts []string
	v := reflect.ValueOf(c)
	for i := range v.NumField() {
		if f := v.Field(i); !f.IsZero() {
			parts = append(parts, fmt.Sprintf("%s=%v", v.Type().Field(i).Name, f))
		}
	}
	return strings.Join(parts, " ")
}

// Parse reads what String wrote.
func Parse(s string) (Choice, error) {
	var c Choice
	v := reflect.ValueOf(&c).Elem()
	for _, part := range strings.Fields(s) {
		name, text, _ := strings.Cut(part, "=")
		f := v.FieldByName(name)
		if !f.IsValid() {
			return c, fmt.Errorf("there is no choice %q", name)
		}
		if _, err := fmt.Sscan(text, f.Addr().Interface()); err != nil {
			return c, fmt.Errorf("%s: %w", part, err)
		}
	}
	return c, nil
}

// Shrink makes a case smaller as long as it still fails.
func Shrink(c Choice, fails func(Choice) bool) Choice {
	for again := true; again; {
		again = false
		v := reflect.ValueOf(c)
		for i := range v.NumField() {
			if v.Type().Field(i).Name == "Seed" || v.Field(i).Kind() != reflect.Int || v.Field(i).IsZero() {
				continue
			}
			for _, n := range []int64{0, v.Field(i).Int() / 2} {
				smaller := c
				reflect.ValueOf(&smaller).Elem().Field(i).SetInt(n)
				if smaller != c && fails(smaller) {
					c, again = smaller, true
					v = reflect.ValueOf(c)
					break
				}
			}
		}
	}
	return c
}

// Case is a choice written out.
type Case struct {
	Choice
	Setup    []string // statements that make the tables and fill them
	SQL      string   // the statement
	Job      string   // the job that stands for it; "" for the statement itself
	Listed   []string // the list that the job names: for each column its name, and the expression for its values
	Lines    string   // what these are of, as an item of a FROM list, and the order; "" for the table l
	Args     []string // of the program besides
	Dumps    []string // queries that together give every byte, one text a row
	Noted    []string // of these, those of tables in which triggers note what is done, an undo included
	Once     []string // queries for how many different values stand where one statement writes only one
	Exact    bool     // undo restores every byte; else a trigger has a say, and it must tell the rows
	Filter   bool     // the statement has a filter
	Writes   []string // what another session does meanwhile, each to one row
	Children []string // and rows that it makes, each a child of one
	Gone     bool     // rows that it writes to may be deleted, so that what it wrote is not to be found
	Wrong    bool     // no server takes the statement, though each would take its parts in a query
}
