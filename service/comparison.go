package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/records"
	"vorrang/service/api"
)

type comparisonIn struct {
	Lane       string `path:"lane"`
	From       string `query:"from" description:"An environment."`
	With       string `query:"with" description:"Another one; or give deployment."`
	Deployment int64  `query:"deployment" description:"Compare with what this deployment of the lane left."`
	Owners     bool   `query:"owners" description:"Compare owners and grants too; they often differ by environment."`
}

// comparison says how the schemas of two environments differ.
func (s *schemas) comparison(c call, in *comparisonIn) (*api.Comparison, error) {
	if in.From == "" || (in.With == "") == (in.Deployment == 0) {
		return nil, badRequest(nil, "from and with: name two environments; or an environment and a deployment")
	}
	one, _, err := s.snapshotOf(c, in.Lane, in.From)
	if err != nil {
		return nil, err
	}
	if in.Deployment != 0 {
		left, err := s.leftBy(c, in.Lane, in.Deployment)
		if err != nil {
			return nil, err
		}
		return compared(in.From, fmt.Sprintf("deployment %d", in.Deployment), one, left.Schema, in.Owners), nil
	}
	other, _, err := s.snapshotOf(c, in.Lane, in.With)
	if err != nil {
		return nil, err
	}
	return compared(in.From, in.With, one, other, in.Owners), nil
}

// leftBy is the schema that a deployment of a lane left.
func (s *schemas) leftBy(c call, lane string, deployment int64) (records.Snapshot, error) {
	left, err := s.Records.SchemaAfter(c, deployment)
	if err == nil && (left.Lane != lane || !c.who.mayLook(lane, left.Environment)) {
		err = records.ErrNotFound
	}
	if errors.Is(err, records.ErrNotFound) {
		return left, notFound(
			"kept schema of deployment",
			fmt.Sprint(deployment),
			see(
				remedy.LookAtDeployments,
				"one that lost its connection, or ended before Vorrang kept schemas, left none; see which there are",
			),
		)
	}
	return left, err
}

// reading is how a session reads a schema: as it is, or also which object needs
// which others, as it takes for a draft and for what is kept.
type reading func(engine.Session, context.Context, []string) (schema.Schema, error)

var (
	plainly   reading = engine.Session.Snapshot
	withNeeds reading = engine.Session.SnapshotWithNeeds
)

// snapshotOf reads the schema of an environment's target.
func (s *schemas) snapshotOf(ctx context.Context, lane, environment string) (schema.Schema, targetContext, error) {
	return s.seenOf(ctx, lane, environment, plainly)
}

func (s *schemas) seenOf(
	ctx context.Context, lane, environment string, read reading,
) (schema.Schema, targetContext, error) {
	session, p, err := s.open(ctx, lane, environment, "vorrangd snapshot")
	if err != nil {
		return schema.Schema{}, p, err
	}
	defer session.Close()
	snapshot, err := read(session, ctx, p.environment.Schemas)
	return snapshot, p, err
}

// compared is the answer to a comparison: what was added is only in the first.
func compared(from, with string, one, other schema.Schema, owners bool) *api.Comparison {
	answer := &api.Comparison{
		From:        from,
		With:        with,
		Owners:      owners,
		FromObjects: len(one.Objects),
		WithObjects: len(other.Objects),
		FromUncovered: append(
			[]schema.Uncovered{},
			one.Uncovered...),
		WithUncovered: append([]schema.Uncovered{}, other.Uncovered...),
	}
	if !owners {
		one, other = one.Without(schema.OwnedByRole, schema.Grants), other.Without(schema.OwnedByRole, schema.Grants)
	}
	answer.FromFingerprint, answer.WithFingerprint = one.Fingerprint(), other.Fingerprint()
	answer.Same = answer.FromFingerprint == answer.WithFingerprint
	answer.Differences, answer.Reordered = schema.Compare(other, one), append(
		[]string{},
		schema.Reordered(other, one)...)
	return answer
}

type releaseComparisonIn struct {
	Lane    string `path:"lane"`
	From    string `json:"from" required:"true" description:"An environment."`
	Release string `json:"release" required:"true"`
	Owners  bool   `json:"owners,omitempty" description:"Compare owners and grants too."`
}

// compareRelease says how an environment's schema differs from what a release
// makes: the release is built in a scratch database, on the server of a
// disposable environment.
func (s *schemas) compareRelease(c call, in *releaseComparisonIn) (*api.Comparison, error) {
	one, p, err := s.snapshotOf(c, in.Lane, in.From)
	if err == nil {
		p, err = s.library.narrow(c, p, in.Release)
	}
	if err != nil {
		return nil, err
	}
	if p.release == nil {
		return nil, badRequest(see(remedy.LookAtReleases, "see which there are"), "release: name one")
	}
	other, err := s.builder.build(c, p)
	if err != nil {
		return nil, err
	}
	return compared(in.From, "release "+in.Release, one, other, in.Owners), nil
}

// build runs the steps that are in place in a scratch database, and
// reads what they made. Nothing of it stays.
func (s *builder) build(ctx context.Context, p targetContext) (schema.Schema, error) {
	shop, err := workshopOf(p, nil)
	if err != nil {
		return schema.Schema{}, err
	}
	scratch, err := s.scratch(ctx, p, shop)
	if err != nil {
		return schema.Schema{}, err
	}
	defer scratch.Close()
	if result := scratch.runner.Run(ctx, ledger.NewHead(), scratch.everything); result.Failure != nil {
		return schema.Schema{}, refused(
			by("a release is built from nothing; a step that needs what no step makes cannot be"),
			"the release could not be built in a scratch database: %s",
			strings.TrimSpace(fmt.Sprint(result.Failure)),
		)
	}
	return scratch.Snapshot(ctx, p.environment.Schemas)
}
