package mariadb

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"vorrang/core/engine"
)

// A named lock is the server's, so its name holds the database's. Names have at most
// 64 characters. Source: https://mariadb.com/kb/en/get_lock/
func lockName(what, database string) string {
	sum := sha256.Sum256([]byte(database))
	return "vorrang-" + what + "-" + hex.EncodeToString(sum[:])[:40]
}

// deploys is held by whoever deploys, and busy by each connection on which steps run:
// should the session that holds the first go, nobody else begins before what it had
// begun has ended.
func (s *Session) deploys() string { return lockName("deploys", s.config.DBName) }
func (s *Session) busy() string    { return lockName("busy", s.config.DBName) }

// Lock implements engine.Lock.
func (s *Session) Lock(ctx context.Context) error {
	for _, name := range []string{s.deploys(), s.busy()} {
		got, err := s.own.number(ctx, "SELECT GET_LOCK(?, 0)", name)
		if err != nil {
			return fmt.Errorf("take the target's lock: %w", err)
		}
		if got != 1 {
			held := s.heldBy(ctx, name)
			s.Unlock()
			return held
		}
	}
	if _, err := s.own.number(ctx, "SELECT RELEASE_LOCK(?)", s.busy()); err != nil {
		return fmt.Errorf("take the target's lock: %w", err)
	}
	s.locked = true
	if err := s.Alive(ctx); err != nil {
		s.Unlock()
		return &engine.ConnectError{
			Kind:    engine.Pooled,
			Message: "at " + s.config.Addr + " answers a proxy that changes sessions, and can keep no lock",
			Fix:     "name the server itself in the URL",
			Err:     err,
		}
	}
	return nil
}

// heldBy says who holds a lock. What another user's session does is hidden from users
// without the right PROCESS.
func (s *Session) heldBy(ctx context.Context, name string) error {
	held := &engine.LockedError{}
	_ = s.own.each(
		ctx,
		`SELECT p.ID, p.USER, p.TIME_MS, p.INFO FROM information_schema.PROCESSLIST p WHERE p.ID = IS_USED_LOCK(?)`,
		[]any{name},
		func(row []string) error {
			_, _ = fmt.Sscan(row[0], &held.PID)
			held.User = row[1]
			return nil
		},
	) // it may have been let go in between
	if held.PID != 0 {
		_ = s.own.each(
			ctx,
			`SELECT ATTR_VALUE FROM performance_schema.session_connect_attrs WHERE PROCESSLIST_ID = ?
				AND ATTR_NAME = 'program_name'`,
			[]any{held.PID},
			func(row []string) error {
				held.Application = row[0]
				return nil
			},
		) // where the server keeps them
	}
	return held
}

// Unlock implements engine.Lock.
func (s *Session) Unlock() {
	ctx, cancel := context.WithTimeout(context.Background(), cancelGrace)
	defer cancel()
	s.locked = false
	_, _ = s.own.number(ctx, "SELECT RELEASE_ALL_LOCKS()") // closing the session does the same
}

// Alive implements engine.Lock.
func (s *Session) Alive(ctx context.Context) error {
	if !s.locked {
		_, err := s.own.number(ctx, "SELECT CONNECTION_ID()")
		return err
	}
	held, err := s.own.number(ctx, "SELECT IS_USED_LOCK(?) = CONNECTION_ID()", s.deploys())
	if err == nil && held != 1 {
		s.own.lost = true
		return &engine.LostError{Err: errNotHeld}
	}
	return err
}

// cancelGrace is how long a statement that is cancelled may take to end.
const cancelGrace = 5 * time.Second
