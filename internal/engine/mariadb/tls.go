package mariadb

import (
	"context"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/engine"
)

// How a connection is protected: over a network by TLS with a certificate that is
// verified, unless the URL says otherwise in words.

// secure sets up TLS as the URL wants it: "" is verified over a network and none on
// this machine; false, preferred and skip-verify have to be said.
func secure(cfg *mysql.Config, name, mode, ca string) error {
	fail := func(err error, do string) error {
		return &engine.OpenError{Name: name, Err: err, Do: do, Usage: true}
	}
	network := cfg.Net == "tcp" && !loopback(cfg.Addr)
	switch {
	case mode == "" && (network || ca != ""):
		mode = "true"
	case mode == "":
		mode = "false"
	}
	switch mode {
	case "true", "false", "preferred", "skip-verify":
		cfg.TLSConfig = mode
	default:
		return fail(fmt.Errorf("tls=%s is not known", mode), "known are tls=true, false, preferred and skip-verify")
	}
	if ca != "" {
		if mode != "true" {
			return fail(fmt.Errorf("tls-ca without tls=true would verify nothing"), "leave tls out")
		}
		pem, err := os.ReadFile(ca)
		if err != nil {
			return fail(fmt.Errorf("tls-ca: %w", err), "give the file with the certificates of the authority")
		}
		roots := x509.NewCertPool()
		if !roots.AppendCertsFromPEM(pem) {
			return fail(fmt.Errorf("tls-ca: %s holds no certificate", ca), "give the file with the certificates of the authority, as PEM")
		}
		host, _, err := net.SplitHostPort(cfg.Addr)
		if err != nil {
			return fail(err, "")
		}
		cfg.TLS, cfg.TLSConfig = &tls.Config{RootCAs: roots, ServerName: host, MinVersion: tls.VersionTLS12}, ""
	}
	if mode == "false" || mode == "preferred" {
		withholdKey(cfg)
	}
	return nil
}

func loopback(addr string) bool {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// nobodys is the name, to the driver, of a key that is too short to encrypt anything.
const nobodys = "jugatum-nobody"

func init() {
	mysql.RegisterServerPubKey(nobodys, &rsa.PublicKey{N: big.NewInt(61 * 53), E: 17})
}

// withholdKey has the driver fail where a server asks, without TLS, for a password
// encrypted by a key that it offers: by some ways of authentication (none of
// MariaDB's own), anybody in between could offer a key of his own and read it.
func withholdKey(cfg *mysql.Config) {
	if cfg.Net == "tcp" {
		cfg.ServerPubKey = nobodys
	}
}

// certificate explains an error of TLS.
func certificate(err error) (string, bool) {
	switch {
	case errors.Is(err, mysql.ErrNoTLS):
		return "the server offers no TLS, and the password would cross the network where others can read it; tls=false in the URL says that it may", true
	case engine.Uncertified(err) != nil:
		return "tls-ca=PATH in the URL names the authority that the server's certificate is from; tls=skip-verify takes any", true
	}
	return "", false
}

// InClear reports that tls=preferred went on without.
func (db *DB) InClear() bool { return db.clear }

// protection tells what was agreed.
func (db *DB) protection(ctx context.Context) (engine.Setting, error) {
	var name, version string
	if err := db.pool.QueryRowContext(ctx, "SHOW SESSION STATUS LIKE 'Ssl_version'").Scan(&name, &version); err != nil {
		return engine.Setting{}, err
	}
	s := engine.Setting{Name: "connection", Value: version, Meaning: "how it is protected"}
	if version == "" {
		s.Value = "in clear"
		if db.config.Net == "tcp" && !loopback(db.config.Addr) {
			s.Advice = "what is read and written crosses the network where others can read and change it; tls=true in the URL asks for TLS"
		} else {
			s.Meaning = "how it is protected; it does not leave this machine"
		}
	}
	return s, nil
}
