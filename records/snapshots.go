package records

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// Snapshot is what a target's schema is known to be.
type Snapshot struct {
	ID          int64
	Lane        string
	Environment string
	Fingerprint string
	Why         string // deployment, accepted, attested or baselined
	Deployment  int64  // 0 for none
	Seq         int64  // of the ledger's newest entry then
	Actor       string
	Reason      string
	At          time.Time

	Schema schema.Schema // where it was asked for
}

// SaveSnapshot keeps a snapshot as what is known from now on.
func (r *Records) SaveSnapshot(ctx context.Context, s Snapshot) error {
	text, err := json.Marshal(s.Schema)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(text)
	digest := hex.EncodeToString(sum[:])
	var packed bytes.Buffer
	zip, _ := gzip.NewWriterLevel(&packed, gzip.BestSpeed) // the level is a known one
	if _, err := zip.Write(text); err != nil {
		return err
	}
	if err := zip.Close(); err != nil {
		return err
	}
	_, err = r.pool.Exec(
		ctx,
		`WITH body AS (INSERT INTO records.schema (digest, body) VALUES ($1, $2) ON CONFLICT DO NOTHING)
		INSERT INTO records.snapshot (lane, environment, digest, fingerprint, why, deployment, seq, actor, reason)
		VALUES ($3, $4, $1, $5, $6, nullif($7::bigint, 0), $8, $9, $10)`,
		digest, packed.Bytes(), s.Lane, s.Environment, s.Schema.Fingerprint(), s.Why, s.Deployment, s.Seq, s.Actor,
		s.Reason,
	)
	if err != nil {
		return fmt.Errorf("keep the schema: %w", err)
	}
	return nil
}

// KnownSchema is the newest snapshot of an environment, with its schema, or
// ErrNotFound.
func (r *Records) KnownSchema(ctx context.Context, lane, environment string) (Snapshot, error) {
	return r.snapshot(ctx, `s.lane = $1 AND s.environment = $2 ORDER BY s.id DESC LIMIT 1`, lane, environment)
}

// SchemaAfter is what a deployment left, or ErrNotFound.
func (r *Records) SchemaAfter(ctx context.Context, deployment int64) (Snapshot, error) {
	return r.snapshot(ctx, `s.deployment = $1 ORDER BY s.id LIMIT 1`, deployment)
}

// SchemaBefore is what was known right before a deployment; nil if nothing was.
func (r *Records) SchemaBefore(
	ctx context.Context, lane, environment string, deployment int64,
) (*schema.Schema, error) {
	s, err := r.snapshot(
		ctx,
		`s.lane = $1 AND s.environment = $2 AND s.id < (SELECT min(id) FROM records.snapshot WHERE deployment = $3)
			ORDER BY s.id DESC LIMIT 1`,
		lane,
		environment,
		deployment,
	)
	if errors.Is(err, ErrNotFound) {
		return &schema.Schema{}, nil
	}
	return &s.Schema, err
}

const snapshotColumns = `s.id, s.lane, s.environment, s.fingerprint, s.why, coalesce(s.deployment, 0), s.seq, s.actor,
	s.reason, s.taken_at`

func (s *Snapshot) fields() []any {
	return []any{
		&s.ID, &s.Lane, &s.Environment, &s.Fingerprint, &s.Why, &s.Deployment, &s.Seq, &s.Actor, &s.Reason, &s.At,
	}
}

func (r *Records) snapshot(ctx context.Context, where string, args ...any) (Snapshot, error) {
	var s Snapshot
	var packed []byte
	err := r.pool.QueryRow(ctx,
		`SELECT `+snapshotColumns+`, b.body FROM records.snapshot s JOIN records.schema b ON b.digest = s.digest
			WHERE `+where, args...).
		Scan(append(s.fields(), &packed)...)
	if err != nil {
		return s, noRows(err)
	}
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err == nil {
		err = json.NewDecoder(zip).Decode(&s.Schema)
	}
	if err != nil {
		return s, fmt.Errorf("read the schema that was kept: %w", err)
	}
	return s, nil
}

// Snapshots lists an environment's snapshots without their schemas, the newest first. The search is
// for a deployment, who it was, a reason, or why it was kept.
func (r *Records) Snapshots(ctx context.Context, lane, environment string, q ListQuery) ([]Snapshot, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT `+snapshotColumns+` FROM records.snapshot s WHERE lane = $1 AND environment = $2 AND ($3::bigint = 0 OR id < $3)
			AND `+containing(`concat_ws(E'\n', why, actor, reason, deployment)`, "$5")+` ORDER BY id DESC LIMIT $4`,
		lane, environment, q.Before, q.most(), q.Search,
	)
	if err != nil {
		return nil, fmt.Errorf("list the schemas that are known: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (Snapshot, error) {
		var s Snapshot
		return s, row.Scan(s.fields()...)
	})
}

// StepEffect is what a step of a deployment did to the schema.
type StepEffect struct {
	Deployment int64
	Step       step.Number // empty where it is of the whole deployment
	Direction  ledger.Direction
	At         time.Time
	Effect     []schema.Difference
	More       int
}

// Effects lists what the steps of an environment's deployments did to its schema, the newest
// first. The limit is one of deployments. The search is for the full name of an object, such as
// a table.
func (r *Records) Effects(ctx context.Context, lane, environment string, q ListQuery) ([]StepEffect, error) {
	rows, err := r.pool.Query(
		ctx,
		`WITH found AS (
			SELECT e.deployment, e.seq, e.body, dense_rank() OVER (ORDER BY e.deployment DESC) AS page
			FROM records.event e JOIN records.deployment d ON d.id = e.deployment
			WHERE d.lane = $1 AND d.environment = $2 AND e.body ->> 'kind' = 'effect' AND ($3 = 0 OR e.deployment < $3)
				AND ($4 = '' OR EXISTS (SELECT FROM jsonb_array_elements(e.body -> 'effect') o
					WHERE $4 IN (o ->> 'name', o ->> 'of'))))
		SELECT deployment, body FROM found WHERE $5::int IS NULL OR page <= $5 ORDER BY deployment DESC, seq DESC`,
		lane, environment, q.Before, q.Search, q.most(),
	)
	if err != nil {
		return nil, fmt.Errorf("read the effects: %w", err)
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (StepEffect, error) {
		var one StepEffect
		var event deploy.Event
		err := row.Scan(&one.Deployment, &event)
		one.Step, one.Direction, one.Effect, one.More = event.Step, event.Direction, event.Effect, event.More
		one.At = event.At
		return one, err
	})
}

// DriftLook is what the newest look for drift found.
type DriftLook struct {
	At          time.Time
	Since       *time.Time // when drift was first seen; nil if there is none
	Fingerprint string     // of what is there
	Objects     int        // that differ
	Message     string     // why it is not known; empty if it is
}

// SaveDriftLook keeps what a look found, unless a newer one is kept, and says whether that is news: drift
// where there was none before, or another one. A look that is kept of a time to come, by a service whose clock
// is ahead, gives way.
func (r *Records) SaveDriftLook(ctx context.Context, lane, environment string, look DriftLook) (news bool, err error) {
	var objects int
	var fingerprint string
	err = r.pool.QueryRow(ctx, `WITH before AS (SELECT objects, fingerprint FROM records.drift WHERE lane = $1
		AND environment = $2 FOR UPDATE)
		INSERT INTO records.drift AS d (lane, environment, looked_at, since, fingerprint, objects, says)
		VALUES ($1, $2, $3::timestamptz, CASE WHEN $5::int > 0 THEN $3::timestamptz END, $4, $5::int, $6)
		ON CONFLICT (lane, environment) DO UPDATE
		SET looked_at = excluded.looked_at, since = CASE WHEN excluded.objects > 0 THEN coalesce(d.since,
		excluded.looked_at) END,
			fingerprint = excluded.fingerprint, objects = excluded.objects, says = excluded.says
		WHERE d.looked_at <= excluded.looked_at OR d.looked_at > clock_timestamp()
		RETURNING coalesce((SELECT objects FROM before), 0), coalesce((SELECT fingerprint FROM before), '')`,
		lane, environment, look.At, look.Fingerprint, look.Objects, look.Message).
		Scan(&objects, &fingerprint)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("keep the look for drift: %w", err)
	}
	return look.Objects > 0 && (objects == 0 || fingerprint != look.Fingerprint), nil
}

// DriftLooked says when the last look for drift was, by lane/environment.
func (r *Records) DriftLooked(ctx context.Context) (map[string]time.Time, error) {
	looked := map[string]time.Time{}
	rows, err := r.pool.Query(ctx, `SELECT lane || '/' || environment, looked_at FROM records.drift`)
	if err == nil {
		var place string
		var at time.Time
		_, err = pgx.ForEachRow(rows, []any{&place, &at}, func() error { looked[place] = at; return nil })
	}
	if err != nil {
		return nil, fmt.Errorf("read when the last look for drift was: %w", err)
	}
	return looked, nil
}

// DriftLook is what the newest look found, or ErrNotFound.
func (r *Records) DriftLook(ctx context.Context, lane, environment string) (DriftLook, error) {
	var l DriftLook
	err := r.pool.QueryRow(ctx, `SELECT looked_at, since, fingerprint, objects, says FROM records.drift WHERE lane = $1
		AND environment = $2`, lane, environment).
		Scan(&l.At, &l.Since, &l.Fingerprint, &l.Objects, &l.Message)
	return l, noRows(err)
}
