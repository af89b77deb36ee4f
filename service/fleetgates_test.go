package service_test

import (
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// TestTheGateSaysWhatAPromotionDoesAboutExceptions: where some are tolerated it is clear, and says
// what goes without.
func TestTheGateSaysWhatAPromotionDoesAboutExceptions(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Fleet("staging", 3, "canary: 0, tolerate: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	w.Away("staging.g2")
	asked := must(w.Gate(ctx, "harbour", "staging", ""))
	assert.Equal(t, "clear", asked.Gate)
	assert.Contains(t, asked.Notes, "a deployment goes on without g2: 1 is tolerated")
	must(w.Freeze(ctx, "harbour", "staging.g3", time.Time{}, w.Now().AddDate(0, 0, 1), "the mast is down"))
	asked = must(w.Gate(ctx, "harbour", "staging", ""))
	assert.Equal(t, "held", asked.Gate, "two are more than one")
	assert.Equal(t, []gate.ID{gate.Reachable, gate.NotFrozen}, holds(asked.Checks))
	assert.Contains(t, refusal(t, w, "staging").Detail, "g3: staging.g3 is frozen until", "both are said")
	must(w.Thaw(ctx, "harbour", "staging.g3", "it is up again"))
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Away, "g3": plan.Reached}, stands(promotedFleet(t, w)))

	for _, name := range []string{"g1", "g3"} {
		w.Away("staging." + name)
	}
	none := must(w.Gate(ctx, "harbour", "staging", ""))
	assert.Equal(t, "held", none.Gate, "nobody was asked")
	assert.Equal(t, []gate.ID{gate.Reachable}, holds(none.Checks))
}

// TestAFreezeIsEndedWhereItWasSet: on the whole fleet, or on one target.
func TestAFreezeIsEndedWhereItWasSet(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Fleet("staging", 2, "canary: 1, tolerate: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	tomorrow := w.Now().AddDate(0, 0, 1)
	must(w.Freeze(ctx, "harbour", "staging", time.Time{}, tomorrow, "spring tide"))
	held := must(w.Gate(ctx, "harbour", "staging.g1", ""))
	require.NotNil(t, held.Freeze)
	assert.Equal(t, "staging", held.Freeze.Environment)
	frozen := held.Checks[slices.IndexFunc(held.Checks, func(c gate.Check) bool { return c.ID == gate.NotFrozen })]
	assert.Contains(t, frozen.Evidence, "staging is frozen until")
	assert.Contains(t, advice.Text(frozen.Remedies), "vorrang thaw -lane harbour -env staging -reason")
	_, err := w.Thaw(ctx, "harbour", "staging.g1", "the tide is out here")
	assert.Contains(t, problem(t, err).Detail, "staging.g1 is frozen with all of staging")
	assert.Contains(t, advice.Text(problem(t, err).Remedies), "vorrang thaw -lane harbour -env staging -reason")
	assert.EqualValues(t, 1, must(w.Thaw(ctx, "harbour", "staging", "the tide is out")).Ended)

	must(w.Freeze(ctx, "harbour", "staging.g1", time.Time{}, tomorrow, "the mast is down"))
	assert.Equal(t, "staging.g1", must(w.Gate(ctx, "harbour", "staging.g1", "")).Freeze.Environment)
	assert.Nil(t, must(w.Gate(ctx, "harbour", "staging.g2", "")).Freeze)
	_, err = w.Thaw(ctx, "harbour", "staging", "it is up again")
	one := problem(t, err)
	assert.Equal(t, "staging is not frozen as a whole, but these targets are: g1", one.Detail)
	assert.Contains(t, advice.Text(one.Remedies), "vorrang thaw -lane harbour -env staging.g1 -reason")
	assert.EqualValues(t, 1, must(w.Thaw(ctx, "harbour", "staging.g1", "it is up again")).Ended)
}

// TestAReleaseIsComparedWithEveryTarget of a fleet: what one of them lacks is new.
func TestAReleaseIsComparedWithEveryTarget(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Fleet("staging", 3, "canary: 0")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)", "2-mast.sql": "CREATE TABLE mast (at timestamptz)"})
	must(w.Cut(ctx, "harbour", client.Cutting{Name: "2026.11"}))
	assert.Equal(t, deploy.Done, w.Promoted("staging.g1").Outcome)
	w.Ended(must(w.Promote(ctx, "harbour", "staging.g2", client.Promotion{Through: "1"})))
	compared := func() *api.ReleaseContent { return must(w.Release(ctx, "harbour", "2026.11", "staging", "")) }
	numbers := func(list []release.Change) []step.Number {
		return each(list, func(c release.Change) step.Number { return c.Number })
	}
	all := compared()
	assert.Equal(t, []step.Number{"1", "2"}, numbers(all.Changes), "g1 has both, and g3 has none")
	assert.Equal(t, 3, all.Targets)
	w.Away("staging.g3")
	two := compared()
	assert.Equal(t, []step.Number{"2"}, numbers(two.Changes))
	assert.Equal(t, 2, two.Targets)
	assert.Equal(t, []string{"staging.g3"}, two.Away, "nobody compared it")
	for _, name := range []string{"g1", "g2"} {
		w.Away("staging." + name)
	}
	_, err := w.Release(ctx, "harbour", "2026.11", "staging", "")
	require.ErrorContains(t, err, "nobody listens at 127.0.0.1:1", "nobody was asked")
}

// TestATargetThatIsAway holds the gate until it is set aside, and catches up later.
func TestATargetThatIsAway(t *testing.T) {
	w := servicetest.Start(t)
	w.Gates(map[string]string{"production": "release: not-asked, previous-environment: required"})
	w.Fleet("staging", 3, "canary: 0")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	url := w.URLs["staging.g2"]
	w.Away("staging.g2")

	refused := refusal(t, w, "staging")
	assert.Contains(t, refused.Detail, "1 target of 3 cannot take part")
	assert.Len(t, refused.Targets, 1)
	assert.Empty(t, refused.Differences, "the gate's checks say it")
	assert.Contains(t, refused.Detail, "1 of 3 targets could not be read (g2): nobody listens at 127.0.0.1:1")
	asked := must(w.Gate(t.Context(), "harbour", "staging", ""))
	assert.Equal(t, "held", asked.Gate, "as the promotion is")
	assert.Equal(t, []gate.ID{gate.Reachable}, holds(asked.Checks))
	assert.True(t, must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{})).Held)
	_, err := w.SetAside(t.Context(), "harbour", "staging.g2", "")
	require.Error(t, err)
	must(w.SetAside(t.Context(), "harbour", "staging.g2", "its mast is being repaired"))
	f := promotedFleet(t, w)
	assert.Equal(t, deploy.Done, f.Outcome)
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g3": plan.Reached}, stands(f))
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.Len(t, status.Fleet.Aside, 1)
	assert.Equal(t, "its mast is being repaired", status.Fleet.Aside[0].Reason)
	assert.Equal(t, "clear", must(w.Gate(t.Context(), "harbour", "production", "")).Gate, "production passes over it")

	require.NoError(t, w.TakeBack(t.Context(), "harbour", "staging.g2"))
	held := must(w.Gate(t.Context(), "harbour", "production", ""))
	assert.Equal(t, "held", held.Gate)
	assert.Equal(t, gate.Hold, gate.Result{Checks: held.Checks}.Find(gate.PreviousEnvironment).Verdict)
	require.NoError(t, os.WriteFile(w.Files["staging.g2"], []byte(url), 0o600))
	lacks := must(w.Gate(t.Context(), "harbour", "production", ""))
	assert.Contains(t, gate.Result{Checks: lacks.Checks}.Find(gate.PreviousEnvironment).Evidence, "staging.g2")
	assert.Equal(t, deploy.Done, promotedFleet(t, w).Outcome, "it catches up")
	assert.Equal(t, "clear", must(w.Gate(t.Context(), "harbour", "production", "")).Gate)
}

// TestRightsOnAFleetAreRightsOnItsTargets.
func TestRightsOnAFleetAreRightsOnItsTargets(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 2, "canary: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	one := w.As("one", "releaser@harbour/staging.g1")
	_, err := one.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.Error(t, err)
	promoted := must(one.Promote(t.Context(), "harbour", "staging.g1", client.Promotion{}))
	assert.Equal(t, deploy.Done, w.Ended(promoted).Outcome)
	all := w.As("all", "releaser@harbour/staging")
	f := w.FleetEnded(must(all.Promote(t.Context(), "harbour", "staging", client.Promotion{})))
	assert.Equal(t, deploy.Done, f.Outcome)
	assert.Equal(t, "all", must(w.Deployment(t.Context(), deploymentOfTarget(f, "g2"))).Actor)
	reader := w.As("reader", "reader@harbour/production")
	_, err = reader.FleetDeployment(t.Context(), f.ID)
	require.ErrorContains(t, err, "no deployment to a fleet")
	assert.Empty(t, must(reader.FleetDeployments(t.Context(), client.DeploymentQuery{})).Deployments)
}

// TestAPreviewOfAFleetWhoseFirstTargetIsAway is made of those that can be read.
func TestAPreviewOfAFleetWhoseFirstTargetIsAway(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 2, "canary: 0")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	assert.Equal(t, deploy.Done, w.Promoted("staging.g2").Outcome)
	w.Away("staging.g1")
	shown := must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{}))
	assert.Empty(t, shown.Actions, "g2 has it")
	assert.True(t, shown.Held, "and nobody could look at g1")

	w.Fleet("staging", 4, "canary: 0")
	for i, target := range []string{"staging.g1", "staging.g4"} {
		require.NoError(t, os.WriteFile(w.Files[target], []byte(fmt.Sprintf("postgres://nobody@127.0.0.1:%d/gone", i+1)), 0o600))
	}
	shown = must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{}))
	require.Len(t, shown.Fleet, 3)
	assert.Equal(t, []string{"g3"}, shown.Fleet[0].Targets)
	assert.Equal(t, []string{"g1", "g4"}, shown.Fleet[1].Targets)
	assert.Equal(t, "g1: nobody listens at 127.0.0.1:1", shown.Fleet[1].Message)
	assert.Equal(t, []string{"g2"}, shown.Fleet[2].Targets)
}

// TestAFleetOfWhichAllIsSetAsideIsNotInOrder: nobody read any of it.
func TestAFleetOfWhichAllIsSetAsideIsNotInOrder(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 2, "canary: 0")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	for _, target := range []string{"staging.g1", "staging.g2"} {
		assert.Empty(t, must(w.Status(t.Context(), "harbour", "staging", "none")).Trouble)
		must(w.SetAside(t.Context(), "harbour", target, "its mast is being repaired"))
	}
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	assert.False(t, status.Reached)
	require.Len(t, status.Trouble, 1)
	assert.Equal(t, "every target of staging is set aside, so none was read", status.Trouble[0].Message)
}
