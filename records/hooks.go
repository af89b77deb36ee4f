package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Hook is a program that is told of what happens.
type Hook struct {
	Name, URL, Secret string
	Events            []string
	Lane              string // empty for all
	MadeBy            string
	MadeAt            time.Time
}

// PutHook keeps a hook, new or changed.
func (r *Records) PutHook(ctx context.Context, h Hook) error {
	_, err := r.pool.Exec(
		ctx,
		`INSERT INTO records.hook (name, url, secret, events, lane, made_by) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (name) DO UPDATE
			SET url = excluded.url, secret = excluded.secret, events = excluded.events, lane = excluded.lane`,
		h.Name, h.URL, h.Secret, h.Events, h.Lane, h.MadeBy,
	)
	if err != nil {
		return fmt.Errorf("keep the hook: %w", err)
	}
	return nil
}

// Hooks returns hooks in order of their names. The search is for a name, an address or a lane.
func (r *Records) Hooks(ctx context.Context, q ListQuery) ([]Hook, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT name, url, secret, events, lane, made_by, made_at FROM records.hook WHERE name > $1
			AND `+containing(`concat_ws(' ', name, url, lane)`, `$2`)+` ORDER BY name LIMIT $3`,
		q.After, q.Search, q.most(),
	)
	if err != nil {
		return nil, fmt.Errorf("read the hooks: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Hook])
}

// RemoveHook drops a hook with its deliveries; false if there is none.
func (r *Records) RemoveHook(ctx context.Context, name string) (bool, error) {
	tag, err := r.pool.Exec(ctx, `DELETE FROM records.hook WHERE name = $1`, name)
	return tag.RowsAffected() > 0, err
}

// Delivery is one event on its way to a hook.
type Delivery struct {
	ID                int64
	Hook, Type, Event string
	Body              string
	MadeAt            time.Time
	State             string // waiting, delivered or given up
	Tries             int
	NextAt            time.Time
	Status            int
	Message           string
	EndedAt           *time.Time
}

const deliveryColumns = `id, hook, type, event, body, made_at, state, tries, next_at, status, says, ended_at`

// AddDeliveries keeps an event for every hook that wants to hear of it, and says
// how many those are.
func (r *Records) AddDeliveries(ctx context.Context, lane, short, kind, event, body string) (int64, error) {
	tag, err := r.pool.Exec(ctx, `INSERT INTO records.delivery (hook, type, event, body)
		SELECT name, $3, $4, $5 FROM records.hook WHERE $2 = ANY (events) AND (lane = ''
			OR lane = $1)`, lane, short, kind, event, body)
	if err != nil {
		return 0, fmt.Errorf("keep an event for the hooks: %w", err)
	}
	return tag.RowsAffected(), nil
}

// ClaimDeliveries claims what is to be delivered by now, the oldest first.
func (r *Records) ClaimDeliveries(ctx context.Context, limit int) ([]Delivery, error) {
	rows, err := r.pool.Query(ctx, `WITH due AS (
			SELECT id FROM records.delivery WHERE state = 'waiting' AND next_at <= now() AND `+ours+`
			ORDER BY id LIMIT $2 FOR UPDATE SKIP LOCKED),
		claimed AS (UPDATE records.delivery SET service = $1 WHERE id IN (SELECT id FROM due) RETURNING `+deliveryColumns+`)
		SELECT * FROM claimed ORDER BY id`, r.life.id, limit)
	if err != nil {
		return nil, fmt.Errorf("claim what is to be delivered: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Delivery])
}

// Deliveries returns the newest deliveries; an empty hook means all. The search is for a hook, an
// event, a state or the last answer.
func (r *Records) Deliveries(ctx context.Context, hook string, q ListQuery) ([]Delivery, error) {
	return r.deliveries(ctx, `WHERE ($2 = '' OR hook = $2) AND ($3::bigint = 0 OR id < $3)
		AND `+containing(`concat_ws(E'\n', hook, type, state, says, nullif(status, 0))`, "$4")+` ORDER BY id DESC LIMIT $1`,
		q.most(), hook, q.Before, q.Search)
}

func (r *Records) deliveries(ctx context.Context, where string, args ...any) ([]Delivery, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+deliveryColumns+` FROM records.delivery `+where, args...)
	if err != nil {
		return nil, fmt.Errorf("read the deliveries: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Delivery])
}

// NextDelivery is when the next try is due that no other service has claimed; false if none
// waits.
func (r *Records) NextDelivery(ctx context.Context) (at time.Time, waits bool, err error) {
	return r.earliest(ctx, `SELECT min(next_at) FROM records.delivery WHERE state = 'waiting' AND `+ours, r.life.id)
}

// RecordAttempt keeps what became of a try that this service claimed, and when the next one is
// due.
func (r *Records) RecordAttempt(ctx context.Context, d Delivery) error {
	_, err := r.pool.Exec(
		ctx,
		`UPDATE records.delivery SET state = $2, tries = $3, next_at = $4, status = $5, says = $6,
		ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE now() END, service = NULL WHERE id = $1 AND service = $7`,
		d.ID, d.State, d.Tries, d.NextAt, d.Status, d.Message, r.life.id,
	)
	return err
}
