package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// These play states that once had no way out to their end, by what Vorrang itself
// advises and nothing else.

// trouble is what is wrong with an environment.
func trouble(t *testing.T, w *servicetest.World, environment string) []api.Trouble {
	t.Helper()
	return must(w.Status(t.Context(), "harbour", environment, "all")).Trouble
}

// sealedIn promotes a release to staging, and gives its outcome.
func sealedIn(t *testing.T, w *servicetest.World, name, through string, files map[string]string) deploy.Outcome {
	t.Helper()
	w.Submitted(files)
	cut(t, w, name, through)
	return w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Release: name}))).Outcome
}

func TestASealedStepThatStumblesOverRowsIsMendedByAStepBelowIt(t *testing.T) {
	w := servicetest.Start(t)
	require.Equal(
		t, deploy.Failed,
		sealedIn(
			t, w, "2026.11", "20",
			map[string]string{
				"10-create-berth.sql": "CREATE TABLE public.berth (depth_cm int);\nINSERT INTO public.berth VALUES (-1);",
				"20-check-depth.sql":  "ALTER TABLE public.berth ADD CHECK (depth_cm > 0);",
			},
		),
	)
	wrong := trouble(t, w, "staging")
	require.Len(t, wrong, 1)
	assert.Contains(t, advice.Text(wrong[0].Remedies), "by a step with a number below 20 that you cut with it")
	require.Equal(
		t, deploy.Done,
		sealedIn(
			t, w, "2026.11.1", "20",
			map[string]string{"15-fix-depth.sql": "UPDATE public.berth SET depth_cm = 900 WHERE depth_cm < 0;"},
		),
	)
	assert.Empty(t, trouble(t, w, "staging"))
}

func TestASealedStepWhoseTextIsWrongIsCarriedOutByAnother(t *testing.T) {
	w := servicetest.Start(t)
	require.Equal(
		t, deploy.Failed,
		sealedIn(t, w, "2026.11", "20", map[string]string{"10-create-berth.sql": "CREATE TABLE public.berth (id int);",
			"20-create-pilot.sql": "CREATE TABLE public.pilot (id int);\nSELECT 1 / 0;"}),
	)
	wrong := trouble(t, w, "staging")
	require.Len(t, wrong, 1)
	assert.Contains(
		t, advice.Text(wrong[0].Remedies),
		"vorrang attest -lane harbour -env staging -step 20 -acknowledge -reason",
	)
	_, err := w.Attest(
		t.Context(), "harbour", "staging",
		client.Attestation{Step: "20", Acknowledge: true, Reason: "its text can never run; step 30 does it"},
	)
	require.NoError(t, err)
	require.Equal(
		t, deploy.Done,
		sealedIn(
			t, w, "2026.11.1", "30",
			map[string]string{"30-create-pilot-again.sql": "CREATE TABLE public.pilot (id int);"},
		),
	)
	assert.Empty(t, trouble(t, w, "staging"))

	w.Gates(map[string]string{"production": "previous-environment: required"})
	// what was recorded against the evidence never ran, so production does not run it for that
	toProduction := client.Promotion{Release: "2026.11.1"}
	_, err = w.Promote(t.Context(), "harbour", "production", toProduction)
	refused := problem(t, err)
	assert.Contains(t, refused.Detail, "which does not prove that it ran")
	assert.Contains(t, advice.Text(refused.Remedies), "-env production -step 20 -acknowledge")
	assert.Contains(t, advice.Text(refused.Remedies), "promote up to step 10 first")
	upTo := client.Promotion{Release: "2026.11.1", Through: "10"}
	require.Equal(t, deploy.Done, w.Ended(must(w.Promote(t.Context(), "harbour", "production", upTo))).Outcome)
	_, err = w.Attest(t.Context(), "harbour", "production",
		client.Attestation{Step: "20", Acknowledge: true, Reason: "its text can never run; step 30 does it"})
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, w.Ended(must(w.Promote(t.Context(), "harbour", "production", toProduction))).Outcome)
}

func TestASealedWayBackWhoseTextIsWrongIsFinishedByHand(t *testing.T) {
	w := servicetest.Start(t)
	require.Equal(
		t, deploy.Done,
		sealedIn(
			t, w, "2026.11", "10",
			map[string]string{
				"10-create-berth.sql":      autocommit + "CREATE TABLE public.berth (id int);\nCREATE TABLE public.mole (id int);",
				"10-create-berth.back.sql": "DROP TABLE public.mole;\nDROP TABLE public.birth;",
			},
		),
	)
	require.Equal(
		t, deploy.Failed,
		w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging"))).Outcome,
	)
	wrong := trouble(t, w, "staging")
	require.NotEmpty(t, wrong)
	assert.Contains(
		t, advice.Text(wrong[0].Remedies),
		"if that is gone already, or the text is wrong, finish by hand what is left, and record that: vorrang settle "+
			"-lane harbour -env staging -step 10 -as undone",
	)
	pgtest.Exec(t, w.URLs["staging"], "DROP TABLE public.berth")
	_, err := w.Settle(
		t.Context(), "harbour", "staging",
		client.Settlement{
			Step:   "10",
			As:     ledger.SettledUndone,
			Reason: "dropped by hand: the way back has a typing mistake",
		},
	)
	require.NoError(t, err)
	assert.Empty(t, trouble(t, w, "staging"))
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Release: "2026.11"}))).Outcome,
		"and it can be applied again",
	)
}

func TestAStepThatFailedWhereItIsNoLongerMeantForIsNoTrouble(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"10-create-berth.sql": "SELECT 1 / 0;"})
	require.Equal(t, deploy.Failed, w.Promoted("staging").Outcome)
	require.Len(t, trouble(t, w, "staging"), 1)
	w.Submitted(
		map[string]string{
			"10-create-berth.sql": "/*---\nonly: [development]\n---*/\nSELECT 1 / 1;",
			"20-create-pilot.sql": "CREATE TABLE public.pilot (id int);",
		},
	)
	assert.Empty(t, trouble(t, w, "staging"))
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
}

func TestAnEnvironmentThatCannotBeReachedHoldsNoRebuildForEver(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"10-create-berth.sql": "CREATE TABLE public.berth (id int);"})
	w.Away("production")
	_, err := w.Rebuild(t.Context(), "harbour", "development", "development")
	refused := problem(t, err)
	assert.Contains(
		t, refused.Detail,
		"whether harbour/production, which is not disposable, has another database could not be seen",
	)
	assert.Contains(t, advice.Text(refused.Remedies), "vorrang adopt -lane harbour -env development")
	found := must(w.Adoption(t.Context(), "harbour", "development"))
	_, err = w.Adopt(t.Context(), "harbour", "development", found.Finding, "it is development's own")
	require.NoError(t, err)
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Rebuild(t.Context(), "harbour", "development", "development"))).Outcome,
	)
	assert.Empty(t, trouble(t, w, "development"))
}

// A ledger that was lost while the tables are there: it was known, so it is
// adopted, and then baselined like any database without a history.
func TestALostLedgerIsBegunAgain(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"10-create-berth.sql": "CREATE TABLE public.berth (id int);",
			"20-create-pilot.sql": "CREATE TABLE public.pilot (id int);",
		},
	)
	w.Promoted("staging")
	pgtest.Exec(t, w.URLs["staging"], "DROP SCHEMA vorrang CASCADE")

	wrong := trouble(t, w, "staging")
	require.NotEmpty(t, wrong)
	assert.Equal(t, "vorrang adopt -lane harbour -env staging", lastOf(wrong[0].Remedies))
	found := must(w.Adoption(t.Context(), "harbour", "staging"))
	must(w.Adopt(t.Context(), "harbour", "staging", found.Finding, "somebody dropped it"))

	wrong = trouble(t, w, "staging")
	require.NotEmpty(t, wrong)
	assert.Contains(t, advice.Text(wrong[0].Remedies), "vorrang baseline -lane harbour -env staging -at N")
	_, err := w.Baseline(t.Context(), "harbour", "staging", "10", true)
	require.ErrorContains(t, err, "20")
	must(w.Baseline(t.Context(), "harbour", "staging", "20", true))
	assert.Empty(t, trouble(t, w, "staging"))
}

// A step that a release has sealed keeps its number: nobody is told to give it
// another.
func TestALateStepThatIsSealedKeepsItsNumber(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"10-create-berth.sql": "CREATE TABLE public.berth (id int);",
			"20-create-pilot.sql": "CREATE TABLE public.pilot (id int);",
		},
	)
	cut(t, w, "2026.11", "10")
	pgtest.Exec(t, w.URLs["staging"], "CREATE TABLE public.pilot (id int)")
	must(w.Attest(t.Context(), "harbour", "staging", client.Attestation{Step: "20", Reason: "by hand, at night"}))
	wrong := trouble(t, w, "staging")
	require.Len(t, wrong, 1)
	assert.Contains(t, advice.Text(wrong[0].Remedies), "step 10 is sealed in release 2026.11 and keeps its number")
	must(
		w.As("p.holm", "keeper").
			Waive(t.Context(), "harbour", "staging", "order", "2026.11", "its place does not matter"),
	)
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Release: "2026.11"}))).Outcome,
	)
	assert.Empty(t, trouble(t, w, "staging"))

	w.Submitted(
		map[string]string{
			"30-create-tide.sql": "CREATE TABLE public.tide (id int);",
			"40-create-due.sql":  "CREATE TABLE public.due (id int);",
		},
	)
	pgtest.Exec(t, w.URLs["staging"], "CREATE TABLE public.due (id int)")
	w.Promoted("development")
	must(w.Attest(t.Context(), "harbour", "staging", client.Attestation{Step: "40", Reason: "by hand"}))
	assert.Contains(
		t,
		advice.Text(trouble(t, w, "staging")[0].Remedies),
		"step 30 went to development and keeps its number",
	)
}

// A step that fails because what an earlier one made is gone is not told to fix "the
// cause": the cause is named, with what brings it back.
func TestWhatIsGoneBeneathAFailedStepIsNamed(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-berth.sql": "CREATE TABLE berth (id int);\nCREATE VIEW berths AS SELECT * FROM berth;",
			"2-tide.sql":  "CREATE TABLE tide (id int);",
		},
	)
	for _, environment := range []string{"development", "staging"} {
		w.Promoted(environment)
		pgtest.Exec(t, w.URLs[environment], "DROP TABLE berth CASCADE")
	}
	w.Submitted(map[string]string{"3-depth.sql": "ALTER TABLE berth ADD COLUMN depth_m int;"})
	for environment, next := range map[string]string{
		"development": "what step 1 (berth) made is gone: table berth is not there, view berths is not there; as " +
			"development is disposable, build it again: vorrang rebuild -lane harbour -env development -confirm development",
		"staging": "what step 1 (berth) made is gone: table berth is not there, view berths is not there; if the step " +
			"that failed needs it, make it again by hand as that step did, then promote again: vorrang promote -lane harbour " +
			"-to staging",
	} {
		assert.Equal(t, deploy.Failed, w.Promoted(environment).Outcome)
		trouble := must(w.Status(t.Context(), "harbour", environment, "none")).Trouble
		require.NotEmpty(t, trouble)
		assert.Equal(t, next, advice.Text(trouble[0].Remedies))
	}
}

// lastOf is the last command that is advised.
func lastOf(remedies []remedy.Remedy) string {
	last := remedies[len(remedies)-1]
	return advice.Command(last.Act, last.Arguments)
}
