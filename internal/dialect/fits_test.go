package dialect_test

import (
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// TestFits holds what is asked of a new value before it goes into a column.
func TestFits(t *testing.T) {
	number := func(typ, base string) *change.Column {
		return &change.Column{Type: typ, Base: base, Class: change.Number}
	}
	for _, c := range []struct {
		d    change.Dialect
		col  *change.Column
		want string
	}{
		{dialect.MariaDB, number("tinyint(4)", "DECIMAL(65,0)"), "(n IS NULL OR CAST(n AS DECIMAL(65,0)) BETWEEN -128 AND 127)"},
		{dialect.MariaDB, number("bigint(20) unsigned", "DECIMAL(65,0)"), "(n IS NULL OR CAST(n AS DECIMAL(65,0)) BETWEEN 0 AND 18446744073709551615)"},
		{dialect.MariaDB, number("mediumint(9)", "DECIMAL(65,0)"), "(n IS NULL OR CAST(n AS DECIMAL(65,0)) BETWEEN -8388608 AND 8388607)"},
		{dialect.MariaDB, number("decimal(8,2)", "DECIMAL(65,2)"), "(n IS NULL OR abs(CAST(n AS DECIMAL(65,2))) < 1000000)"},
		{dialect.MariaDB, number("decimal(4,0) unsigned", "DECIMAL(65,0)"), "(n IS NULL OR abs(CAST(n AS DECIMAL(65,0))) < 10000 AND CAST(n AS DECIMAL(65,0)) >= 0)"},
		{dialect.MariaDB, &change.Column{Type: "varchar(9)", Class: change.Text, Length: 9}, "(n IS NULL OR char_length(rtrim(n)) <= 9)"},
		{dialect.MariaDB, &change.Column{Type: "varbinary(9)", Binary: true, Length: 9}, ""},
		{dialect.MariaDB, number("double", "DOUBLE"), ""},
		{dialect.MariaDB, &change.Column{Type: "date", Base: "DATE"}, ""},
		{dialect.PostgreSQL, number("smallint", "smallint"), "(n IS NULL OR CAST(n AS numeric) BETWEEN -32768.5 AND 32767.4)"},
		{dialect.PostgreSQL, number("numeric(6,2)", "numeric(6,2)"), "(n IS NULL OR abs(round(CAST(n AS numeric), 2)) < CAST('1e4' AS numeric))"},
		{dialect.PostgreSQL, &change.Column{Type: "character varying(5)", Class: change.Text, Length: 5}, "(n IS NULL OR char_length(rtrim(CAST(n AS text))) <= 5)"},
		{dialect.PostgreSQL, &change.Column{Type: "text", Class: change.Text}, ""},
		{dialect.SQLite, &change.Column{Type: "VARCHAR(5)", Class: change.Text, Length: 5}, ""},
	} {
		if got := c.d.Fits(c.col, "n"); got != c.want {
			t.Errorf("%v %s\ngot  %s\nwant %s", c.d, c.col.Type, got, c.want)
		}
	}
}
