package engine

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
)

// Uncertified gives the error with which a server's certificate was not accepted,
// nil if it was something else.
func Uncertified(err error) error {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var verify *tls.CertificateVerificationError
	switch {
	case errors.As(err, &verify):
		return verify
	case errors.As(err, &unknown):
		return unknown
	case errors.As(err, &host):
		return host
	case errors.As(err, &invalid):
		return invalid
	}
	return nil
}
