package work

import (
	"context"
	"log/slog"
	"time"

	"vorrang/records"
)

const (
	firstForgetting = time.Minute // after the start
	forgettingEvery = 24 * time.Hour
)

// NewRetention is the round that lets go of old records, once a day. What goes of the audit is written to files
// first. now is the service's clock.
func NewRetention(
	store *records.Records, log *slog.Logger, keep records.Retention, files AuditFiles, now func() time.Time,
) *Round {
	at := time.Now().Add(firstForgetting)
	return NewRound(
		"retention",
		func(context.Context) (time.Time, bool, error) { return at, keep != records.Retention{}, nil },
		func(ctx context.Context) error {
			at = time.Now().Add(forgettingEvery)
			claimed, err := store.Claim(ctx, "retention")
			if err != nil || !claimed { // another service is at it
				return err
			}
			defer func() { _ = store.Unclaim(context.WithoutCancel(ctx), "retention") }() // else it is claimed again by us
			gone, err := store.Forget(ctx, keep, now())
			if err != nil {
				return err
			}
			if gone != (records.Forgotten{}) {
				log.Info("old records were let go", "details", gone.Details, "schemas", gone.Schemas, "deliveries", gone.Deliveries,
					"rehearsals", gone.Rehearsals)
			}
			return ForgetAudit(ctx, store, log, keep.Audit, files, now())
		},
	)
}

// ForgetAudit lets go of acts that are older than an age, and adds one that says so; 0 is never. What cannot be
// written to the files stays.
func ForgetAudit(
	ctx context.Context, store *records.Records, log *slog.Logger, age time.Duration, files AuditFiles, now time.Time,
) error {
	if age == 0 {
		return nil
	}
	before := now.Add(-max(age, records.LeastAudit))
	gone, err := store.ForgetActs(ctx, before, files.Keep)
	if gone > 0 {
		log.Info("old acts of the audit were let go", "entries", gone, "before", before, "written_to", string(files))
		if _, told := store.AddAct(ctx, forgotActs(gone, before, files)); err == nil {
			err = told
		}
	}
	return err
}
