package records

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgxpool"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/step"
)

// Inspected is how a records database stands to this version of the service.
type Inspected struct {
	Version string // of its server
	Held    string // by a service that brings them up to date, or shares them with nobody; empty if none does
	Lives   []OtherService
	Applied int    // steps of the records
	Waiting int    // that a start would apply
	Refused string // why a start would not; empty where it would
	Lanes   []lane.Lane

	shared bool // the records know of services
}

// sharedFrom is the step from which on the records are of several services.
const sharedFrom = step.Number("17")

// Inspect reads how a records database stands, and changes nothing.
func Inspect(ctx context.Context, server engine.Engine, url string) (seen Inspected, err error) {
	session, err := server.Open(ctx, url, "vorrangd check")
	if err != nil {
		return seen, err
	}
	defer session.Close()
	probe, err := session.Probe(ctx, "")
	if err != nil {
		return seen, err
	}
	seen.Version = probe.Version
	var held *engine.LockedError
	switch err := session.Lock(ctx); {
	case errors.As(err, &held):
		seen.Held = held.Error()
	case err != nil:
		return seen, err
	default:
		session.Unlock()
	}
	if err := seen.steps(ctx, session); err != nil {
		return seen, err
	}
	for _, look := range probe.Looks {
		if !look.OK && seen.Refused == "" {
			seen.Refused = fmt.Sprintf("%s: %s", look.Message, look.Fix)
		}
	}
	if seen.Applied == 0 {
		return seen, nil
	}
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		return seen, fmt.Errorf("open the records: %w", err)
	}
	defer pool.Close()
	if seen.Lanes, err = (&Records{pool: pool}).Lanes(ctx); err != nil || !seen.shared {
		return seen, err
	}
	seen.Lives, err = services(ctx, pool)
	return seen, err
}

// steps counts the steps that are there, and those that a start would apply.
func (seen *Inspected) steps(ctx context.Context, session engine.Session) error {
	all, err := ownSteps()
	if err != nil {
		return err
	}
	facts, p, err := look(ctx, session, all)
	if err != nil {
		return err
	}
	if result := gate.Forward(facts); result.Held() {
		seen.Refused = result.Holds()[0].Evidence
	}
	seen.Waiting = len(p.Actions)
	seen.shared = facts.View.State.Of(sharedFrom).Status.Present()
	seen.Applied = len(all) - seen.Waiting
	return nil
}
