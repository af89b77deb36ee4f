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

// NewRetention is the round that lets go of old records, once a day. now is the service's
// clock.
func NewRetention(store *records.Records, log *slog.Logger, keep records.Retention, now func() time.Time) *Round {
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
			return nil
		},
	)
}
