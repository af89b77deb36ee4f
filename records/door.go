package records

import (
	"context"
	"fmt"
	"sync"

	"github.com/jackc/pgx/v5"
)

// The door of a lane keeps what a gate depends on still while a deployment passes: from the
// moment that the gate is asked for the last time until the first statement begins, nobody
// adds a freeze, takes an approval back, or submits, at whichever service. It is a lock in a
// transaction, so it does not outlive its service. Its connections are of a pool of their
// own: who stands in the door needs others to get through.

// Pass holds a lane still until the returned function is called, which may happen more than
// once. It blocks while a change is under way.
func (r *Records) Pass(ctx context.Context, lane string) (unlock func(), err error) {
	tx, err := r.atDoor(ctx, "SELECT pg_advisory_xact_lock_shared($1, hashtext($2))", lane)
	if err != nil {
		return nil, err
	}
	return sync.OnceFunc(func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }), nil // nothing was changed
}

// Change does what gates of a lane depend on, while no deployment passes, and nobody else
// changes anything.
func (r *Records) Change(ctx context.Context, lane string, do func() error) error {
	tx, err := r.atDoor(ctx, "SELECT pg_advisory_xact_lock($1, hashtext($2))", lane)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing was changed in it
	return do()
}

func (r *Records) atDoor(ctx context.Context, lock, lane string) (pgx.Tx, error) {
	tx, err := r.doors.Begin(ctx)
	if err == nil {
		if _, err = tx.Exec(ctx, lock, int32(doorLock), lane); err == nil {
			return tx, nil
		}
		_ = tx.Rollback(context.WithoutCancel(ctx)) // the first error says more
	}
	return nil, fmt.Errorf("wait at the door of lane %s: %w", lane, err)
}
