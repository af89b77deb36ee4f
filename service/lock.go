package service

import (
	"context"
	"errors"
	"time"

	"vorrang/core/engine"
	"vorrang/records"
)

// lock takes the target's lock, or says which deployment has it.
func (s *targets) lock(c call, p targetContext, session engine.Session) error {
	deadline := time.Now().Add(lockPatience)
	for {
		err := session.Lock(c)
		var locked *engine.LockedError
		if !errors.As(err, &locked) {
			return err
		}
		if err := s.quiet(c, p); err != nil {
			return err
		}
		if time.Now().After(deadline) {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// locked is a session that holds the target's lock.
func (s *targets) locked(c call, p targetContext, application string) (engine.Session, error) {
	session, err := s.connect(c, p, application)
	if err != nil {
		return nil, err
	}
	if err := s.lock(c, p, session); err != nil {
		session.Close()
		return nil, err
	}
	return session, nil
}

// quiet is a held gate if a deployment is under way.
func (s *targets) quiet(ctx context.Context, p targetContext) error {
	running, err := s.Records.Running(ctx, p.lane.Name, p.environment.Name)
	if err != nil || running == nil {
		return err
	}
	// what a dead service left is closed once the target's lock is free
	if lives, err := s.Records.Lives(ctx, running.Service); err != nil || !lives {
		return err
	}
	return busy(p, &records.RunningError{Deployment: *running})
}

// again reads an environment and its catalogue again.
func (s *targets) again(ctx context.Context, p targetContext) (targetContext, error) {
	now, err := s.place(ctx, p.lane.Name, p.environment.Name)
	now.release, now.sealed = p.release, p.sealed
	return now.asSealed(), err
}

// lockPatience is how long to wait for a lock that no deployment of ours holds:
// the session of a service that was killed ends within seconds.
const lockPatience = 5 * time.Second
