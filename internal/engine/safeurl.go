package engine

import (
	"net/url"
	"strings"
)

// shownOptions are the options of a database's URL that hold no secret.
var shownOptions = map[string]bool{"sslmode": true, "search_path": true, "target_session_attrs": true, "application_name": true, "connect_timeout": true, "mode": true,
	"foreign_keys": true, "socket": true, "tls": true, "tls-ca": true, "host": true, "port": true, "dbname": true, "user": true, "sslrootcert": true, "sslcert": true, "fallback_application_name": true,
	"default_query_exec_mode": true}

// SafeURL is what may be shown of what names a database: no part of a password,
// however it is written. What cannot surely be taken apart is not shown at all.
func SafeURL(raw string) string {
	scheme, rest, ok := strings.Cut(raw, ":")
	switch {
	case ok && scheme == "sqlite":
		return raw
	case !ok || !known(scheme):
		return "…"
	case !strings.HasPrefix(rest, "//"):
		return scheme + ":…"
	}
	// An @ or a slash that is not escaped ends the user's part too early.
	authority, _, _ := strings.Cut(rest[2:], "/")
	authority, _, _ = strings.Cut(authority, "?")
	u, err := url.Parse(raw)
	if err != nil || u.Fragment != "" || strings.Count(raw, "@") != strings.Count(authority, "@") || strings.Count(raw, "@") > 1 {
		return scheme + "://…"
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	for k := range q {
		switch {
		case shownOptions[k]:
		case k == "password" || k == "sslpassword" || k == "sslkey" || k == "passfile" || k == "options":
			q.Set(k, "…")
		default: // may be the end of a password that is not escaped
			q.Del(k)
		}
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// Encode is the advice for a database's URL that cannot surely be taken apart.
const Encode = "in its user, password and name write %40 for @, %2F for /, %3A for :, %3F for ?, %23 for # and %25 for %"

// Unsure reports whether SafeURL could not tell the parts of what it was given.
func Unsure(name string) bool { return strings.HasSuffix(name, "…") && !strings.Contains(name, "?") }

// HasPassword reports whether a database's URL holds a password.
func HasPassword(raw string) bool {
	u, err := url.Parse(raw)
	if err != nil {
		return false
	}
	_, has := u.User.Password()
	return has || u.Query().Has("password")
}

// known reports whether a word is the beginning of a database's URL; anything
// else before a colon may be a part of something else.
func known(scheme string) bool {
	switch scheme {
	case "postgres", "postgresql", "mariadb", "mysql":
		return true
	}
	return false
}
