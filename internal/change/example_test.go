package change_test

import (
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// A step becomes a Change, and a Change the statement of one batch.
func ExampleBuild() {
	id := &change.Column{Name: "id", Type: "bigint", Base: "bigint", NotNull: true}
	visit := &change.Table{Name: "visit", Columns: []*change.Column{id, {Name: "dues", Type: "numeric", Base: "numeric"}},
		Key: &change.Key{Columns: []*change.Column{id}}}
	c, err := change.Build(dialect.PostgreSQL, change.Spec{Name: "raise", Table: "visit", Where: "dues > 0",
		Let: []change.Field{{Name: "full", Expr: "dues * :rise"}}, Set: []change.Field{{Name: "dues", Expr: "round(full, 2)"}}},
		map[string]change.Value{"rise": {Type: change.DecimalValue, Text: "1.035"}},
		func(schema, name string) (*change.Table, error) { return visit, nil })
	if err != nil {
		fmt.Println(err)
		return
	}
	q := (&change.Query{D: c.D}).Statement(c, change.Range{Lo: change.KeyValue{"100"}, Hi: change.KeyValue{"200"}})
	fmt.Println(q)
	fmt.Println(q.Args)
	// Output:
	// UPDATE "visit" SET "dues" = (round((dues * CAST($1 AS numeric)), 2)) WHERE 1 = 1 AND "visit"."id" > CAST($2 AS bigint) AND "visit"."id" <= CAST($3 AS bigint) AND (dues > 0)
	// [1.035 100 200]
}
