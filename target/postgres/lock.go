package postgres

import (
	"context"
	"fmt"
	"time"
)

// lockKey is the session-level advisory lock of a target: the bytes "Vorrang1".
// Advisory locks belong to one database, so every target has its own.
const lockKey int64 = 0x566f7272616e6731

// LockedError says who holds a target's lock.
type LockedError struct {
	PID         int32
	Application string
	User        string
	Since       time.Time
}

func (e *LockedError) Error() string {
	if e.PID == 0 {
		return "the target's lock is held by another session"
	}
	since := ""
	if !e.Since.IsZero() {
		since = ", connected since " + e.Since.UTC().Format(time.DateTime+" UTC")
	}
	return fmt.Sprintf("the target's lock is held by session %d (%s, user %s)%s", e.PID, e.Application, e.User, since)
}

const whoHoldsLock = `SELECT a.pid, a.application_name, coalesce(a.usename::text, ''), a.backend_start
FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_stat_activity a USING (pid)
WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1 AND l.mode = 'ExclusiveLock'
  AND l.database = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
  AND (l.classid::bigint << 32) | l.objid::bigint = $1`

// Lock takes the target's lock until the session ends. It does not wait: a lock
// that somebody else holds is a *LockedError. A pooler that hands sessions
// around cannot keep a lock, and is a *ConnectError.
func (s *Session) Lock(ctx context.Context) error {
	if err := s.requireSession(ctx); err != nil {
		return err
	}
	var locked bool
	if err := s.conn.QueryRow(ctx, `SELECT pg_catalog.pg_try_advisory_lock($1)`, lockKey).Scan(&locked); err != nil {
		return fmt.Errorf("take the target's lock: %w", s.wrap(err))
	}
	if locked {
		return nil
	}
	var held LockedError
	var since *time.Time // hidden from users without rights on the other session
	err := s.conn.QueryRow(ctx, whoHoldsLock, lockKey).Scan(&held.PID, &held.Application, &held.User, &since)
	if err != nil {
		return &LockedError{} // it may have been let go in between
	}
	if since != nil {
		held.Since = *since
	}
	return &held
}

// Unlock lets the target's lock go at once, so that whoever was told that a
// deployment ended can begin the next. It does nothing where the connection is
// gone: the lock went with it.
func (s *Session) Unlock() {
	ctx, cancel := context.WithTimeout(context.Background(), cancelGrace)
	defer cancel()
	_ = s.exec(ctx, "SELECT pg_catalog.pg_advisory_unlock_all()") // closing the session does the same
}
