package gate

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/advice"
)

var noon = time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC) // a Tuesday

// pendingStep waits in staging, where step 1 is applied.
func pendingStep(asks lane.Gate) Facts {
	f := facts(standing("1", ledger.StatusApplied), standing("2", ledger.StatusPending))
	f.View.Steps[1].Step.Forward.Checksum = "0123456789abcdef"
	f.Asks, f.Now = asks, noon
	return f
}

// previously says how step 2 stands in the environment before, and since when.
func previously(status ledger.Status, checksum step.Checksum, entries ...ledger.Entry) *Previous {
	there := standing("2", status)
	there.State.Checksum = checksum
	return &Previous{
		Name:    "development",
		View:    plan.View{Environment: "development", Steps: []plan.Standing{there}},
		Entries: entries,
	}
}

// contracts is step 2 that contracts, with step 1, that expands, as it stands.
func contracts(expanded ledger.Status, at time.Time) Facts {
	f := pendingStep(lane.Gate{Soak: time.Hour})
	f.View.Steps[0] = standing("1", expanded)
	f.View.Steps[0].State.At = at
	f.View.Steps[0].Step.Options.Phase = step.Expand
	f.View.Steps[1].Step.Options.Phase = step.Contract
	return f
}

func TestEachRequirementHoldsAndTurns(t *testing.T) {
	applied := ledger.Entry{Action: ledger.Applied, Step: "2", At: noon.Add(-2 * time.Hour)}
	failed := ledger.Entry{Action: ledger.Failed, Step: "2", At: noon.Add(-30 * time.Minute)}
	with := func(f Facts, change func(*Facts)) Facts {
		change(&f)
		return f
	}
	added := []schema.Difference{{What: schema.Added, Kind: schema.Column, Name: "berth.hotfix"}}
	for name, c := range map[string]struct {
		facts    Facts
		check    ID
		verdict  Verdict
		evidence string
		advice   string
	}{
		"loose steps, where releases are asked": {pendingStep(lane.Gate{Release: true}), SealedRelease, Hold,
			"staging takes sealed releases only, and 1 step is not promoted as one", "vorrang cut -lane harbour NAME"},
		"a release": {with(pendingStep(lane.Gate{Release: true}),
			func(f *Facts) { f.Release = "2026.11" }), SealedRelease, Pass, "those of release 2026.11", ""},
		"nothing to promote": {with(facts(standing("1", ledger.StatusApplied)),
			func(f *Facts) { f.Asks.Release = true }), SealedRelease, Pass, "nothing is to be applied", ""},
		"the first environment": {pendingStep(lane.Gate{Previous: true}), PreviousEnvironment, Pass,
			"the first environment", ""},
		"not applied before": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = previously(ledger.StatusPending, "") }), PreviousEnvironment, Hold,
			"1 step is not applied in development", "promote there first: vorrang promote -lane harbour -to development"},
		"applied before": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = previously(ledger.StatusApplied, "0123456789abcdef") }), PreviousEnvironment, Pass,
			"is applied in development", ""},
		"another text before": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = previously(ledger.StatusApplied, "other") }), PreviousEnvironment, Hold,
			"it has another text of", "vorrang promote"},
		"the one before is away": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = &Previous{Name: "development", Unreached: "nobody listens"} }), PreviousEnvironment,
			Hold, "could not be read: nobody listens", "vorrang probe -lane harbour -env development"},
		"the same history": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = previously(ledger.StatusApplied, "x") }), SameHistory, Pass, "in the same order", ""},
		"another history": {with(pendingStep(lane.Gate{Previous: true}),
			func(f *Facts) { f.Previous = &Previous{Differences: []string{"step 1 has another text"}} }), SameHistory, Hold,
			"step 1 has another text", "vorrang verify -lane harbour -env staging"},
		"not soaked, not there": {with(pendingStep(lane.Gate{Soak: time.Hour}),
			func(f *Facts) { f.Previous = previously(ledger.StatusPending, "") }), Soak, Hold, "have not begun",
			"promote there first, and wait"},
		"a contract with its expand": {contracts(ledger.StatusPending, time.Time{}), Soak, Hold,
			"step 2 contracts what step 1 expands, and step 1 is not in staging yet",
			"promote no further than step 1 first, and wait 1h: vorrang promote -lane harbour -to staging"},
		"a contract too early": {contracts(ledger.StatusApplied, noon.Add(-20*time.Minute)), Soak, Hold,
			"step 2 contracts what step 1 expanded in staging since 2026-11-03 11:40:00 UTC, for 20m; 1h are asked",
			"wait until 2026-11-03 12:40:00 UTC"},
		"a contract in time": {contracts(ledger.StatusApplied, noon.Add(-2*time.Hour)), Soak, Pass,
			"this is the first environment", ""},
		"soaked": {with(pendingStep(lane.Gate{Soak: time.Hour}),
			func(f *Facts) { f.Previous = previously(ledger.StatusApplied, "0123456789abcdef", applied) }), Soak, Pass,
			"nothing changed and nothing failed for 2h", ""},
		"a failure begins it again": {with(pendingStep(lane.Gate{Soak: time.Hour}),
			func(f *Facts) { f.Previous = previously(ledger.StatusApplied, "0123456789abcdef", applied, failed) }), Soak, Hold,
			"step 2 failed since 2026-11-03 11:30:00 UTC", "wait until 2026-11-03 12:30:00 UTC"},
		"no way back": {pendingStep(lane.Gate{WayBack: true}), WayBack, Hold,
			"1 step is without a way back: 2", "write their .back.sql files, and submit"},
		"a way back": {with(pendingStep(lane.Gate{WayBack: true}),
			func(f *Facts) { f.View.Steps[1].Step.Back = &plan.Text{} }), WayBack, Pass, "has a way back", ""},
		"nobody looked for drift": {pendingStep(lane.Gate{Drift: true}), Drift, Hold,
			"is not known: nobody has looked", "vorrang accept -lane harbour -env staging"},
		"drift that is not known": {with(pendingStep(lane.Gate{Drift: true}),
			func(f *Facts) { f.Drifted = &Drifted{Unknown: "no schema was kept"} }), Drift, Hold, "no schema was kept",
			"vorrang accept"},
		"drift": {with(pendingStep(lane.Gate{Drift: true}),
			func(f *Facts) { f.Drifted = &Drifted{From: "deployment 7", Since: noon, Differences: added} }), Drift, Hold,
			"1 object differs from what deployment 7 left at 2026-11-03 12:00:00 UTC: added column berth.hotfix",
			"vorrang drift -lane harbour -env staging"},
		"no drift": {with(pendingStep(lane.Gate{Drift: true}),
			func(f *Facts) { f.Drifted = &Drifted{From: "deployment 7", Since: noon} }), Drift, Pass,
			"as deployment 7 left it", ""},
		"nothing drifts from nothing": {with(pendingStep(lane.Gate{Drift: true}),
			func(f *Facts) { f.Entries = 0 }), Drift, Pass, "nothing was deployed here yet", ""},
		"frozen": {with(pendingStep(lane.Gate{}), func(f *Facts) {
			f.Freezes = []Freeze{{
				Environment: "staging", From: noon.Add(-time.Hour), Until: noon.Add(time.Hour), By: "k.brandt", Reason: "the regatta",
			}}
		}), NotFrozen, Hold, "staging is frozen until 2026-11-03 13:00:00 UTC, by k.brandt: the regatta",
			"vorrang thaw -lane harbour -env staging"},
		"a freeze to come": {with(pendingStep(lane.Gate{}),
			func(f *Facts) { f.Freezes = []Freeze{{From: noon.Add(time.Hour), Until: noon.Add(2 * time.Hour)}} }), NotFrozen,
			Pass, "nothing is frozen before 2026-11-03 13:00:00 UTC", ""},
		"outside the window": {pendingStep(lane.Gate{Window: &lane.Window{Days: []string{"tue"}, From: "20:00",
			To: "22:00", Zone: "UTC"}}), InWindow, Hold, "outside the window", "wait until 2026-11-03 20:00:00 UTC"},
		"within the window": {pendingStep(lane.Gate{Window: &lane.Window{Days: []string{"tue"}, From: "11:00",
			To: "13:00", Zone: "UTC"}}), InWindow, Pass, "within the window", ""},
		"no backup": {pendingStep(lane.Gate{Backup: time.Hour}), FreshBackup, Hold,
			"no backup of this target was reported yet", "vorrang backup -lane harbour -env staging"},
		"an old backup": {with(pendingStep(lane.Gate{Backup: time.Hour}),
			func(f *Facts) { f.Backup = &Backup{Label: "nightly", TakenAt: noon.Add(-3 * time.Hour)} }), FreshBackup, Hold,
			"3h ago; it may be 1h old", "vorrang backup"},
		"a fresh backup": {with(pendingStep(lane.Gate{Backup: time.Hour}),
			func(f *Facts) { f.Backup = &Backup{Label: "nightly", TakenAt: noon.Add(-time.Minute)} }), FreshBackup, Pass,
			"the newest backup, nightly", ""},
		"an altered ledger": {with(pendingStep(lane.Gate{}), func(f *Facts) { f.Altered = "a trigger is gone" }),
			LedgerIntact, Hold, "the ledger's own table is not as Vorrang made it: a trigger is gone",
			"vorrang ledger -lane harbour -env staging"},
		"an owner's altered ledger": {with(pendingStep(lane.Gate{}),
			func(f *Facts) { f.Altered, f.LedgerRole = "a trigger is gone", "harbour_ledger" }), LedgerIntact, Hold,
			"as its owner harbour_ledger is to make it", "vorrang ledger -lane harbour -env staging -setup"},
		"altered and broken": {with(pendingStep(lane.Gate{}),
			func(f *Facts) { f.Altered, f.Chain = "a trigger is gone", errors.New("the chain is broken") }), LedgerIntact,
			Hold, "the chain is broken; the ledger's own table", "vorrang adopt"},
		"another's database": {with(pendingStep(lane.Gate{}),
			func(f *Facts) { f.View.State.Belongs = ledger.Owner{Lane: "dues", Environment: "production"} }), KnownDatabase,
			Hold, "belongs to dues/production", "vorrang adopt -lane harbour -env staging"},
	} {
		t.Run(name, func(t *testing.T) {
			check := Forward(c.facts).Find(c.check)
			assert.Equal(t, c.verdict, check.Verdict, check.Evidence)
			assert.Contains(t, check.Evidence, c.evidence)
			assert.Contains(t, advice.Text(check.Remedies), c.advice)
			assert.Equal(t, c.verdict == Hold, len(check.Remedies) > 0, "what holds says what would turn it")
			for _, r := range check.Remedies {
				known(t, r)
			}
		})
	}
}

// known holds that a remedy is one that somebody can word.
func known(t *testing.T, r remedy.Remedy) {
	t.Helper()
	assert.NotEmpty(t, r.Reason+string(r.Act))
	if r.Act != "" {
		assert.Contains(t, remedy.Moves, r.Act)
		assert.Equal(t, "harbour", r.Arguments.Lane, "%+v", r)
	}
	if r.Then != nil {
		known(t, *r.Then)
	}
}

func TestAHalfDoneStepSaysTheWaysOut(t *testing.T) {
	half := standing("2", ledger.StatusFailed)
	half.State = half.State.WithProgress(ledger.Detail{Mode: step.Autocommit, Statement: 3, Of: 4})
	f := facts(half)
	assert.Equal(t, Pass, Forward(f).Find(NothingInDoubt).Verdict, "it goes on where it stopped")
	assert.False(t, f.Stuck("2"))
	f.Half = []Half{{Step: "2", Stuck: "the table is gone"}}
	assert.True(t, f.Stuck("2"))
	assert.False(t, f.Stuck("3"))
	check := Forward(f).Find(NothingInDoubt)
	assert.Equal(t, Hold, check.Verdict)
	assert.Contains(t, check.Evidence, "stopped at statement 3 of 4, and cannot go on there: the table is gone")
	assert.Len(t, check.Remedies, 3)
	f.Half[0].Undo = true
	check = Forward(f).Find(NothingInDoubt)
	assert.Len(t, check.Remedies, 4)
	assert.Equal(t, remedy.Rollback, check.Remedies[0].Act)
	assert.True(t, Forward(f).InDoubt())
}

func TestARebuildAsksLittle(t *testing.T) {
	edited := standing("1", ledger.StatusApplied, plan.Edited)
	f := facts(edited)
	f.Existing, f.Altered = engine.Existing{Tables: 7}, "a trigger is gone"
	assert.False(t, Rebuild(f).Held(), "whatever its steps are goes with it: %v", Rebuild(f).Holds())
	f.Asks.Release = true
	assert.Equal(t, []ID{SealedRelease}, ids(Rebuild(f).Holds()))
	f.Asks.Release, f.Running = false, &Running{ID: "7", Actor: "pilot"}
	assert.Equal(t, []ID{Quiet}, ids(Rebuild(f).Holds()))
	assert.True(t, Expected(SealedRelease))
	assert.False(t, Expected(Checksums))
}

func TestWaysBackAreThoseThatWereApprovedAndSigned(t *testing.T) {
	backward := plan.Step{
		Number:  "2",
		Slug:    "create-berth",
		Forward: plan.Text{Checksum: "f"},
		Back:    &plan.Text{Checksum: "b"},
	}
	there := plan.Standing{
		Step:  backward,
		State: ledger.StepState{Number: "2", Status: ledger.StatusApplied, Checksum: "f"},
	}
	f := Facts{
		Lane:  "harbour",
		View:  plan.View{Environment: "production", Steps: []plan.Standing{there}},
		Actor: "l.berg",
		Asks:  lane.Gate{Approvals: 1, NotAuthors: true},
	}
	f.Asks.Signers = []release.Key{{Line: "ssh-ed25519 AAAA", Holder: "p.holm"}}
	actions := []plan.Action{{Direction: ledger.Back, Step: backward}}
	approvals, signature := func() Check { return Back(f, actions).Find(Approvals) },
		func() Check { return Back(f, actions).Find(Signature) }

	assert.Equal(t, Hold, approvals().Verdict)
	assert.Contains(t, approvals().Evidence, "step 2 (0 of 1)")
	assert.Contains(t, advice.Text(approvals().Remedies), "vorrang approve -lane harbour -env production -ways-back")
	list, own := f.WaysBack("p.holm")
	assert.Equal(t, []Planned{PlannedOf(backward)}, list)
	assert.Empty(t, own)
	f.Authors = map[step.Number][]string{"2": {"a.lund"}}
	list, own = f.WaysBack("a.lund")
	assert.Empty(t, list)
	assert.Equal(t, []step.Number{"2"}, own, "who wrote it does not count")

	f.Approved = []Approval{{By: "l.berg", Steps: []Planned{PlannedOf(backward)}}}
	assert.Equal(t, Hold, approvals().Verdict, "who asks does not approve")
	f.Approved[0].By, f.Unfit = "p.holm", map[string]string{"p.holm": "disabled"}
	assert.Equal(t, Hold, approvals().Verdict, "who may not any more does not count")
	f.Unfit = nil
	assert.Equal(t, Pass, approvals().Verdict)
	f.Approved[0].Steps[0].Back = "another"
	assert.Equal(t, Hold, approvals().Verdict, "another text was approved")

	assert.Equal(t, Hold, signature().Verdict)
	assert.Contains(
		t, advice.Text(signature().Remedies),
		"vorrang cut -lane harbour NAME, then vorrang sign -lane harbour NAME -key FILE",
	)
	f.Vouched = []Planned{PlannedOf(backward)}
	assert.Equal(t, Pass, signature().Verdict)
	assert.Equal(t, "steps 1, 2", stepsNamed([]string{"1", "2"}))
}

func TestWhatAStepInDoubtShowsDecides(t *testing.T) {
	doubtful := standing("2", ledger.StatusInDoubt)
	doubtful.State, doubtful.State.At = doubtful.State.WithProgress(ledger.Detail{Statement: 1, Of: 1}), noon
	f := facts(doubtful)
	check := Forward(f).Find(NothingInDoubt)
	assert.Equal(t, Hold, check.Verdict)
	assert.Equal(t, remedy.LookAtEvidence, check.Remedies[0].Act)
	f.Doubts = []Doubt{{"2", evidence.NoEffect, "the table is not there"}}
	check = Forward(f).Find(NothingInDoubt)
	assert.Equal(t, Pass, check.Verdict)
	assert.Contains(t, check.Evidence, "is not-applied: the table is not there; the next deployment records that")
}
