package sqlite

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vorrang/core/engine"
)

// scratchPrefix begins the name of a file for trials, which stands beside a target.
const scratchPrefix = ".vorrang-scratch-"

// scratch is an empty file for trials.
type scratch struct{ *Session }

// NewScratch implements engine.Workshop. SQLite has no roles, and a file holds no
// other databases.
func (e Engine) NewScratch(ctx context.Context, url, _ string, _ bool) (engine.Scratch, error) {
	target, err := e.find(url)
	if err != nil {
		return nil, err
	}
	path, err := beside(target)
	if err != nil {
		return nil, err
	}
	return e.opened(ctx, path, target, func(*conn) error { return nil })
}

// beside makes an empty file in a target's folder, and removes what was left there long ago.
func beside(t target) (path string, err error) {
	folder := filepath.Dir(t.path)
	sweep(folder)
	path = filepath.Join(folder, engine.ScratchName(scratchPrefix, time.Now()))
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		err = file.Close()
	}
	if err != nil {
		return "", fmt.Errorf("make a scratch database beside the target: %w", err)
	}
	return path, nil
}

// opened makes a scratch database of a file that was made beside another for it, and
// removes the file where it cannot be used.
func (Engine) opened(ctx context.Context, path string, of target, ready func(*conn) error) (engine.Scratch, error) {
	at := target{path: path, foreignKeys: of.foreignKeys}
	var err error
	if at.file, err = os.Stat(path); err != nil {
		remove(path)
		return nil, fmt.Errorf("make a scratch database beside the target: %w", err)
	}
	session, err := open(ctx, at, "vorrangd scratch")
	if err == nil {
		if err = ready(session.own); err != nil {
			session.Close()
		}
	}
	if err != nil {
		remove(path)
		return nil, err
	}
	return &scratch{session}, nil
}

// Run implements engine.Scratch.
func (s *scratch) Run(ctx context.Context, text []byte, autocommit bool) error {
	statements, err := cut(text)
	if err != nil {
		return err
	}
	return engine.RunScript(ctx, s, engine.Settings{}, statements, autocommit)
}

// Name implements engine.Scratch.
func (s *scratch) Name() string { return filepath.Base(s.at.path) }

// DropScratch implements engine.Workshop.
func (e Engine) DropScratch(_ context.Context, url, name string) error {
	if _, is := engine.ScratchMade(scratchPrefix, name); !is || name != filepath.Base(name) {
		return fmt.Errorf("%s is not a scratch database", name)
	}
	beside, err := e.find(url)
	if err != nil {
		return err
	}
	remove(filepath.Join(filepath.Dir(beside.path), name))
	return nil
}

// Close implements engine.Session, and removes the file.
func (s *scratch) Close() {
	s.Session.Close()
	remove(s.at.path)
}

// remove takes a file away with its journals and its lock.
func remove(path string) {
	for _, ending := range []string{"", "-journal", "-wal", "-shm", lockEnding} {
		_ = os.Remove(path + ending) // most are not there; the next sweep finds what stays
	}
}

func sweep(folder string) {
	found, err := filepath.Glob(filepath.Join(folder, scratchPrefix+"*"))
	if err != nil {
		return
	}
	for _, path := range found {
		if engine.ScratchLeft(scratchPrefix, filepath.Base(path), time.Now()) {
			remove(path)
		}
	}
}
