package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// Deployment is one run of a plan on one environment.
type Deployment struct {
	ID          int64
	Lane        string
	Environment string
	Direction   ledger.Direction
	Outcome     deploy.Outcome
	Actor       string
	Plan        plan.Plan   // without its actions in a list
	Planned     int         // its actions
	Gate        gate.Result // empty in a list
	Failure     *deploy.Failure
	Release     string // empty for loose steps
	Digest      step.Checksum
	StartedAt   time.Time
	EndedAt     *time.Time
	Service     int32 // that runs it; 0 for one of before there were several
	Scheduled   int64 // the scheduled promotion that begins it, for Begin; 0 for none
	Fleet       int64 // the deployment to a fleet of which it is a part; 0 for none
}

const (
	deploymentColumns = `id, lane, environment, direction, outcome, actor, plan, gate, ` + moreColumns
	// listedColumns leave out what is long, and in no list.
	listedColumns = `id, lane, environment, direction, outcome, actor, coalesce(outline, plan - 'actions'), '{}'::jsonb, ` +
		moreColumns

	moreColumns = `coalesce(planned, CASE jsonb_typeof(plan -> 'actions')
			WHEN 'array' THEN jsonb_array_length(plan -> 'actions') ELSE 0 END),
		failure, coalesce(release, ''), coalesce(digest, ''), started_at, ended_at, coalesce(service, 0), coalesce(fleet, 0)`
)

func scanDeployment(row pgx.CollectableRow) (Deployment, error) {
	var d Deployment
	err := row.Scan(
		&d.ID, &d.Lane, &d.Environment, &d.Direction, &d.Outcome, &d.Actor, &d.Plan, &d.Gate, &d.Planned, &d.Failure,
		&d.Release, &d.Digest, &d.StartedAt, &d.EndedAt, &d.Service, &d.Fleet,
	)
	return d, err
}

// RunningError says that an environment has a deployment under way.
type RunningError struct{ Deployment Deployment }

func (e *RunningError) Error() string {
	d := e.Deployment
	return fmt.Sprintf("deployment %d, started by %s, has been running on %s since %s",
		d.ID, d.Actor, d.Environment, d.StartedAt.UTC().Format(time.DateTime+" UTC"))
}

// Begin records a new running deployment of this service. An environment has one at a time:
// a second one is a *RunningError. It uses up the waivers that turned its gate, and the
// scheduled promotion that it is of.
func (r *Records) Begin(ctx context.Context, d Deployment) (begun Deployment, err error) {
	err = r.beginning(ctx, func(tx pgx.Tx) (err error) {
		begun, err = r.begin(ctx, tx, d)
		return err
	}, func() error {
		running, err := r.Running(ctx, d.Lane, d.Environment)
		if err == nil && running != nil {
			err = &RunningError{*running}
		}
		return err
	})
	return begun, err
}

// beginning records that something begins, of which there is one at a time; once more while this
// service's session is being taken again. busy is the error of what is under way already, and nil where that has
// just ended, and there is room.
func (r *Records) beginning(ctx context.Context, begin func(pgx.Tx) error, busy func() error) error {
	for until := time.Now().Add(lifePatience); ; {
		err := pgx.BeginFunc(ctx, r.pool, begin)
		if errors.As(err, new(LostError)) && time.Now().Before(until) && ctx.Err() == nil {
			time.Sleep(lifeAgain)
			continue
		}
		var refused *pgconn.PgError
		if !errors.As(err, &refused) || refused.Code != "23505" ||
			!strings.HasSuffix(refused.ConstraintName, "deployment_running") {
			return err
		}
		if err := busy(); err != nil {
			return err
		}
		select { // what was under way has ended; another may have begun
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lifeAgain):
		}
	}
}

// lost is the error where nothing could be recorded, since this service does not live as others see it:
// they would take it for a dead service's.
func lost(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return LostError{}
	}
	return err
}

// useScheduled turns a scheduled promotion of this service into what it began: a deployment, or one to a
// fleet. 0 is none.
func (r *Records) useScheduled(ctx context.Context, tx pgx.Tx, scheduled, deployment, fleet int64) error {
	if scheduled == 0 {
		return nil
	}
	tag, err := tx.Exec(ctx, `UPDATE records.scheduled SET state = 'started', deployment = nullif($2, 0::bigint),
			fleet = nullif($4, 0::bigint), ended_at = now()
		WHERE id = $1 AND state = 'waiting' AND service = $3`, scheduled, deployment, r.life.id, fleet)
	if err == nil && tag.RowsAffected() == 0 {
		err = errors.New("the scheduled promotion does not wait any more, or another service begins it")
	}
	return err
}

func (r *Records) begin(ctx context.Context, tx pgx.Tx, d Deployment) (_ Deployment, err error) {
	begun, outline := d, d.Plan
	begun.Outcome, begun.Planned, begun.Service = deploy.Running, len(d.Plan.Actions), r.life.id
	outline.Actions = nil
	err = tx.QueryRow(
		ctx,
		`INSERT INTO records.deployment (lane, environment, direction, outcome, actor, plan, gate, release, digest, service,
			fleet, outline, planned)
		SELECT $1, $2, $3, $4, $5, $6, $7, nullif($8, ''), nullif($9, ''), $10, nullif($11, 0::bigint), $12, $13
			WHERE records.lives($10)
		RETURNING id, started_at`,
		d.Lane, d.Environment, d.Direction, begun.Outcome, d.Actor, d.Plan, d.Gate, d.Release, d.Digest, begun.Service,
		d.Fleet, outline, begun.Planned,
	).Scan(&begun.ID, &begun.StartedAt)
	if err != nil {
		return begun, lost(err)
	}
	if waivers := d.Gate.Waivers; len(waivers) > 0 {
		ids := make([]int64, len(waivers))
		for i, w := range waivers {
			ids[i] = w.ID
		}
		tag, err := tx.Exec(
			ctx,
			`UPDATE records.waiver SET deployment = $2 WHERE id = ANY ($1) AND deployment IS NULL`,
			ids, begun.ID,
		)
		if err == nil && tag.RowsAffected() != int64(len(ids)) {
			err = errors.New("another deployment has just used the waiver")
		}
		if err != nil {
			return begun, err
		}
	}
	if d.Fleet != 0 {
		return begun, r.beginInFleet(ctx, tx, begun)
	}
	return begun, r.useScheduled(ctx, tx, d.Scheduled, begun.ID, 0)
}

// NumberAbove makes sure that the numbers of deployments to come are higher than one that a ledger
// tells of: records that were restored from an older copy would give numbers again. It may be
// repeated. A number that is higher by more than mostSkipped is no deployment's of ours, and is passed over.
func (r *Records) NumberAbove(ctx context.Context, number int64) error {
	if number <= r.above.Load() {
		return nil
	}
	// Numbers are taken one by one, which no other service that takes some can come between.
	var given int64
	err := r.pool.QueryRow(ctx, `WITH at AS (SELECT CASE WHEN is_called THEN last_value ELSE 0 END AS given
			FROM records.deployment_id_seq),
		taken AS (SELECT nextval('records.deployment_id_seq') AS number FROM at,
			generate_series(1, CASE WHEN $1 - given BETWEEN 1 AND $2 THEN $1 - given ELSE 0 END))
		SELECT greatest((SELECT given FROM at), (SELECT max(number) FROM taken))`, number, mostSkipped).Scan(&given)
	if err != nil {
		return fmt.Errorf("number deployments above %d: %w", number, err)
	}
	for {
		known := r.above.Load()
		if given <= known || r.above.CompareAndSwap(known, given) {
			return nil
		}
	}
}

const mostSkipped int64 = 1_000_000

// UnknownDeployments are those of some deployments of a lane that the records do not hold.
func (r *Records) UnknownDeployments(ctx context.Context, lane string, ids []int64) ([]int64, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	rows, _ := r.pool.Query(ctx, `SELECT unnest($1::bigint[]) EXCEPT SELECT id FROM records.deployment
		WHERE lane = $2 AND id = ANY ($1)`, ids, lane)
	return pgx.CollectRows(rows, pgx.RowTo[int64]) // which gives the query's error too
}

// Running returns the deployment that is under way on an environment, or nil.
func (r *Records) Running(ctx context.Context, lane, environment string) (*Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+deploymentColumns+` FROM records.deployment
		WHERE lane = $1 AND environment = $2 AND outcome = 'running'`, lane, environment)
	if err != nil {
		return nil, fmt.Errorf("look for a running deployment: %w", err)
	}
	list, err := pgx.CollectRows(rows, scanDeployment)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// End records how a deployment of this service ended. It may be repeated. The error is
// TakenOverError for one that is another service's by now.
func (r *Records) End(ctx context.Context, id int64, outcome deploy.Outcome, failure *deploy.Failure) error {
	var ours bool
	err := r.pool.QueryRow(
		ctx,
		`WITH ended AS (UPDATE records.deployment SET outcome = $2, failure = $3, ended_at = now()
			WHERE id = $1 AND outcome = 'running' AND service = $4 RETURNING id)
		SELECT service IS NOT DISTINCT FROM $4 FROM records.deployment,
			pg_notify($5, 'deployment ' || $1::bigint) AS one, pg_notify($5, 'changed') AS all_of_them
			WHERE id = $1`,
		id, outcome, failure, r.life.id, channel,
	).Scan(&ours)
	return fenced(err, ours, id)
}

// fenced is the error of a write to what may be another service's by now.
func fenced(err error, ours bool, id int64) error {
	if err == nil && !ours {
		return TakenOverError{fmt.Sprintf("deployment %d", id)}
	}
	return err
}

// SaveGate replaces what the gate said, as it was asked again right before the
// first statement.
func (r *Records) SaveGate(ctx context.Context, id int64, result gate.Result) error {
	tag, err := r.pool.Exec(ctx, `WITH unhurried AS (SELECT set_config('synchronous_commit', 'off', true))
		UPDATE records.deployment SET gate = $2 FROM unhurried
			WHERE id = $1 AND service = $3`, id, result, r.life.id) // the first answer is kept for good
	return fenced(err, tag.RowsAffected() > 0, id)
}

// Abandoned are the running deployments whose service does not live any more, oldest first,
// and those of this one that are not among the ones that it runs.
func (r *Records) Abandoned(ctx context.Context, runs []int64) ([]Deployment, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT `+deploymentColumns+` FROM records.deployment WHERE outcome = 'running' AND records.lives($1)
			AND CASE WHEN service IS NULL THEN true WHEN service = $1 THEN coalesce(NOT id = ANY ($2), true)
				ELSE NOT records.lives(service) END
		ORDER BY id`,
		r.life.id, runs,
	)
	if err != nil {
		return nil, fmt.Errorf("look for interrupted deployments: %w", err)
	}
	return pgx.CollectRows(rows, scanDeployment)
}

// TakeOver makes a deployment this service's that was one's that does not live any more;
// false if that lives, or another one was faster.
func (r *Records) TakeOver(ctx context.Context, d Deployment) (bool, error) {
	tag, err := r.pool.Exec(ctx, `UPDATE records.deployment SET service = $2 WHERE id = $1 AND outcome = 'running'
		AND coalesce(service, 0) = $3 AND records.lives($2) AND (service IS NULL OR service = $2 OR NOT records.lives(service))`,
		d.ID, r.life.id, d.Service)
	if err != nil {
		return false, fmt.Errorf("take over deployment %d: %w", d.ID, err)
	}
	return tag.RowsAffected() > 0, nil
}

// AskCancel asks the service that runs a deployment to cancel it; false if it does not run.
func (r *Records) AskCancel(ctx context.Context, id int64, who string) (bool, error) {
	return r.askCancel(ctx, `UPDATE records.deployment SET cancel = $2 WHERE id = $1 AND outcome = 'running'`, id, who)
}

func (r *Records) askCancel(ctx context.Context, update string, id int64, who string) (bool, error) {
	tag, err := r.pool.Exec(ctx, update, id, who)
	if err == nil && tag.RowsAffected() > 0 {
		_, err = r.pool.Exec(ctx, "SELECT pg_notify($1, 'cancel')", channel)
	}
	if err != nil {
		return false, fmt.Errorf("ask the service that runs it: %w", err)
	}
	return tag.RowsAffected() > 0, nil
}

// Cancels are who asked for the end of which deployments and rehearsals of this service.
func (r *Records) Cancels(ctx context.Context) (deployments, rehearsals map[int64]string, err error) {
	deployments, rehearsals = map[int64]string{}, map[int64]string{}
	rows, err := r.pool.Query(ctx, `SELECT 'd', id, cancel FROM records.deployment
			WHERE service = $1 AND outcome = 'running' AND cancel IS NOT NULL
		UNION ALL SELECT 'r', id, cancel FROM records.rehearsal
			WHERE service = $1 AND state = 'running' AND cancel IS NOT NULL`, r.life.id)
	if err == nil {
		var kind, who string
		var id int64
		_, err = pgx.ForEachRow(rows, []any{&kind, &id, &who}, func() error {
			map[string]map[int64]string{"d": deployments, "r": rehearsals}[kind][id] = who
			return nil
		})
	}
	if err != nil {
		return nil, nil, fmt.Errorf("look what is to be cancelled: %w", err)
	}
	return deployments, rehearsals, nil
}

// Deployment returns one deployment, or ErrNotFound.
func (r *Records) Deployment(ctx context.Context, id int64) (Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+deploymentColumns+` FROM records.deployment WHERE id = $1`, id)
	if err != nil {
		return Deployment{}, err
	}
	d, err := pgx.CollectExactlyOneRow(rows, scanDeployment)
	return d, noRows(err)
}

// Outcome is that of one deployment, or ErrNotFound.
func (r *Records) Outcome(ctx context.Context, id int64) (outcome deploy.Outcome, err error) {
	err = r.pool.QueryRow(ctx, `SELECT outcome FROM records.deployment WHERE id = $1`, id).Scan(&outcome)
	return outcome, noRows(err)
}

// PlaceOf says on which environment a deployment is or was, or ErrNotFound.
func (r *Records) PlaceOf(ctx context.Context, id int64) (lane, environment string, err error) {
	err = r.pool.QueryRow(ctx, `SELECT lane, environment FROM records.deployment WHERE id = $1`, id).
		Scan(&lane, &environment)
	return lane, environment, noRows(err)
}

// DeploymentQuery says which deployments are wanted; an empty field means all.
type DeploymentQuery struct {
	Lane, Environment string // of a fleet: of all its targets
	Outcome           deploy.Outcome
	Actor             string
	Step              step.Number // of the plan
	Release           string
	Before            int64 // only those before this one; 0 for the newest
	Limit             int
}

// Deployments returns deployments, the newest first.
func (r *Records) Deployments(ctx context.Context, q DeploymentQuery) ([]Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+listedColumns+` FROM records.deployment
		WHERE ($1 = '' OR lane = $1) AND ($2 = '' OR environment = $2 OR starts_with(environment, $2 || '.'))
			AND ($3 = '' OR outcome = $3)
			AND ($4 = '' OR actor = $4) AND ($5 = '' OR plan @> jsonb_build_object('actions',
				jsonb_build_array(jsonb_build_object('step', jsonb_build_object('number', $5::text)))))
			AND ($6 = '' OR release = $6) AND ($7::bigint = 0 OR id < $7)
		ORDER BY id DESC LIMIT $8`,
		q.Lane, q.Environment, q.Outcome, q.Actor, q.Step, q.Release, q.Before, q.Limit)
	if err != nil {
		return nil, fmt.Errorf("read the deployments: %w", err)
	}
	return pgx.CollectRows(rows, scanDeployment)
}

// LastDeployments are the two newest deployments of each environment, given with its lane, in one
// question; the newest first, as Deployments has them.
func (r *Records) LastDeployments(ctx context.Context, lanes, environments []string) ([]Deployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT d.* FROM unnest($1::text[], $2::text[]) p (of_lane, of_environment)
		CROSS JOIN LATERAL (SELECT `+listedColumns+` FROM records.deployment
			WHERE lane = of_lane AND environment = of_environment ORDER BY id DESC LIMIT 2) d
		ORDER BY d.id DESC`, lanes, environments)
	if err != nil {
		return nil, fmt.Errorf("read the last deployments: %w", err)
	}
	return pgx.CollectRows(rows, scanDeployment)
}

// AddEvents keeps events of a deployment of this service. Events that are kept already stay
// as they are. The error is TakenOverError for one that is another service's by now.
func (r *Records) AddEvents(ctx context.Context, id int64, events []deploy.Event) error {
	numbers, bodies, err := eventRows(events)
	if err != nil {
		return err
	}
	var ours bool
	err = r.pool.QueryRow(ctx, `WITH mine AS (SELECT id FROM records.deployment WHERE id = $1 AND service = $4 FOR SHARE),
		kept AS (INSERT INTO records.event (deployment, seq, body)
			SELECT mine.id, seq, body::jsonb FROM mine, unnest($2::bigint[], $3::text[]) e (seq, body)
			ON CONFLICT DO NOTHING)
		SELECT count(*) > 0 FROM mine, pg_notify($5, 'deployment ' || $1::bigint)`,
		id, numbers, bodies, r.life.id, channel).Scan(&ours)
	if err != nil {
		return fmt.Errorf("keep the events of deployment %d: %w", id, err)
	}
	return fenced(nil, ours, id)
}

// eventRows are events as rows.
func eventRows(events []deploy.Event) (numbers []int64, bodies []string, err error) {
	numbers, bodies = make([]int64, len(events)), make([]string, len(events))
	for i, e := range events {
		body, err := json.Marshal(e)
		if err != nil {
			return nil, nil, err
		}
		numbers[i], bodies[i] = e.Seq, string(body)
	}
	return numbers, bodies, nil
}

// Events returns a deployment's events after a number, oldest first.
func (r *Records) Events(ctx context.Context, id, after int64, limit int) ([]deploy.Event, error) {
	return r.events(ctx, fmt.Sprintf("deployment %d", id),
		`SELECT body FROM records.event WHERE deployment = $1 AND seq > $2 ORDER BY seq LIMIT $3`, id, after, limit)
}

// Measured returns the events of a deployment that tell what a step did to its
// surroundings.
func (r *Records) Measured(ctx context.Context, id int64) ([]deploy.Event, error) {
	return r.events(ctx, fmt.Sprintf("deployment %d", id),
		`SELECT body FROM records.event WHERE deployment = $1 AND body->>'kind' = $2 ORDER BY seq`, id, deploy.Measured)
}

// events reads events; of is whose they are, for an error.
func (r *Records) events(ctx context.Context, of, query string, args ...any) ([]deploy.Event, error) {
	rows, err := r.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("read the events of %s: %w", of, err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[deploy.Event])
}

// LastSeq is the number of a deployment's newest event, or 0.
func (r *Records) LastSeq(ctx context.Context, id int64) (int64, error) {
	var seq int64
	err := r.pool.QueryRow(ctx, `SELECT coalesce(max(seq), 0) FROM records.event WHERE deployment = $1`, id).Scan(&seq)
	return seq, err
}
