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

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ConnectKind is the cause of a connection that fails.
type ConnectKind string

const (
	BadURL         ConnectKind = "bad-url"
	NoSuchHost     ConnectKind = "no-such-host"
	NobodyListens  ConnectKind = "nobody-listens"
	NoAnswer       ConnectKind = "no-answer"
	WrongPassword  ConnectKind = "wrong-password"
	NotAdmitted    ConnectKind = "not-admitted"
	NoSuchDatabase ConnectKind = "no-such-database"
	NoTLS          ConnectKind = "no-tls"
	BadCertificate ConnectKind = "bad-certificate"
	TooMany        ConnectKind = "too-many-connections"
	NotReady       ConnectKind = "not-ready"
	Pooled         ConnectKind = "transaction-pooler"
	Other          ConnectKind = "other"
)

// ConnectError says why a target cannot be used, and what to change. It never
// holds a password.
type ConnectError struct {
	Kind    ConnectKind
	Message string
	Mend    string
}

func (e *ConnectError) Error() string { return e.Message + "; " + e.Mend }

// diagnose names the cause of a connection error.
func diagnose(config *pgx.ConnConfig, err error) *ConnectError {
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
		return &ConnectError{NoTLS, "the server at " + at + " offers no TLS, and the URL demands it",
			"turn TLS on at the server (ssl = on), or, on a network you trust, set sslmode=prefer or disable in the URL"}
	case errors.As(err, &certificate), errors.As(err, &unknown), errors.As(err, &hostname):
		return &ConnectError{BadCertificate, "the certificate of the server at " + at + " is not accepted: " + lastCause(err),
			"name the authority that signed it with sslrootcert=PATH in the URL, and check that the host name is the one in the certificate"}
	case errors.As(err, &dns):
		return &ConnectError{NoSuchHost, "there is no host " + config.Host, "correct the host in the URL"}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &ConnectError{NobodyListens, "nobody listens at " + at, "start the server, or correct host and port in the URL"}
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return &ConnectError{NoAnswer, "nothing answers at " + at, "check the host in the URL, and the firewall between it and the service"}
	}
	return &ConnectError{Other, "the target at " + at + " cannot be reached: " + lastCause(err), "check the URL and the server's log"}
}

// The SQLSTATEs are those of PostgreSQL's appendix A.
func diagnoseServer(config *pgx.ConnConfig, at string, refused *pgconn.PgError) *ConnectError {
	switch {
	case refused.Code == "28P01":
		return &ConnectError{WrongPassword, fmt.Sprintf("the server at %s refuses the password of user %s", at, config.User),
			"correct the password in the URL that the target's reference names"}
	case refused.Code == "28000" && strings.Contains(refused.Message, "no encryption"):
		return &ConnectError{NotAdmitted, fmt.Sprintf("the server at %s does not admit user %s without TLS", at, config.User),
			"set sslmode=require, or better verify-full, in the URL"}
	case refused.Code == "28000":
		return &ConnectError{NotAdmitted, fmt.Sprintf("the server at %s does not admit user %s: %s", at, config.User, refused.Message),
			"create the user, or let it in with a line in the server's pg_hba.conf"}
	case refused.Code == "3D000":
		return &ConnectError{NoSuchDatabase, fmt.Sprintf("the server at %s has no database %s", at, config.Database),
			"create it, or correct the database in the URL"}
	case refused.Code == "53300":
		return &ConnectError{TooMany, "the server at " + at + " has no connection left", "end sessions that nobody uses, or raise max_connections"}
	case refused.Code == "57P03":
		return &ConnectError{NotReady, "the server at " + at + " is starting or stopping", "try again in a moment"}
	}
	return &ConnectError{Other, fmt.Sprintf("the server at %s refuses the connection: %s (SQLSTATE %s)", at, refused.Message, refused.Code),
		"see the server's log"}
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
