package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/deploy"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// FleetDeployment is one deployment to the targets of a fleet.
type FleetDeployment struct {
	ID          int64
	Lane        string
	Environment string
	Direction   ledger.Direction
	Request     FleetRequest
	Waves       lane.Waves
	Outcome     deploy.Outcome
	Message     string // how it ended
	Actor       string
	Who         Identity
	Paused      *string // who paused it; nil while it goes on
	Cancel      *string // who asked for its end; nil for nobody
	Service     int32   // that runs it
	StartedAt   time.Time
	EndedAt     *time.Time
}

// FleetRequest is what somebody asked for: of a promotion, or of a rollback.
type FleetRequest struct {
	ScheduledRequest
	Last  int         `json:"last,omitempty"`  // a rollback of the last so many steps
	To    step.Number `json:"to,omitempty"`    // of everything above this step
	Since string      `json:"since,omitempty"` // of everything that is not in this release
	// Steps are those that some target is to run, as they were when it began: no target runs others.
	Steps map[step.Number]string `json:"steps,omitempty"`
}

// FleetTarget is one target of a fleet in a deployment.
type FleetTarget struct {
	Fleet      int64
	Target     string
	Place      int // in the order of the fleet
	Wave       int // from 1; 0 for a target that the deployment does not change
	Stand      plan.Stand
	Message    string
	Deployment *int64
	BeganAt    *time.Time
	EndedAt    *time.Time
	Steps      []step.Number // that it is to run, and no others
}

const (
	fleetColumns = `id, lane, environment, direction, wish, waves, outcome, says, actor, who, paused, cancel, service,
		started_at, ended_at`
	fleetStandColumns  = `fleet, target, place, wave, stand, says, deployment, began_at, ended_at`
	fleetTargetColumns = fleetStandColumns + `, steps`
)

// FleetRunningError says that a deployment to a fleet is under way.
type FleetRunningError struct{ Fleet FleetDeployment }

func (e *FleetRunningError) Error() string {
	f := e.Fleet
	return fmt.Sprintf("deployment F%d to the fleet %s, started by %s, has been running since %s",
		f.ID, f.Environment, f.Actor, f.StartedAt.UTC().Format(time.DateTime+" UTC"))
}

// BeginFleet records a running deployment of this service to a fleet. A fleet has one at a time: a
// second one is a *FleetRunningError. It uses up the scheduled promotion that it is of; 0 for none.
func (r *Records) BeginFleet(
	ctx context.Context, f FleetDeployment, targets []FleetTarget, scheduled int64,
) (begun FleetDeployment, err error) {
	err = r.beginning(ctx, func(tx pgx.Tx) error {
		rows, _ := tx.Query(ctx, `INSERT INTO records.fleet_deployment (lane, environment, direction, wish, waves, outcome, actor,
				who, service)
			SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9 WHERE records.lives($9) RETURNING `+fleetColumns,
			f.Lane, f.Environment, f.Direction, f.Request, f.Waves, deploy.Running, f.Actor, f.Who, r.life.id)
		if begun, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[FleetDeployment]); err != nil {
			return lost(err)
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"records", "fleet_target"},
			[]string{"fleet", "target", "place", "wave", "stand", "says", "steps"},
			pgx.CopyFromSlice(len(targets), func(i int) ([]any, error) {
				t := targets[i]
				steps := append([]step.Number{}, t.Steps...)
				return []any{begun.ID, t.Target, t.Place, t.Wave, string(t.Stand), t.Message, steps}, nil
			}))
		if err != nil {
			return err
		}
		return r.useScheduled(ctx, tx, scheduled, 0, begun.ID)
	}, func() error {
		running, err := r.RunningFleet(ctx, f.Lane, f.Environment)
		if err == nil && running != nil {
			err = &FleetRunningError{*running}
		}
		return err
	})
	return begun, err
}

// beginInFleet keeps that a target's part has begun.
func (r *Records) beginInFleet(ctx context.Context, tx pgx.Tx, d Deployment) error {
	tag, err := tx.Exec(ctx, `WITH told AS (SELECT pg_notify($5, 'fleet ' || $1::bigint))
		UPDATE records.fleet_target t SET stand = 'running', says = '', deployment = $3, began_at = now(), ended_at = NULL
		FROM told, records.fleet_deployment f WHERE f.id = t.fleet AND t.fleet = $1 AND t.target = $2 AND t.stand = 'waiting'
			AND f.service = $4 AND f.outcome = 'running'`,
		d.Fleet, lane.TargetOf(d.Environment), d.ID, r.life.id, channel)
	return fencedFleet(err, tag, d.Fleet)
}

// RunningFleet returns the deployment to a fleet that is under way, or nil.
func (r *Records) RunningFleet(ctx context.Context, lane, environment string) (*FleetDeployment, error) {
	list, err := r.fleets(ctx, `WHERE lane = $1 AND environment = $2 AND outcome = 'running'`, lane, environment)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// FleetDeployment returns one deployment to a fleet, or ErrNotFound.
func (r *Records) FleetDeployment(ctx context.Context, id int64) (FleetDeployment, error) {
	list, err := r.fleets(ctx, `WHERE id = $1`, id)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return FleetDeployment{}, err
	}
	return list[0], nil
}

// PlaceOfFleet says on which environment a deployment to a fleet is or was, or ErrNotFound.
func (r *Records) PlaceOfFleet(ctx context.Context, id int64) (lane, environment string, err error) {
	err = r.pool.QueryRow(ctx, `SELECT lane, environment FROM records.fleet_deployment WHERE id = $1`, id).
		Scan(&lane, &environment)
	return lane, environment, noRows(err)
}

// FleetDeployments returns deployments to fleets, the newest first. The step is one that some target was
// to run.
func (r *Records) FleetDeployments(ctx context.Context, q DeploymentQuery) ([]FleetDeployment, error) {
	return r.fleets(ctx, `f WHERE ($1 = '' OR lane = $1) AND ($2 = '' OR environment = $2) AND ($3 = '' OR outcome = $3)
			AND ($4 = '' OR actor = $4) AND ($5 = '' OR EXISTS (SELECT FROM records.fleet_target t
				WHERE t.fleet = f.id AND t.steps @> jsonb_build_array($5::text)))
			AND ($6 = '' OR wish->>'release' = $6) AND ($7::bigint = 0 OR id < $7)
		ORDER BY id DESC LIMIT $8`,
		q.Lane, q.Environment, q.Outcome, q.Actor, q.Step, q.Release, q.Before, q.Limit)
}

func (r *Records) fleets(ctx context.Context, where string, args ...any) ([]FleetDeployment, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+fleetColumns+` FROM records.fleet_deployment `+where, args...)
	if err != nil {
		return nil, fmt.Errorf("read the deployments to fleets: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[FleetDeployment])
}

// FleetTargets returns the targets of a deployment to a fleet, in the fleet's order.
func (r *Records) FleetTargets(ctx context.Context, id int64) ([]FleetTarget, error) {
	return r.fleetTargets(ctx, fleetTargetColumns, id)
}

// FleetStands returns how they stand, without the steps that each is to run.
func (r *Records) FleetStands(ctx context.Context, id int64) ([]FleetTarget, error) {
	return r.fleetTargets(ctx, fleetStandColumns+", NULL", id)
}

func (r *Records) fleetTargets(ctx context.Context, columns string, id int64) ([]FleetTarget, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+columns+` FROM records.fleet_target WHERE fleet = $1 ORDER BY place`, id)
	if err != nil {
		return nil, fmt.Errorf("read the targets of deployment F%d to a fleet: %w", id, err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[FleetTarget])
}

// FleetCounts says how many targets stand how, by deployment to a fleet.
func (r *Records) FleetCounts(ctx context.Context, ids []int64) (map[int64]map[plan.Stand]int, error) {
	counts := map[int64]map[plan.Stand]int{}
	rows, err := r.pool.Query(ctx, `SELECT fleet, stand, count(*) FROM records.fleet_target WHERE fleet = ANY ($1)
		GROUP BY fleet, stand`, ids)
	if err == nil {
		var id int64
		var stand plan.Stand
		var n int
		_, err = pgx.ForEachRow(rows, []any{&id, &stand, &n}, func() error {
			if counts[id] == nil {
				counts[id] = map[plan.Stand]int{}
			}
			counts[id][stand] = n
			return nil
		})
	}
	if err != nil {
		return nil, fmt.Errorf("count the targets of deployments to fleets: %w", err)
	}
	return counts, nil
}

// EndFleetTarget keeps what became of a target, or that it waits again. The error is TakenOverError
// where another service runs the deployment by now.
func (r *Records) EndFleetTarget(ctx context.Context, id int64, target string, stand plan.Stand, message string) error {
	tag, err := r.pool.Exec(ctx, `WITH told AS (SELECT pg_notify($6, 'fleet ' || $1::bigint))
		UPDATE records.fleet_target t SET stand = $3, says = $4, ended_at = CASE WHEN $3 = 'waiting' THEN NULL ELSE now() END
		FROM told, records.fleet_deployment f WHERE f.id = t.fleet AND t.fleet = $1 AND t.target = $2 AND f.service = $5`,
		id, target, string(stand), message, r.life.id, channel)
	return fencedFleet(err, tag, id)
}

// EndFleet keeps how a deployment of this service to a fleet ended. It may be repeated. The error is
// TakenOverError where another service runs it by now.
func (r *Records) EndFleet(ctx context.Context, id int64, outcome deploy.Outcome, message string) error {
	tag, err := r.pool.Exec(ctx, `WITH told AS (SELECT pg_notify($5, 'changed'), pg_notify($5, 'fleet ' || $1::bigint))
		UPDATE records.fleet_deployment SET outcome = $2, says = $3, ended_at = coalesce(ended_at, now()) FROM told
			WHERE id = $1 AND service = $4`, id, outcome, message, r.life.id, channel)
	return fencedFleet(err, tag, id)
}

func fencedFleet(err error, tag pgconn.CommandTag, id int64) error {
	if err == nil && tag.RowsAffected() == 0 {
		return TakenOverError{fmt.Sprintf("deployment F%d to a fleet", id)}
	}
	return err
}

// SteerFleet pauses a deployment to a fleet, lets it go on, or asks for its end; false if it does not
// run. who is empty to let it go on.
func (r *Records) SteerFleet(ctx context.Context, id int64, column FleetWord, who string) (bool, error) {
	tag, err := r.pool.Exec(ctx, `WITH told AS (SELECT pg_notify($3, 'cancel'), pg_notify($3, 'fleet ' || $1::bigint))
		UPDATE records.fleet_deployment SET `+string(column)+` = nullif($2, '') FROM told
			WHERE id = $1 AND outcome = 'running'`, id, who, channel)
	if err != nil {
		return false, fmt.Errorf("keep what is to become of deployment F%d to a fleet: %w", id, err)
	}
	return tag.RowsAffected() > 0, nil
}

// FleetWord is what somebody may say to a deployment to a fleet.
type FleetWord string

const (
	PauseFleet  FleetWord = "paused"
	CancelFleet FleetWord = "cancel"
)

// OwnFleets returns the running deployments to fleets of this service, after it has made those its
// own whose service does not live any more.
func (r *Records) OwnFleets(ctx context.Context) ([]FleetDeployment, error) {
	_, err := r.pool.Exec(ctx, `UPDATE records.fleet_deployment SET service = $1
		WHERE id IN (SELECT id FROM records.fleet_deployment WHERE outcome = 'running' AND service <> $1
			AND records.lives($1) AND NOT records.lives(service) FOR UPDATE SKIP LOCKED)`, r.life.id)
	if err != nil {
		return nil, fmt.Errorf("take over deployments to fleets: %w", err)
	}
	return r.fleets(ctx, `WHERE outcome = 'running' AND service = $1 ORDER BY id`, r.life.id)
}

// Aside is a target of a fleet that deployments and gates pass over.
type Aside struct {
	Target string    `json:"target"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// SetAside has deployments to a fleet, and gates, pass over one of its targets.
func (r *Records) SetAside(ctx context.Context, lane, environment string, a Aside) error {
	_, err := r.pool.Exec(ctx, `INSERT INTO records.set_aside (lane, environment, target, reason, set_by)
		VALUES ($1, $2, $3, $4, $5) ON CONFLICT (lane, environment, target) DO UPDATE SET reason = $4, set_by = $5,
			set_at = now()`, lane, environment, a.Target, a.Reason, a.By)
	if err != nil {
		return fmt.Errorf("set %s of %s/%s aside: %w", a.Target, lane, environment, err)
	}
	return nil
}

// TakeBack ends that; false if the target was not set aside.
func (r *Records) TakeBack(ctx context.Context, lane, environment, target string) (bool, error) {
	tag, err := r.pool.Exec(ctx, `DELETE FROM records.set_aside WHERE lane = $1 AND environment = $2 AND target = $3`,
		lane, environment, target)
	return tag.RowsAffected() > 0, err
}

// AsideOf are the targets of a fleet that are set aside, by name.
func (r *Records) AsideOf(ctx context.Context, lane, environment string) (map[string]Aside, error) {
	rows, err := r.pool.Query(ctx, `SELECT target, reason, set_by, set_at FROM records.set_aside
		WHERE lane = $1 AND environment = $2`, lane, environment)
	if err != nil {
		return nil, fmt.Errorf("read which targets are set aside: %w", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Aside])
	all := map[string]Aside{}
	for _, one := range list {
		all[one.Target] = one
	}
	return all, err
}

// LeftTargets names the targets of a fleet that have a history, and are neither among those that it has now nor set
// aside.
func (r *Records) LeftTargets(ctx context.Context, lane, environment string, now []string) ([]string, error) {
	rows, err := r.pool.Query(ctx, `SELECT seen.target
		FROM (SELECT substr(environment, length($2) + 2) AS target FROM records.head
			WHERE lane = $1 AND starts_with(environment, $2 || '.')) seen
		WHERE NOT EXISTS (SELECT FROM unnest($3::text[]) AS n (target) WHERE n.target = seen.target)
			AND NOT EXISTS (SELECT FROM records.set_aside a WHERE a.lane = $1 AND a.environment = $2 AND a.target = seen.target)
		ORDER BY 1`, lane, environment, now)
	if err != nil {
		return nil, fmt.Errorf("read which targets a fleet had: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
