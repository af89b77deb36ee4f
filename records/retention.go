package records

import (
	"context"
	"fmt"
	"time"
)

// Retention is for how long what accumulates is kept; 0 is for ever. The targets' ledgers
// are never touched, nor are deployments themselves, releases, steps and their texts.
type Retention struct {
	Details    time.Duration // of deployments: statements, notices, effects, footprints
	Schemas    time.Duration // that deployments left; the newest of an environment stays
	Deliveries time.Duration // to hooks
	Rehearsals time.Duration
	Audit      time.Duration // LeastAudit at least; ForgetActs lets go of it, Forget does not
}

// LeastAudit is how old acts must be to be let go of: the database itself refuses it before.
const LeastAudit = 30 * 24 * time.Hour

// Forgotten counts what was let go.
type Forgotten struct {
	Details, Schemas, Deliveries, Rehearsals int64
}

// outline are the events that say what became of a deployment's steps. They stay.
const outline = `('started', 'step-began', 'step-ready', 'step-done', 'step-failed', 'backing-out', 'emptied', 'ended')`

// forgetful are the statements that let rows go: some at a time, so that nobody waits for
// them. $1 is the time before which rows may go, $2 how many go at once.
var forgetful = []struct {
	sql   string
	age   func(Retention) time.Duration
	count func(*Forgotten) *int64
}{
	{
		`DELETE FROM records.event WHERE ctid = ANY (ARRAY(SELECT e.ctid FROM records.event e
			JOIN records.deployment d ON d.id = e.deployment
			WHERE d.ended_at < $1 AND e.body ->> 'kind' NOT IN ` + outline + ` LIMIT $2))`,
		func(r Retention) time.Duration { return r.Details }, func(f *Forgotten) *int64 { return &f.Details },
	},
	{
		`DELETE FROM records.snapshot WHERE ctid = ANY (ARRAY(SELECT s.ctid FROM records.snapshot s
			WHERE s.taken_at < $1 AND EXISTS (SELECT FROM records.snapshot n
				WHERE n.lane = s.lane AND n.environment = s.environment AND n.id > s.id) LIMIT $2))`,
		func(r Retention) time.Duration { return r.Schemas }, func(f *Forgotten) *int64 { return &f.Schemas },
	},
	{
		`DELETE FROM records.delivery WHERE ctid = ANY (ARRAY(SELECT ctid FROM records.delivery
			WHERE state <> 'waiting' AND ended_at < $1 LIMIT $2))`,
		func(r Retention) time.Duration { return r.Deliveries }, func(f *Forgotten) *int64 { return &f.Deliveries },
	},
	{
		`DELETE FROM records.rehearsal WHERE ctid = ANY (ARRAY(SELECT ctid FROM records.rehearsal
			WHERE state <> 'running' AND at < $1 LIMIT $2))`,
		func(r Retention) time.Duration { return r.Rehearsals }, func(f *Forgotten) *int64 { return &f.Rehearsals },
	},
}

// atOnce is how many rows go in one statement.
const atOnce = 5000

// Forget lets go of what is older than it is to be kept.
func (r *Records) Forget(ctx context.Context, keep Retention, now time.Time) (f Forgotten, err error) {
	for _, one := range forgetful {
		age := one.age(keep)
		if age == 0 {
			continue
		}
		for gone := int64(atOnce); gone == atOnce; {
			tag, err := r.pool.Exec(ctx, one.sql, now.Add(-age), atOnce)
			if err != nil {
				return f, fmt.Errorf("let go of old records: %w", err)
			}
			gone = tag.RowsAffected()
			*one.count(&f) += gone
		}
	}
	if f.Schemas > 0 { // a snapshot that is taken meanwhile keeps its own
		_, err = r.pool.Exec(ctx, `DELETE FROM records.schema b
			WHERE NOT EXISTS (SELECT FROM records.snapshot s WHERE s.digest = b.digest)`)
		if err != nil {
			err = fmt.Errorf("let go of old schemas: %w", err)
		}
	}
	return f, err
}
