package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

// Why a schema is known.
const (
	leftByDeployment = "deployment"
	wasAccepted      = "accepted"
	wasAttested      = "attested"
	wasBaselined     = "baselined"
	wasAdopted       = "adopted"
)

// work.LookPatience bounds one look at a target's schema.

// expected is what a target's schema should be, and who left it so: what is
// known, where the ledger went on since then with what those entries' texts name
// as it is now. Where nothing is known it is what is there.
func (s *drifts) expected(
	ctx context.Context, p targetContext, session engine.Session, head ledger.Head, now schema.Schema,
) (schema.Schema, string, error) {
	known, err := s.Records.KnownSchema(ctx, p.lane.Name, p.environment.Name)
	if errors.Is(err, records.ErrNotFound) {
		return now, "", nil
	}
	if err != nil || known.Seq == head.Seq {
		return known.Schema, knownFrom(known), err
	}
	entries, _, err := session.ReadLedger(ctx)
	if err != nil {
		return now, "", err
	}
	var named []evidence.Object
	for _, e := range entries {
		if e.Seq <= known.Seq || e.Checksum == "" && e.Action != ledger.RolledBack {
			continue
		}
		statements, err := s.targets.statements(ctx, p, e.Checksum)
		if err != nil { // a rebuild emptied it, or the text is not known here: nobody can tell
			return now, "", nil
		}
		named = append(named, p.dialect().Objects(statements, 1, 0).Objects...)
	}
	return takeOver(known.Schema, now, named), knownFrom(known), nil
}

// drifted compares what is there with what is known. head is the ledger's
// newest entry: what it says that the service did not see makes drift unknown.
func (s *drifts) drifted(
	ctx context.Context, p targetContext, session engine.Session, head int64, read reading,
) (gate.Drifted, schema.Schema, error) {
	now, err := read(session, ctx, p.environment.Schemas)
	if err != nil {
		return gate.Drifted{}, now, err
	}
	known, err := s.Records.KnownSchema(ctx, p.lane.Name, p.environment.Name)
	if errors.Is(err, records.ErrNotFound) {
		return gate.Drifted{Unknown: "no deployment was checked yet"}, now, nil
	}
	if err != nil {
		return gate.Drifted{}, now, err
	}
	d := gate.Drifted{From: knownFrom(known), Since: known.At, Differences: schema.Compare(known.Schema, now)}
	if head != known.Seq {
		d.Unknown = fmt.Sprintf(
			"the ledger went on from entry %d to %d without a look at the schema; the last that is known is what %s left",
			known.Seq, head, d.From,
		)
	}
	return d, now, nil
}

func knownFrom(s records.Snapshot) string {
	switch s.Why {
	case wasAccepted:
		return s.Actor + ", who accepted it,"
	case wasAttested:
		return s.Actor + ", who attested it,"
	case wasAdopted:
		return s.Actor + ", who adopted it,"
	case wasBaselined:
		return "the baseline"
	}
	return fmt.Sprintf("deployment %d", s.Deployment)
}

// askSchema looks at the schema where the gate asks for it: for drift, and for what a
// rehearsal was made with.
func (s *drifts) askSchema(ctx context.Context, p targetContext, session engine.Session, facts *gate.Facts) error {
	asks := p.environment.Asks()
	if asks.Rehearsal {
		now, err := s.seen.snapshot(ctx, p, session)
		if err != nil {
			return err
		}
		facts.Fingerprint = unowned(now).Fingerprint()
	}
	if !asks.Drift || facts.Entries == 0 {
		return nil
	}
	at := s.Now()
	d, now, err := s.drifted(ctx, p, session, facts.View.State.Head.Seq, s.seen.inPassing(p))
	if err != nil {
		return err
	}
	facts.Drifted = &d
	return s.saveLook(ctx, p, at, d, now.Fingerprint())
}

// saveLook keeps what a look found that began at a time, unless a newer one is kept, and tells the hooks of
// news.
func (s *drifts) saveLook(ctx context.Context, p targetContext, at time.Time, d gate.Drifted, fingerprint string) error {
	look := records.DriftLook{At: at.UTC(), Objects: len(d.Differences), Fingerprint: fingerprint, Message: d.Unknown}
	if onlyReads(ctx) {
		s.noted.noteLook(p, look, func(ctx context.Context) error { return s.saveLook(ctx, p, at, d, fingerprint) })
		return nil
	}
	news, err := s.Records.SaveDriftLook(ctx, p.lane.Name, p.environment.Name, look)
	if news {
		s.hooks.Tell(
			ctx,
			api.HookEvent{Type: api.EventDrifted, Lane: p.lane.Name, Environment: p.environment.Name, Actor: "vorrangd",
				Message: fmt.Sprintf(
					"%s from what %s left",
					plural.Count(len(d.Differences), "object differs", "objects differ"),
					d.From,
				)},
		)
	}
	return err
}

// drift says how a target's schema differs from what the last deployment left.
func (s *schemas) drift(c call, in *environmentIn) (*api.Drift, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	d, now, err := s.drifts.lookForDrift(c, p, plainly)
	if err != nil {
		return nil, err
	}
	answer := &api.Drift{
		Lane:        in.Lane,
		Environment: in.Environment,
		Unknown:     d.Unknown,
		From:        strings.TrimSuffix(d.From, ","),
		Fingerprint: now.Fingerprint(),
		Objects:     len(now.Objects),
		Differences: append([]schema.Difference{}, d.Differences...),
		Uncovered:   append([]schema.Uncovered{}, now.Uncovered...),
	}
	if !d.Since.IsZero() {
		answer.Since = &d.Since
	}
	return answer, nil
}

func (s *drifts) lookForDrift(ctx context.Context, p targetContext, read reading) (gate.Drifted, schema.Schema, error) {
	running, err := s.Records.Running(ctx, p.lane.Name, p.environment.Name)
	if err != nil {
		return gate.Drifted{}, schema.Schema{}, err
	}
	if running == nil {
		s.running.Settled(ctx, p.lane.Name, p.environment.Name)
	}
	session, err := s.targets.connect(ctx, p, "vorrangd drift")
	if err != nil {
		return gate.Drifted{}, schema.Schema{}, err
	}
	defer session.Close()
	facts, _, err := s.targets.look(ctx, p, session)
	if err != nil {
		return gate.Drifted{}, schema.Schema{}, err
	}
	if facts.Entries == 0 {
		now, err := read(session, ctx, p.environment.Schemas)
		return gate.Drifted{Unknown: "nothing was deployed here yet"}, now, err
	}
	at := s.Now()
	d, now, err := s.drifted(ctx, p, session, facts.View.State.Head.Seq, read)
	if err == nil && running != nil {
		d.Unknown = fmt.Sprintf("deployment %d, started by %s, is running", running.ID, running.Actor)
		return d, now, nil
	}
	if err == nil {
		err = s.saveLook(ctx, p, at, d, now.Fingerprint())
	}
	return d, now, err
}

type effectsIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Object      string `query:"object" description:"Only of steps that changed the object with this name, such as a table, or something of it."`
	Before      int64  `query:"before" minimum:"0" description:"Only of deployments before this one: next of the page before."`
	Limit       int    `query:"limit" default:"100" minimum:"1" maximum:"1000" description:"The steps of so many deployments."`
}

// effects lists what deployments did to an environment's schema.
func (s *schemas) effects(c call, in *effectsIn) (*api.Effects, error) {
	if _, err := s.targets.place(c, in.Lane, in.Environment); err != nil {
		return nil, err
	}
	list, err := s.Records.Effects(
		c, in.Lane, in.Environment, records.ListQuery{Search: in.Object, Before: in.Before, Limit: in.Limit + 1})
	answer := &api.Effects{Effects: []api.StepEffect{}}
	list, answer.Next = pageOfDeployments(list, in.Limit)
	for _, e := range list {
		answer.Effects = append(
			answer.Effects,
			api.StepEffect{Deployment: e.Deployment, Step: e.Step, Direction: e.Direction, At: e.At,
				Effect: append([]schema.Difference{}, e.Effect...), More: e.More},
		)
	}
	return answer, err
}

// pageOfDeployments is page for steps, of which a deployment has several.
func pageOfDeployments(list []records.StepEffect, limit int) (some []records.StepEffect, next int64) {
	var last int64
	for i, e := range list {
		if e.Deployment == last {
			continue
		}
		if limit == 0 {
			return list[:i], last
		}
		last, limit = e.Deployment, limit-1
	}
	return list, 0
}

type acceptIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Fingerprint string `json:"fingerprint" required:"true" description:"Of the schema that was shown, so that nothing else is accepted."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// accept says that a schema is right as it is.
func (s *schemas) accept(c call, in *acceptIn) (*api.Accepted, error) {
	reason := strings.Join(strings.Fields(in.Reason), " ")
	if reason == "" {
		return nil, badRequest(nil, "reason: say why it is right; it is kept")
	}
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	session, err := s.targets.locked(c, p, "vorrangd accept")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	facts, _, err := s.targets.look(c, p, session)
	if err != nil {
		return nil, err
	}
	if facts.Entries == 0 {
		return nil, refused(
			or(p.do(remedy.Promote, "begin one"), p.do(remedy.Baseline, "record what is there as it is")),
			"%s has no ledger yet, so there is nothing that it could have drifted from",
			in.Environment,
		)
	}
	d, now, err := s.drifts.drifted(c, p, session, facts.View.State.Head.Seq, withNeeds)
	if err != nil {
		return nil, err
	}
	if now.Fingerprint() != in.Fingerprint {
		return nil, refused(p.do(remedy.LookAtDrift, "look again"),
			"the schema of %s is not the one that was shown: it has changed in between", in.Environment)
	}
	if d.Unknown == "" && len(d.Differences) == 0 {
		return nil, refused(nil, "there is nothing to accept: the schema is as %s left it", d.From)
	}
	err = s.Records.SaveSnapshot(
		c,
		records.Snapshot{Lane: in.Lane, Environment: in.Environment, Why: wasAccepted, Seq: facts.View.State.Head.Seq,
			Actor: c.actor, Reason: reason, Schema: now},
	)
	if err != nil {
		return nil, err
	}
	c.note("objects", len(d.Differences))
	return &api.Accepted{
		Objects:     len(d.Differences),
		Fingerprint: in.Fingerprint,
	}, s.drifts.saveLook(c, p, s.drifts.Now(), gate.Drifted{}, in.Fingerprint)
}

// carryOver lets what is known keep up with entries that the service wrote
// itself, and that ran nothing. What was attested is known as it is now; other
// drift stays drift.
func (s *drifts) carryOver(
	ctx context.Context, p targetContext, session engine.Session, before int64, entries []ledger.Entry,
) {
	head := entries[len(entries)-1]
	err := func() error {
		var attested []evidence.Object
		for _, e := range entries {
			if e.Action == ledger.Attested {
				statements, err := s.targets.statements(ctx, p, e.Checksum)
				if err != nil {
					return err
				}
				attested = append(attested, p.dialect().Objects(statements, 1, 0).Objects...)
			}
		}
		known, err := s.Records.KnownSchema(ctx, p.lane.Name, p.environment.Name)
		baselined := head.Action == ledger.Baselined
		if errors.Is(err, records.ErrNotFound) && !baselined || err == nil && known.Seq != before {
			return nil
		}
		if err != nil && !baselined {
			return err
		}
		if baselined || len(attested) > 0 {
			now, err := session.SnapshotWithNeeds(ctx, p.environment.Schemas)
			if err != nil {
				return err
			}
			if known.Why = wasBaselined; !baselined {
				known.Why, now = wasAttested, takeOver(known.Schema, now, attested)
			}
			known.Schema, known.Deployment = now, 0
		}
		known.Lane, known.Environment, known.Seq, known.Actor = p.lane.Name, p.environment.Name, head.Seq, cmp.Or(
			head.Actor, known.Actor,
		)
		return s.Records.SaveSnapshot(ctx, known)
	}()
	if err != nil {
		s.Log.Warn("what is known of a schema could not be kept up", "lane", p.lane.Name,
			"environment", p.environment.Name, "error", err)
	}
}

// takeOver is what was known, with some objects as they are now: each with
// everything that belongs to it.
func takeOver(known, now schema.Schema, attested []evidence.Object) schema.Schema {
	concerned := func(o schema.Object) bool {
		return slices.ContainsFunc(attested, func(a evidence.Object) bool { return concerns(a, o) })
	}
	var objects []schema.Object
	for _, o := range known.Objects {
		if !concerned(o) {
			objects = append(objects, o)
		}
	}
	for _, o := range now.Objects {
		if concerned(o) {
			objects = append(objects, o)
		}
	}
	return schema.New(objects, now.Uncovered)
}

// concerns reports whether what somebody vouched for is an object, or what it
// belongs to: a new table with everything of it, or an altered one with its
// columns and constraints.
func concerns(a evidence.Object, o schema.Object) bool {
	is := func(candidate, name string) bool {
		candidate, _, _ = strings.Cut(candidate, "(") // a function's parameters
		return plainName(schema.Unqualified(candidate)) == name &&
			(a.Schema == "" || strings.HasPrefix(plainName(candidate), a.Schema+"."))
	}
	switch {
	case a.Of != "" && o.Of != "":
		return is(o.Of, a.Of) && plainName(o.Local()) == a.Name || is(o.Name, a.Name)
	case o.Of == "" || o.Kind == schema.Index:
		return is(o.Name, a.Name)
	case a.Of == "" && is(o.Of, a.Name):
		return a.Made || o.Kind == schema.Column || o.Kind == schema.Constraint
	}
	return false
}

// plainName is a name without the quotes that the server puts around some.
func plainName(name string) string { return strings.ReplaceAll(name, `"`, "") }
