package mariadb

import "testing"

// TestGrants: what SHOW GRANTS tells is read as the server means it.
func TestGrants(t *testing.T) {
	var gs grants
	for _, text := range []string{
		"GRANT `clerk` TO `ann`@`localhost`",
		"GRANT USAGE ON *.* TO `ann`@`localhost` IDENTIFIED BY PASSWORD '*B69027D44F6E5EDC07F1AEAD1477967B16F28227'",
		"GRANT UPDATE, CREATE TEMPORARY TABLES ON `salt\\_mere`.* TO `ann`@`localhost` WITH GRANT OPTION",
		"GRANT SELECT (`id`, `a ON b`), INSERT, UPDATE (`na``me`) ON `harbour`.`vis it` TO `ann`@`localhost`",
		"GRANT ALL PRIVILEGES ON `quay%`.* TO PUBLIC",
		"GRANT SELECT ON `a_b`.`t` TO `ann`@`%`",
		"GRANT EXECUTE ON FUNCTION `harbour`.`f` TO `ann`@`localhost`",
		"SET DEFAULT ROLE `clerk` FOR `ann`@`localhost`",
	} {
		if g, ok := parseGrant(text); ok {
			gs = append(gs, g)
		}
	}
	for _, c := range []struct {
		privilege, schema, table string
		columns                  []string
		want                     bool
	}{
		{"UPDATE", "salt_mere", "visit", nil, true},
		{"UPDATE", "saltXmere", "visit", nil, false}, // the letter is meant, not any
		{"CREATE TEMPORARY TABLES", "salt_mere", "", nil, true},
		{"SELECT", "salt_mere", "visit", nil, false},
		{"SELECT", "harbour", "vis it", []string{"ID", "a ON b"}, true},
		{"SELECT", "harbour", "vis it", []string{"id", "name"}, false},
		{"SELECT", "harbour", "vis it", nil, false}, // some columns are not the table
		{"UPDATE", "harbour", "vis it", []string{"na`me"}, true},
		{"INSERT", "harbour", "vis it", nil, true},
		{"INSERT", "harbour", "", nil, false}, // one table is not the database
		{"DROP", "quays", "", nil, true},
		{"DROP", "harbour", "", nil, false},
		{"SELECT", "a_b", "t", nil, true},
		{"SELECT", "axb", "t", nil, false}, // in a grant on one table it is no pattern
		{"EXECUTE", "harbour", "f", nil, false},
	} {
		if got := gs.may(c.privilege, c.schema, c.table, c.columns...); got != c.want {
			t.Errorf("%s on %s.%s %q: %v", c.privilege, c.schema, c.table, c.columns, got)
		}
	}
}
