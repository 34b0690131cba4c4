package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// certificate makes an authority and a server's certificate from it, for 127.0.0.1,
// and gives the files: the authority, the certificate and its key.
func certificate(t *testing.T) (ca, cert, key string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "jugatum-tls-") // which the server's own user can read
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	write := func(name, kind string, der []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	made := func(x, parent *x509.Certificate, own, signer *ecdsa.PrivateKey) []byte {
		der, err := x509.CreateCertificate(rand.Reader, x, parent, &own.PublicKey, signer)
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
	newKey := func() *ecdsa.PrivateKey {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmere test authority"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "db.saltmere.test"}, NotBefore: root.NotBefore, NotAfter: root.NotAfter,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	rootKey, leafKey := newKey(), newKey()
	der, err := x509.MarshalECPrivateKey(leafKey)
	if err != nil {
		t.Fatal(err)
	}
	return write("ca.pem", "CERTIFICATE", made(root, root, rootKey, rootKey)), write("cert.pem", "CERTIFICATE", made(leaf, root, leafKey, rootKey)), write("key.pem", "EC PRIVATE KEY", der)
}

// TestTLSPostgres: sslmode means what the server's own client means by it, and what
// was agreed is told.
func TestTLSPostgres(t *testing.T) {
	beside(t)
	ca, cert, key := certificate(t)
	other, _, _ := certificate(t)
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	if u, err := user.Lookup("postgres"); os.Geteuid() == 0 && err == nil { // whose server reads it
		if err := os.Chown(key, atoi(u.Uid), atoi(u.Gid)); err != nil {
			t.Fatal(err)
		}
	}
	d := ownServer(t, "ssl=on", "ssl_cert_file="+cert, "ssl_key_file="+key)
	plain := strings.TrimSuffix(d.url, "sslmode=disable")
	for _, c := range []struct {
		name, options string
		status        int
		words         string
	}{
		{"none", "sslmode=disable", 0, "in clear"},
		{"left out", "", 0, "TLSv1."},
		{"an authority that nobody named", "sslmode=verify-full", 1, "sslrootcert=PATH"},
		{"another authority", "sslmode=verify-full&sslrootcert=" + other, 1, "sslrootcert=PATH"},
		{"the authority named", "sslmode=verify-full&sslrootcert=" + ca, 0, "TLSv1."},
		{"any certificate", "sslmode=require", 0, "TLSv1."},
	} {
		d.url = plain + c.options
		if o := d.jugatum("survey"); o.status != c.status || !strings.Contains(o.out+o.err, c.words) {
			t.Errorf("%s: status %d\n%s%s", c.name, o.status, o.out, o.err)
		}
	}
}

// TestTLS: a certificate is verified against the authority that is named, and what
// was agreed is told.
func TestTLS(t *testing.T) {
	beside(t)
	ca, cert, key := certificate(t)
	_, d := ownMariaDB(t, "ssl-ca="+ca, "ssl-cert="+cert, "ssl-key="+key)
	plain := d.url
	for _, c := range []struct {
		name, options string
		status        int
		words         string
	}{
		{"none, on this machine", "", 0, "in clear"},
		{"an authority that nobody named", "?tls=true", 1, "tls-ca=PATH"},
		{"the authority named", "?tls-ca=" + ca, 0, "TLSv1."},
		{"any certificate", "?tls=skip-verify", 0, "TLSv1."},
		{"if there is any", "?tls=preferred", 0, "TLSv1."},
	} {
		d.url = plain + c.options
		if o := d.jugatum("survey"); o.status != c.status || !strings.Contains(o.out+o.err, c.words) || strings.Contains(o.err, "offers no TLS") {
			t.Errorf("%s: status %d\n%s%s", c.name, o.status, o.out, o.err)
		}
	}
	// The server of the other tests has none.
	other := fresh(t, "mariadb")
	plain = other.url
	other.url = plain + "?tls=preferred"
	if o := other.must(0, "survey"); !strings.Contains(o.err, "offers no TLS") || !strings.Contains(o.out, "in clear") {
		t.Error(o.err)
	}
	other.url = plain + "?tls=true"
	if o := other.must(1, "survey"); !strings.Contains(o.err, "tls=false") {
		t.Error(o.err)
	}
}
