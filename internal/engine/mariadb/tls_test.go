package mariadb

import (
	"os"
	"path/filepath"
	"testing"
)

// TestTLS: over a network a connection is protected unless the URL says otherwise.
func TestTLS(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(bad, []byte("no certificate"), 0o600); err != nil {
		t.Fatal(err)
	}
	for raw, want := range map[string]string{
		"mariadb://dba@db1/saltmere":                               "true",
		"mariadb://dba@db1/saltmere?tls=false":                     "false",
		"mariadb://dba@db1/saltmere?tls=preferred":                 "preferred",
		"mariadb://dba@db1/saltmere?tls=skip-verify":               "skip-verify",
		"mariadb://dba@localhost/saltmere":                         "false",
		"mariadb://dba@127.0.0.1:3307/saltmere":                    "false",
		"mariadb://dba@[::1]/saltmere":                             "false",
		"mariadb://dba@[2001:db8::1]/saltmere":                     "true",
		"mariadb://dba@10.0.0.1/saltmere":                          "true",
		"mariadb://dba@localhost/saltmere?tls=true":                "true",
		"mariadb://dba@h/saltmere?socket=/run/m.sock":              "false",
		"mariadb://dba@db1/saltmere?tls=maybe":                     "refused",
		"mariadb://dba@db1/saltmere?tls-ca=/no/such/file":          "refused",
		"mariadb://dba@db1/saltmere?tls-ca=" + bad:                 "refused",
		"mariadb://dba@db1/saltmere?tls=skip-verify&tls-ca=" + bad: "refused",
	} {
		cfg, err := parse(raw)
		got := "refused"
		if err == nil {
			got = cfg.TLSConfig
			if plain := got == "false" || got == "preferred"; plain != (cfg.ServerPubKey != "") && cfg.Net == "tcp" {
				t.Errorf("%s: the server's key would be asked for in clear", raw)
			}
		}
		if got != want {
			t.Errorf("%s: %s, want %s", raw, got, want)
		}
	}
}
