package generated

import "fmt"

// otherKey is a type of which a key can be, with a value for each row.
type otherKey struct {
	typ string
	of  func(i int) string // SQL, another one for each row
}

func seventh(i int) string { return fmt.Sprintf("%.17g", float64(i-9)/7) }

// otherKeys are types whose values are written, read and compared in ways of their
// own, by engine.
var otherKeys = map[string][]otherKey{
	"postgres": {
		{"double precision", seventh},
		{"real", func(i int) string { return fmt.Sprintf("%.6g", float64(i-9)/7) }},
		{"timestamptz", func(i int) string {
			return fmt.Sprintf("timestamptz '2026-10-24 22:00:00.000001+00' + interval '%d minutes'", i*20)
		}},
		{"interval", func(i int) string { return fmt.Sprintf("interval '%d days %d.5 seconds'", i-5, i) }},
		{"uuid", func(i int) string { return fmt.Sprintf("'00000000-0000-0000-%04x-%012x'", i*7919%65536, i) }},
		{"inet", func(i int) string { return fmt.Sprintf("'10.0.%d.%d/24'", i%3, i) }},
		{"char(10)", func(i int) string { return fmt.Sprintf("'k%d'", i*31%97) }},
		{`varchar(20) COLLATE "C"`, func(i int) string { return fmt.Sprintf("'%c%d'", []rune("Äaß_")[i%4], i) }},
		{"time", func(i int) string { return fmt.Sprintf("'%02d:%02d:00.5'", i%24, i) }},
	},
	"mariadb": {
		{"year", func(i int) string {
			if i == 0 {
				return "'0000'"
			}
			return fmt.Sprintf("'%d'", 1980+i)
		}},
		{"double", seventh},
		{"time(3)", func(i int) string { return fmt.Sprintf("'%s%d:%02d:00.125'", []string{"", "-"}[i%2], i, i) }},
		{"timestamp(6)", func(i int) string { return fmt.Sprintf("'2026-10-25 %02d:%02d:00.5'", i/12, i%12*5) }},
		{"inet6", func(i int) string { return fmt.Sprintf("'fe80::%x'", i*7919%65536) }},
		{"char(10)", func(i int) string { return fmt.Sprintf("'k%d'", i*31%97) }},
		{"varchar(20) CHARACTER SET latin1", func(i int) string { return fmt.Sprintf("'%c%d'", []rune("Äaß_")[i%4], i) }},
		{"decimal(30,10)", func(i int) string { return fmt.Sprintf("%d.0000000%03d", i-7, i) }},
		{"binary(6)", func(i int) string { return fmt.Sprintf("x'00%02x%02x'", i%5*60, i) }},
	},
	"sqlite": {
		{"REAL", seventh},
		{"TEXT COLLATE NOCASE", func(i int) string { return fmt.Sprintf("'%c%d'", []rune("AaÄ_")[i%4], i) }},
		{"NUMERIC", func(i int) string { return []string{fmt.Sprint(i), seventh(i), fmt.Sprintf("'t%d'", i)}[i%3] }},
		{"DATETIME", func(i int) string { return fmt.Sprintf("'2026-10-%02d %02d:00'", 1+i%28, i%24) }},
	},
}

// withOtherKey is a case with a key of the n-th of these types, over and over again.
func withOtherKey(c Choice, n int) Choice {
	list := uint64(len(otherKeys[c.Engine]))
	c.Key, c.Seed = 10, c.Seed-c.Seed%list+uint64(n)%list
	return c
}

// other is the type that the seed takes.
func (b *builder) other() otherKey {
	list := otherKeys[b.Engine]
	return list[b.Seed%uint64(len(list))]
}
