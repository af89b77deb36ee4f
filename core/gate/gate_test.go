package gate

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/advice"
)

func standing(number step.Number, status ledger.Status, flags ...plan.Flag) plan.Standing {
	return plan.Standing{
		Step:  plan.Step{Number: number, Slug: "create-berth"},
		State: ledger.StepState{Number: number, Status: status, Checksum: "0123456789abcdef"},
		Flags: flags,
	}
}

func facts(standings ...plan.Standing) Facts {
	return Facts{Lane: "harbour", View: plan.View{Environment: "staging", Steps: standings}, Entries: len(standings)}
}

func TestEachFactTurnsOneCheck(t *testing.T) {
	doubt := standing("5", ledger.StatusInDoubt)
	doubt.State = doubt.State.WithProgress(ledger.Detail{Statement: 2, Of: 3})
	half := standing("6", ledger.StatusFailed)
	half.State = half.State.WithProgress(ledger.Detail{Direction: ledger.Back, Mode: step.Autocommit, Statement: 2, Of: 2})
	away := facts(half)
	away.Away = []step.Number{"6"}
	running := facts()
	running.Running = &Running{ID: "12", Actor: "pilot", Since: time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)}
	existing := facts()
	existing.Existing = engine.Existing{Tables: 7, Others: 1}
	broken := facts()
	broken.Chain = errors.New("the ledger's chain is broken at entry 3")
	decided := facts(doubt)
	decided.Doubts = []Doubt{{"5", evidence.TookEffect, "its check holds"}}
	undecided := facts(doubt)
	undecided.Doubts = []Doubt{{"5", evidence.Unclear, "the step has no check"}}
	batches := standing("5", ledger.StatusInDoubt)
	batches.State = batches.State.WithProgress(ledger.Detail{Mode: step.Batches, Statement: 1, Of: 1})
	underWay := facts(doubt)
	underWay.View.Steps[0].State.Deployment, underWay.Running = "12", running.Running
	sealed := facts(standing("2", ledger.StatusPending, plan.Late))
	sealed.Bound = map[step.Number]Bound{"2": {Release: "2026.11", Went: "development"}}
	went := facts(standing("2", ledger.StatusPending, plan.Late))
	went.Bound = map[step.Number]Bound{"2": {Went: "development"}}
	there := sealed
	there.There = []step.Number{"2"}
	resealed := facts(standing("2", ledger.StatusApplied, plan.Edited))
	resealed.Bound = map[step.Number]Bound{"2": {Release: "2026.11"}}
	lost := broken
	lost.Entries, lost.Existing = 0, engine.Existing{Tables: 7}
	cases := map[string]struct {
		facts    Facts
		holds    []ID
		back     []ID
		evidence string
		turn     string
	}{
		"nothing is wrong": {facts(standing("1", ledger.StatusApplied)), nil, nil, "", ""},
		"an existing one": {
			existing,
			[]ID{KnownDatabase},
			[]ID{KnownDatabase},
			"it has 7 tables and 1 other object and no history",
			"vorrang baseline -lane harbour -env staging -at N",
		},
		"a broken chain": {
			broken,
			[]ID{LedgerIntact},
			[]ID{LedgerIntact},
			"broken at entry 3", "restored the database",
		},
		"an edited step": {
			facts(standing("2", ledger.StatusApplied, plan.Edited)),
			[]ID{Checksums},
			nil,
			"1 step was edited after being applied here: 2 (create-berth)",
			"0123456789ab",
		},
		"an absent step": {
			facts(standing("2", ledger.StatusApplied, plan.Absent)),
			[]ID{Catalogue},
			nil,
			"is no longer in the catalogue: 2",
			"put the files back",
		},
		"late steps": {
			facts(standing("2", ledger.StatusPending, plan.Late), standing("3", ledger.StatusPending, plan.Late)),
			[]ID{Order},
			nil, "2 pending steps are late", "roll back to below it",
		},
		"a late one, sealed": {
			sealed,
			[]ID{Order},
			nil, "1 pending step is late",
			"waive order -lane harbour -env staging -release 2026.11 -reason \"…\", then vorrang promote -lane harbour -to " +
				"staging -release 2026.11;",
		},
		"a late one, gone": {
			went,
			[]ID{Order},
			nil, "1 pending step is late",
			"step 2 went to development and keeps its number",
		},
		"a late one, there": {
			there,
			[]ID{Order},
			nil, "1 pending step is late",
			"something of it is there already; if it was run here by hand: vorrang attest -lane harbour -env staging -step 2",
		},
		"a sealed edit": {
			resealed,
			[]ID{Checksums},
			nil, "1 step was edited",
			"sealed in release 2026.11 and stays; if it is right here as it stands: vorrang amend",
		},
		"a lost ledger": {lost, []ID{LedgerIntact}, []ID{LedgerIntact}, "", "vorrang adopt"},
		"a step in doubt": {
			facts(doubt),
			[]ID{NothingInDoubt},
			[]ID{NothingInDoubt},
			"its statement 2 of 3 began at",
			"vorrang settle -lane harbour -env staging -step 5",
		},
		"a doubt decided": {decided, nil, nil, "", ""},
		"a doubt undecided": {
			undecided,
			[]ID{NothingInDoubt},
			[]ID{NothingInDoubt},
			"how it ended; the step has no check",
			"vorrang settle",
		},
		"batches stopped":  {facts(batches), nil, nil, "", ""},
		"a step under way": {underWay, []ID{Quiet}, []ID{Quiet}, "deployment 12", "wait"},
		"half a way back": {
			facts(half),
			[]ID{NothingInDoubt},
			nil,
			"the way back of step 6 stopped at statement 2 of 2",
			"vorrang rollback",
		},
		"half a way, gone": {
			away,
			[]ID{NothingInDoubt},
			nil,
			"the way back of step 6 stopped at statement 2 of 2",
			"what it stumbled over is not there; if that is gone already, or the text is wrong, finish by hand what is left, " +
				"and record that: vorrang settle -lane harbour -env staging -step 6 -as undone",
		},
		"somebody deploys": {
			running,
			[]ID{Quiet},
			[]ID{Quiet},
			"deployment 12, started by pilot, has been running here since 2026-11-23 06:00:00 UTC",
			"wait",
		},
		"everything at once": {
			func() Facts { f := broken; f.Running = running.Running; return f }(),
			[]ID{LedgerIntact, Quiet},
			[]ID{LedgerIntact, Quiet},
			"", "",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			forward := Forward(c.facts)
			assert.Equal(t, c.holds, ids(forward.Holds()))
			assert.Equal(t, c.back, ids(Back(c.facts, nil).Holds()))
			assert.Len(t, forward.Checks, 20, "every check says something, also when it passes")
			for _, check := range forward.Checks {
				assert.NotEmpty(t, check.Evidence, check.ID)
				assert.Equal(
					t, check.Verdict == Hold, len(check.Remedies) > 0,
					"%s: what holds says what would turn it",
					check.ID,
				)
			}
			if c.evidence != "" {
				assert.Contains(t, forward.Holds()[0].Evidence, c.evidence)
				assert.Contains(t, advice.Text(forward.Holds()[0].Remedies), c.turn)
			}
			assert.Equal(t, map[bool]string{true: "held", false: "clear"}[len(c.holds) > 0], forward.Word())
		})
	}
}

func TestADecidedDoubtIsTold(t *testing.T) {
	doubt := facts(standing("5", ledger.StatusInDoubt))
	doubt.Doubts = []Doubt{{"5", evidence.NoEffect, "its check does not hold"}}
	assert.Equal(
		t,
		"step 5 was in doubt, and is not-applied: its check does not hold; the next deployment records that",
		Forward(doubt).Checks[5].Evidence,
	)
}

func ids(checks []Check) []ID {
	var list []ID
	for _, c := range checks {
		list = append(list, c.ID)
	}
	return list
}
