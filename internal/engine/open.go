package engine

import (
	"context"
	"slices"
	"strings"

	"jugatum/internal/change"
)

// A Driver opens databases of one kind. An engine registers its own.
type Driver struct {
	Schemes []string // of the URLs that name such a database; the first is the usual one
	Shape   string   // how such a URL looks, for messages
	File    bool     // the database is a file, with its ledger in it
	Dialect change.Dialect
	Open    func(ctx context.Context, url string) (DB, error)
}

var drivers []Driver

// Register adds an engine. It is called before any database is opened, by each engine's
// own package; a scheme belongs to one of them.
func Register(d Driver) {
	for _, scheme := range d.Schemes {
		if _, ok := driverOf(scheme + ":"); ok {
			panic("engine: two engines for " + scheme + ":")
		}
	}
	drivers = append(drivers, d)
	slices.SortFunc(drivers, func(a, b Driver) int {
		if a.File != b.File { // what needs no server comes first
			if a.File {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Schemes[0], b.Schemes[0])
	})
}

func driverOf(url string) (Driver, bool) {
	scheme, _, _ := strings.Cut(url, ":")
	i := slices.IndexFunc(drivers, func(d Driver) bool { return slices.Contains(d.Schemes, scheme) })
	if i < 0 {
		return Driver{}, false
	}
	return drivers[i], true
}

// IsFile reports whether a URL names a file, in which the ledger is as well.
func IsFile(url string) bool {
	d, ok := driverOf(url)
	return ok && d.File
}

// Shapes lists how the URLs of databases look.
func Shapes() []string {
	var out []string
	for _, d := range drivers {
		out = append(out, d.Shape)
	}
	return out
}

// Dialects lists those of the engines there are.
func Dialects() (out []change.Dialect) {
	for _, d := range drivers {
		if d.Dialect != nil {
			out = append(out, d.Dialect)
		}
	}
	return out
}

// Open connects to the database that a URL names.
func Open(ctx context.Context, url string) (DB, error) {
	d, ok := driverOf(url)
	if !ok {
		return nil, &SchemeError{URL: SafeURL(url)}
	}
	return d.Open(ctx, url)
}

// SchemeError is a URL that no engine knows.
type SchemeError struct{ URL string }

func (e *SchemeError) Error() string {
	return e.URL + ": the database is named " + strings.Join(Shapes(), " or ")
}
