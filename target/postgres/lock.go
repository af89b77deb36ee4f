package postgres

import (
	"context"
	"fmt"
	"time"

	"vorrang/core/engine"

	"github.com/jackc/pgx/v5"
)

// lockKey is the session-level advisory lock of a target: the bytes "Vorrang1".
// Advisory locks belong to one database, so every target has its own.
const lockKey int64 = 0x566f7272616e6731

// busyKey is the lock that every transaction of a step holds: "Vorrang2".
const busyKey int64 = 0x566f7272616e6732

const whoHoldsLock = `SELECT a.pid, a.application_name, coalesce(a.usename::text, ''), a.backend_start
FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_stat_activity a USING (pid)
WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1 AND l.mode = 'ExclusiveLock'
  AND l.database = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
  AND (l.classid::bigint << 32) | l.objid::bigint = $1`

// Lock takes the target's lock until the session ends. It does not wait: a lock
// that another session holds is a *engine.LockedError. A pooler that hands sessions
// around cannot keep a lock, and is a *engine.ConnectError.
func (s *Session) Lock(ctx context.Context) error {
	if err := s.requireSession(ctx); err != nil {
		return err
	}
	var locked, idle bool
	if err := s.conn.QueryRow(ctx, `SELECT pg_catalog.pg_try_advisory_lock($1)`, lockKey).Scan(&locked); err != nil {
		return fmt.Errorf("take the target's lock: %w", s.wrap(err))
	}
	wanted := lockKey
	if locked { // what a service that was killed began may still be running
		wanted = busyKey
		if err := s.conn.QueryRow(ctx, `SELECT pg_catalog.pg_try_advisory_xact_lock($1)`, busyKey).Scan(&idle); err != nil {
			return fmt.Errorf("take the target's lock: %w", s.wrap(err))
		}
	}
	if idle {
		return nil
	}
	if locked {
		defer s.Unlock()
	}
	var held engine.LockedError
	var since *time.Time // hidden from users without rights on the other session
	err := s.conn.QueryRow(ctx, whoHoldsLock, wanted).Scan(&held.PID, &held.Application, &held.User, &since)
	if err != nil {
		return &engine.LockedError{} // it may have been let go in between
	}
	if since != nil {
		held.Since = *since
	}
	return &held
}

// waitsOn is the table whose lock a session waits for; who waits for a row waits for the end
// of a transaction, and there is none.
const waitsOn = `coalesce((SELECT pg_catalog.min(pg_catalog.format('%I.%I', n.nspname, c.relname))
	FROM pg_catalog.pg_locks w JOIN pg_catalog.pg_class c ON c.oid = w.relation
		JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE NOT w.granted AND w.pid = `

const whoBlocks = `SELECT a.pid, coalesce(a.usename::text, ''), coalesce(a.application_name, ''), coalesce(a.state,
	''), pg_catalog."left"(coalesce(a.query, ''), 300), ` + waitsOn + `$1), '')
FROM pg_catalog.unnest(pg_catalog.pg_blocking_pids($1)) AS blocking (pid)
	JOIN pg_catalog.pg_stat_activity a ON a.pid = blocking.pid ORDER BY a.pid`

// Blockers implements engine.Watcher. It asks over our own connection, which has
// nothing else to do while a statement of a step runs.
func (s *Session) Blockers(ctx context.Context) ([]engine.Blocker, error) {
	return s.sessions(ctx, whoBlocks)
}

func (s *Session) sessions(ctx context.Context, query string) ([]engine.Blocker, error) {
	rows, err := s.conn.Query(ctx, query, int32(s.pid))
	if err != nil {
		return nil, fmt.Errorf("ask who waits for whom: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (engine.Blocker, error) {
		var b engine.Blocker
		err := row.Scan(&b.PID, &b.User, &b.Application, &b.State, &b.Query, &b.Table)
		if b.Query == "<insufficient privilege>" {
			b.Query = ""
		}
		return b, err
	})
}

// whoWaits goes from the steps' session to those who wait for it, and on to those who
// wait for them. What others hold and wait for is told to everybody in pg_locks.
const whoWaits = `WITH RECURSIVE waiting AS (
	SELECT l.pid, pg_catalog.pg_blocking_pids(l.pid) AS by FROM (SELECT DISTINCT pid FROM pg_catalog.pg_locks
	WHERE NOT granted) l WHERE l.pid <> $1
), behind AS (
	SELECT pid FROM waiting WHERE $1 = ANY (by)
	UNION SELECT w.pid FROM waiting w JOIN behind b ON b.pid = ANY (w.by)
)
SELECT a.pid, coalesce(a.usename::text, ''), coalesce(a.application_name, ''), coalesce(a.state, ''),
	pg_catalog."left"(coalesce(a.query, ''), 300), ` + waitsOn + `a.pid), '')
FROM behind JOIN pg_catalog.pg_stat_activity a USING (pid) ORDER BY a.pid`

// KeptWaiting implements engine.Yielder.
func (s *Session) KeptWaiting(ctx context.Context) ([]engine.Blocker, error) {
	return s.sessions(ctx, whoWaits)
}

// CancelStatement implements engine.Yielder.
func (s *Session) CancelStatement(ctx context.Context) error {
	_, err := s.conn.Exec(ctx, "SELECT pg_catalog.pg_cancel_backend($1)", int32(s.pid))
	return s.wrap(err)
}

// Identity says which database this is, by what the server says of itself: the
// same for two sessions on one database, whatever names and addresses their URLs
// give. It holds until the server is started again.
func (s *Session) Identity(ctx context.Context) (string, error) {
	var identity string
	err := s.conn.QueryRow(ctx, `SELECT extract(epoch
		FROM pg_catalog.pg_postmaster_start_time())::text || ' ' || pg_catalog.current_setting('port') || ' ' || oid::text
		FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()`).
		Scan(&identity)
	if err != nil {
		return "", fmt.Errorf("ask which database this is: %w", s.wrap(err))
	}
	return identity, nil
}

// Alive is an error if the session, and with it its lock, is gone.
func (s *Session) Alive(ctx context.Context) error {
	_, err := s.backend(ctx)
	return err
}

// Unlock lets the target's lock go at once, so that whoever was told that a
// deployment ended can begin the next. It does nothing where the connection is
// gone: the lock went with it.
func (s *Session) Unlock() {
	ctx, cancel := context.WithTimeout(context.Background(), cancelGrace)
	defer cancel()
	_ = s.exec(ctx, "SELECT pg_catalog.pg_advisory_unlock_all()") // closing the session does the same
}
