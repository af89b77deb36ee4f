package postgres

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"

	"vorrang/core/engine"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// diagnose names the cause of a connection error.
func diagnose(config *pgx.ConnConfig, err error) *engine.ConnectError {
	cause := causeOf(config, err)
	cause.Err = err
	return cause
}

func causeOf(config *pgx.ConnConfig, err error) *engine.ConnectError {
	at := fmt.Sprintf("%s:%d", config.Host, config.Port)
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return diagnoseServer(config, at, refused)
	}
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var hostname x509.HostnameError
	var certificate *tls.CertificateVerificationError
	var timeout net.Error
	switch {
	case strings.Contains(err.Error(), "server refused TLS connection"):
		return &engine.ConnectError{
			Kind:    engine.NoTLS,
			Message: "the server at " + at + " offers no TLS, and the URL demands it",
			Fix: "turn TLS on at the server (ssl = on), or, on a network you trust, set sslmode=prefer or disable " +
				"in the URL",
		}
	case errors.As(err, &certificate), errors.As(err, &unknown), errors.As(err, &hostname):
		return &engine.ConnectError{
			Kind:    engine.BadCertificate,
			Message: "the certificate of the server at " + at + " is not accepted: " + lastCause(err),
			Fix: "name the authority that signed it with sslrootcert=PATH in the URL, and check that the host name is " +
				"the one in the certificate",
		}
	case errors.As(err, &dns):
		return &engine.ConnectError{
			Kind:    engine.NoSuchHost,
			Message: "there is no host " + config.Host,
			Fix:     "correct the host in the URL",
		}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &engine.ConnectError{
			Kind:    engine.NobodyListens,
			Message: "nobody listens at " + at,
			Fix:     "start the server, or correct host and port in the URL",
		}
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return &engine.ConnectError{
			Kind:    engine.NoAnswer,
			Message: "nothing answers at " + at,
			Fix:     "check the host in the URL, and the firewall between it and the service",
		}
	}
	return &engine.ConnectError{
		Kind:    engine.Unknown,
		Message: "the target at " + at + " cannot be reached: " + lastCause(err),
		Fix:     "check the URL and the server's log",
	}
}

// The SQLSTATEs are those of PostgreSQL's appendix A.
func diagnoseServer(config *pgx.ConnConfig, at string, refused *pgconn.PgError) *engine.ConnectError {
	switch {
	case refused.Code == "28P01":
		return &engine.ConnectError{
			Kind:    engine.WrongPassword,
			Message: fmt.Sprintf("the server at %s refuses the password of user %s", at, config.User),
			Fix:     "correct the password in the URL that the target's reference names",
		}
	case refused.Code == "28000" && strings.Contains(refused.Message, "no encryption"):
		return &engine.ConnectError{
			Kind:    engine.NotAdmitted,
			Message: fmt.Sprintf("the server at %s does not admit user %s without TLS", at, config.User),
			Fix:     "set sslmode=require, or better verify-full, in the URL",
		}
	case refused.Code == "28000":
		return &engine.ConnectError{
			Kind:    engine.NotAdmitted,
			Message: fmt.Sprintf("the server at %s does not admit user %s: %s", at, config.User, refused.Message),
			Fix:     "create the user, or let it in with a line in the server's pg_hba.conf",
		}
	case refused.Code == "3D000":
		return &engine.ConnectError{
			Kind:    engine.NoSuchDatabase,
			Message: fmt.Sprintf("the server at %s has no database %s", at, config.Database),
			Fix:     "create it, or correct the database in the URL",
		}
	case refused.Code == "53300":
		return &engine.ConnectError{
			Kind:    engine.TooMany,
			Message: "the server at " + at + " has no connection left",
			Fix:     "end sessions that nobody uses, or raise max_connections",
		}
	case refused.Code == "57P03":
		return &engine.ConnectError{
			Kind:    engine.NotReady,
			Message: "the server at " + at + " is starting or stopping",
			Fix:     "try again in a moment",
		}
	}
	return &engine.ConnectError{
		Kind: engine.Unknown,
		Message: fmt.Sprintf(
			"the server at %s refuses the connection: %s (SQLSTATE %s)",
			at, refused.Message, refused.Code,
		),
		Fix: "see the server's log",
	}
}

// lastCause is the innermost message of an error chain, which holds neither
// URL nor password.
func lastCause(err error) string {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err.Error()
		}
		err = next
	}
}
