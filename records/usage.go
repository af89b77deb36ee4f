package records

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"

	"vorrang/core/review"
)

// SaveObjectUses keeps what was counted when a deployment had applied a step of phase expand.
func (r *Records) SaveObjectUses(ctx context.Context, lane, environment string, deployment int64, e review.Expanded) error {
	body, err := json.Marshal(e.Uses)
	if err == nil {
		_, err = r.pool.Exec(ctx, `INSERT INTO records.usage (lane, environment, deployment, step, at, body)
			VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING`, lane, environment, deployment, e.Step, e.At, body)
	}
	if err != nil {
		return fmt.Errorf("keep what the server counted: %w", err)
	}
	return nil
}

// Expanded is what was counted when an environment got its steps of phase expand, the
// oldest first.
func (r *Records) Expanded(ctx context.Context, lane, environment string) ([]review.Expanded, error) {
	rows, err := r.pool.Query(ctx, `SELECT step, at, body FROM records.usage WHERE lane = $1 AND environment = $2
		ORDER BY deployment`, lane, environment)
	if err != nil {
		return nil, fmt.Errorf("read what the server had counted: %w", err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e review.Expanded, err error) {
		var body []byte
		if err = row.Scan(&e.Step, &e.At, &body); err == nil {
			err = json.Unmarshal(body, &e.Uses)
		}
		return e, err
	})
	if err != nil {
		return nil, fmt.Errorf("read what the server had counted: %w", err)
	}
	return list, nil
}
