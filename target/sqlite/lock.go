package sqlite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"vorrang/core/engine"
)

// SQLite's own locks end with a transaction. What keeps two deployments apart is a
// lock of the operating system on a file beside the database, which ends with the
// process that holds it, however that ends. Source: flock(2).

// lockEnding is what the file's name ends with.
const lockEnding = "-vorrang-lock"

// Lock implements engine.Lock.
func (s *Session) Lock(context.Context) error {
	file, err := os.OpenFile(s.at.path+lockEnding, os.O_RDWR|os.O_CREATE|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return fmt.Errorf("take the target's lock: %s%s: %s", s.at.path, lockEnding, reasonOf(err))
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer file.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return heldBy(file)
		}
		return fmt.Errorf("take the target's lock: %w", err)
	}
	s.lock = file
	note := fmt.Sprintf("%d\n%s\n%s\n", os.Getpid(), s.application, time.Now().UTC().Format(time.RFC3339))
	if err := errors.Join(file.Truncate(0), second(file.WriteAt([]byte(note), 0))); err != nil {
		s.Unlock()
		return fmt.Errorf("note who holds the target's lock: %w", err)
	}
	return s.Alive(context.Background()) // it may have been taken on a file that is no longer there
}

func second(_ int, err error) error { return err }

// heldBy reads who holds a lock.
func heldBy(file *os.File) error {
	const most = 1000
	text := make([]byte, most)
	n, _ := file.ReadAt(text, 0) // whoever takes it writes after that
	held := &engine.LockedError{User: "of the operating system"}
	lines := strings.SplitN(string(text[:n]), "\n", 4)
	if len(lines) == 4 {
		_, _ = fmt.Sscanf(lines[0], "%d", &held.PID)
		held.Application = lines[1]
		held.Since, _ = time.Parse(time.RFC3339, lines[2])
	}
	return held
}

// Unlock implements engine.Lock.
func (s *Session) Unlock() {
	if s.lock != nil {
		_ = s.lock.Close() // which gives the lock back
		s.lock = nil
	}
}

// Alive implements engine.Lock. Whoever puts another file in the place of the
// database, such as a backup, or takes the lock's away, ends the session.
func (s *Session) Alive(context.Context) error {
	now, err := os.Stat(s.at.path)
	switch {
	case err != nil:
		return s.lose("the file " + s.at.path + " is gone")
	case !os.SameFile(now, s.at.file):
		return s.lose("another file was put in the place of " + s.at.path)
	case s.lock == nil:
		return nil
	}
	held, err := s.lock.Stat()
	if err == nil {
		if now, err = os.Stat(s.at.path + lockEnding); err == nil && os.SameFile(now, held) {
			return nil
		}
	}
	return s.lose("the lock's file beside " + s.at.path + " was taken away")
}

func (s *Session) lose(why string) error {
	s.gone = true
	return &engine.LostError{Err: errors.New(why)}
}
