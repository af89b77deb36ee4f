package records

import (
	"errors"
	"io"
	"io/fs"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// Away reports whether an error is that the records cannot be reached now, or that others
// cannot see that this service lives: what was asked may go through in a moment, or at
// another service.
func Away(err error) bool {
	var connect *pgconn.ConnectError
	var refused *pgconn.PgError
	var network net.Error
	switch {
	case errors.As(err, new(LostError)), errors.As(err, &connect):
		return true
	case errors.As(err, &refused): // Source: https://www.postgresql.org/docs/current/errcodes-appendix.html
		return strings.HasPrefix(refused.Code, "08") || strings.HasPrefix(refused.Code, "57P")
	case errors.As(err, new(*fs.PathError)): // of a file or a program; what is in it counts as a net.Error
		return false
	}
	return errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		pgconn.SafeToRetry(err)
}
