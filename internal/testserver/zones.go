package testserver

// Zone is a time zone of our own making on a MariaDB server: summer time in 2020 and 2026, from whose end on, at
// 01:00 UTC on the last Sunday of October, the texts of an hour stand for two. Overseas has no summer time.
const (
	Zone     = "Saltmere"
	Overseas = "Saltmere overseas"
)

// Zones are the statements that make both, over the server's own tables.
var Zones = []string{
	"INSERT INTO mysql.time_zone VALUES (900, 'N'), (901, 'N')",
	"INSERT INTO mysql.time_zone_name VALUES ('" + Zone + "', 900), ('" + Overseas + "', 901)",
	"INSERT INTO mysql.time_zone_transition_type VALUES (900, 0, 3600, 0, 'SMT'), (900, 1, 7200, 1, 'SMST'), (901, 0, 32400, 0, 'SOT')",
	"INSERT INTO mysql.time_zone_transition VALUES (900, -2147483648, 0), (900, 1585443600, 1), (900, 1603587600, 0), (900, 1774746000, 1), (900, 1792890000, 0), (901, -2147483648, 0)",
}
