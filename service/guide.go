package service

import (
	"context"
	"fmt"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// guide is what a deployment that was begun here asks while it runs.
type guide struct {
	*deploying
	deployment records.Deployment
	place      targetContext
	session    engine.Session
	request    deploymentRequest

	// the schema right before the first step, and what it should have been then;
	// nil where that could not be seen
	before, expected *schema.Schema

	spans *spans
}

// run hands a recorded deployment over to be run.
func (s *deploying) run(
	d records.Deployment, p targetContext, session engine.Session, request deploymentRequest, notes []string,
) {
	s.running.Run(
		work.Work{
			Deployment: d,
			Session:    session,
			Dialect:    p.dialect(),
			Defaults:   defaults(p),
			Schemas:    p.environment.Schemas,
			Texts:      s.library.texts(d.Plan),
			Now:        s.eventClock,
			Notes:      notes,
			Request:    request.id,
			Guide: &guide{
				deploying: s, deployment: d, place: p, session: session, request: request,
				spans: begun(s.Tracer, request.trace, d, request.id),
			},
		},
	)
}

// Pass holds the lane still.
func (g *guide) Pass(ctx context.Context) (func(), error) {
	return g.Records.Pass(ctx, g.deployment.Lane)
}

// Confirm asks the gate for the last time, under the target's lock.
func (g *guide) Confirm(ctx context.Context) (last work.Confirmed, err error) {
	p, err := g.targets.again(ctx, g.place)
	if err != nil {
		return last, err
	}
	d := g.deployment
	who := promotionRequest{
		through: g.request.through, actor: d.Actor, deployment: d.ID, back: g.request.back, befores: g.request.befores,
	}
	facts, err := g.gates.underLock(ctx, p, g.session, who)
	if err != nil {
		return last, err
	}
	last.Head, last.Belongs = facts.View.State.Head, claim(p, facts.View.State)
	result := g.request.gate(facts)
	if result.Held() {
		hold := result.Holds()[0]
		last.Against = fmt.Sprintf("the gate closed before the first statement: %s (%s)", hold.Evidence, hold.ID)
	} else if planned, err := g.request.plan(facts.View); err != nil || !d.Plan.Within(planned) {
		last.Against = "the plan changed before the first statement; read it again, and promote once more"
	}
	return last, g.Records.SaveGate(ctx, d.ID, result)
}

// Before says what differs from what is known: that stays drift, whatever the steps do.
func (g *guide) Before(ctx context.Context, head ledger.Head) (*schema.Schema, []string) {
	ctx, cancel := context.WithTimeout(ctx, work.LookPatience)
	defer cancel()
	now, err := g.session.Snapshot(ctx, g.place.environment.Schemas)
	if err != nil {
		g.Log.Warn("the schema before a deployment could not be read", "deployment", g.deployment.ID, "error", err)
		return nil, []string{
			"what the steps do to the schema, and whether it has drifted, is not known: " + err.Error(),
		}
	}
	g.before = &now
	known, from, err := g.drifts.expected(ctx, g.place, g.session, head, now)
	if err != nil {
		g.Log.Warn("what a schema should be is not known", "deployment", g.deployment.ID, "error", err)
		return g.before, nil
	}
	g.expected = &known
	differences := schema.Compare(known, now)
	if len(differences) == 0 {
		return g.before, nil
	}
	return g.before, []string{
		fmt.Sprintf(
			"the schema had drifted before the first step: %s from what %s left, and that stays drift until somebody "+
				"accepts, attests or undoes it: %s",
			plural.Count(len(differences), "object differs", "objects differ"),
			from, schema.Summary(differences, 5),
		),
	}
}

// Left keeps what a deployment left, before its target's lock is given back: what
// was known, with what the deployment changed. A schema that cannot be read is no
// reason for the deployment to fail: then drift is not known, and the gate says so.
func (g *guide) Left(head ledger.Head, seen *schema.Schema) (left schema.Schema, kept bool) {
	if head.Seq == 0 || g.session.InTransaction() {
		return left, false
	}
	d := g.deployment
	ctx, cancel := context.WithTimeout(context.Background(), work.LookPatience)
	defer cancel()
	g.counted(ctx)
	var err error
	if seen != nil {
		left = *seen
	} else {
		left, err = g.session.SnapshotWithNeeds(ctx, g.place.environment.Schemas)
	}
	should := left
	if g.expected != nil && !d.Plan.Empties {
		should = schema.Carried(*g.expected, *g.before, left)
	}
	if err == nil {
		err = g.Records.SaveSnapshot(
			ctx,
			records.Snapshot{Lane: d.Lane, Environment: d.Environment, Why: leftByDeployment, Deployment: d.ID,
				Seq: head.Seq, Actor: d.Actor, Schema: should},
		)
	}
	if err == nil {
		still := gate.Drifted{
			From:        fmt.Sprintf("deployment %d", d.ID),
			Since:       g.Now().UTC(),
			Differences: schema.Compare(should, left),
		}
		err = g.drifts.saveLook(ctx, g.place, g.drifts.Now(), still, left.Fingerprint())
	}
	if err != nil {
		g.Log.Warn("what a deployment left of the schema is not known", "deployment", d.ID, "error", err)
	}
	return left, err == nil
}

// counted keeps what the server counts of its objects, where the steps expand: a contract
// asks later what was used since.
func (g *guide) counted(ctx context.Context) {
	counter, can := g.session.(engine.Counter)
	d := g.deployment
	e := review.Expanded{At: g.Now().UTC()}
	for _, a := range d.Plan.Actions {
		if a.Direction == ledger.Forward && a.Step.Options.Phase == step.Expand {
			e.Step = a.Step.Number
		}
	}
	if !can || e.Step == "" {
		return
	}
	figures, err := counter.Figures(ctx)
	if err == nil {
		e.Uses = figures.Uses()
		err = g.Records.SaveObjectUses(ctx, d.Lane, d.Environment, d.ID, e)
	}
	if err != nil {
		g.Log.Warn("what the server counts is not kept", "deployment", d.ID, "error", err)
	}
}

// Began tells of it.
func (g *guide) Began() {
	g.metrics.running.WithLabelValues(g.deployment.Lane, g.deployment.Environment).Inc()
	g.looking.changed()
	if g.deployment.Fleet == 0 { // of a fleet's, that of the whole tells
		g.hooks.TellOf(g.deployment, api.EventStarted, "")
	}
}

// Happened counts.
func (g *guide) Happened(e deploy.Event) {
	g.metrics.step(g.deployment.Lane, g.deployment.Environment, e)
	g.spans.happened(e)
}

// Changed lets nobody be told what was seen before.
func (g *guide) Changed() { g.looking.changed() }

// Ended tells of it.
func (g *guide) Ended(result deploy.Result) {
	d := g.deployment
	if g.request.ended != nil {
		g.request.ended <- result
	}
	g.spans.ended(result.Outcome)
	g.metrics.running.WithLabelValues(d.Lane, d.Environment).Dec()
	g.metrics.deployments.WithLabelValues(d.Lane, d.Environment, string(result.Outcome)).Inc()
	switch {
	case result.Failure != nil:
		g.hooks.TellOf(d, api.EventFailed, result.Failure.Error())
	case result.Outcome == deploy.Done && d.Fleet != 0: // that of the whole tells
	default:
		g.hooks.TellOf(d, endedAs(result.Outcome), string(result.Outcome))
	}
}

func defaults(p targetContext) engine.Settings {
	settings := engine.Settings{Role: p.environment.Role, LockTimeout: step.DefaultLockTimeout}
	settings.BlockAtMost = p.environment.BlockAtMost
	if p.environment.LockTimeout != nil {
		settings.LockTimeout = *p.environment.LockTimeout
	}
	if p.environment.StatementTimeout != nil {
		settings.StatementTimeout = *p.environment.StatementTimeout
	}
	return settings
}
