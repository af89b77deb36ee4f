package gate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
)

func answer(place string, checks ...gate.Check) gate.Answer {
	return gate.Answer{Place: place, Result: gate.Result{Checks: checks, Notes: []string{"the gate of " + place + " was changed"}}}
}

func check(id gate.ID, verdict gate.Verdict, format string, args ...any) gate.Check {
	return gate.Check{ID: id, Verdict: verdict, Evidence: fmt.Sprintf(format, args...)}
}

func TestTheGateOfAFleetHoldsForAnyTarget(t *testing.T) {
	var list []gate.Answer
	for i := range 8 {
		place := fmt.Sprintf("production.g%d", i+1)
		checksums := check(gate.Checksums, gate.Pass, "no step was edited")
		if i > 1 {
			checksums = check(gate.Checksums, gate.Hold, "step 1 was edited on %s", place)
		}
		list = append(list, answer(place, checksums, check(gate.NotFrozen, gate.Hold, "%s is frozen", place),
			check(gate.Order, gate.Pass, "all come after step %d", i), check(gate.Soak, gate.NotAsked, "")))
	}
	merged := gate.Merge("production", list, nil)
	assert.Equal(t, "g3, g4, g5, g6, g7, 1 more: step 1 was edited on production", merged.Find(gate.Checksums).Evidence)
	one := gate.Merge("production", append(list[:2:2], list[2]), nil).Find(gate.Checksums).Evidence
	assert.Equal(t, "g3: step 1 was edited on production.g3", one, "what is said of one alone names it")
	assert.Equal(t, "production is frozen", merged.Find(gate.NotFrozen).Evidence, "the same for all, and said once")
	assert.Equal(t, gate.Pass, merged.Find(gate.Order).Verdict)
	assert.Equal(t, gate.NotAsked, merged.Find(gate.Soak).Verdict)
	assert.Equal(t, []string{"the gate of production was changed"}, merged.Notes)
	assert.True(t, merged.Held())
	assert.Equal(t, "8 targets could be read", merged.Find(gate.Reachable).Evidence)
}

// TestWhatNobodyAskedIsNotClear: the gate of a fleet is held while targets are away.
func TestWhatNobodyAskedIsNotClear(t *testing.T) {
	away := []gate.Away{
		{Place: "production.g1", Why: "nobody listens at 127.0.0.1:5433"},
		{Place: "production.g2", Why: "nobody listens at 127.0.0.1:5433"},
	}
	none := gate.Merge("production", nil, away)
	assert.True(t, none.Held())
	assert.Equal(t, "2 of 2 targets could not be read (g1, g2): nobody listens at 127.0.0.1:5433",
		none.Find(gate.Reachable).Evidence)
	assert.NotEmpty(t, none.Find(gate.Reachable).Remedies)
	assert.False(t, gate.Waivable(gate.Reachable))

	away[1].Why = "the password is wrong"
	some := gate.Merge("production", []gate.Answer{answer("production.g3", check(gate.Order, gate.Pass, "in order"))}, away)
	assert.True(t, some.Held())
	assert.Equal(t, "2 of 3 targets could not be read (g1, g2): g1: nobody listens at 127.0.0.1:5433",
		some.Find(gate.Reachable).Evidence)
}

// TestEveryTargetBefore has to have what is to be promoted.
func TestEveryTargetBefore(t *testing.T) {
	facts := gate.Facts{
		Asks: lane.Gate{Previous: true}, View: plan.View{Environment: "production"},
		PreviousFleet: []gate.Previous{{Name: "staging.g1"}, {Name: "staging.g2"}, {Name: "staging.g3"}},
	}
	facts.Previous = &facts.PreviousFleet[0]
	found := gate.Forward(facts).Find(gate.PreviousEnvironment)
	assert.Equal(t, gate.Pass, found.Verdict)
	assert.Contains(t, found.Evidence, "every target of staging")
	facts.PreviousFleet[1].Unreached, facts.PreviousFleet[2].Unreached = "nobody listens", "nobody listens"
	found = gate.Forward(facts).Find(gate.PreviousEnvironment)
	assert.Equal(t, gate.Hold, found.Verdict)
	assert.Equal(t, "staging.g2 could not be read: nobody listens; and so for 1 target more of staging: g3", found.Evidence)
}
