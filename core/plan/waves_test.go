package plan_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

func TestWavesBeginWithACanary(t *testing.T) {
	gauges := []string{"a", "b", "c", "d", "e"}
	assert.Equal(t, [][]string{{"a"}, {"b", "c"}, {"d", "e"}}, plan.Waves(gauges, 1, 2))
	assert.Equal(t, [][]string{{"a", "b"}, {"c", "d", "e"}}, plan.Waves(gauges, 2, 0))
	assert.Equal(t, [][]string{gauges}, plan.Waves(gauges, 0, 0))
	assert.Equal(t, [][]string{gauges}, plan.Waves(gauges, 9, 3))
	assert.Empty(t, plan.Waves(nil, 1, 1))
}

// TestNoWaveBeginsBeforeTheOneBeforeIsOver, whatever becomes of the targets, and in whatever order:
// never more at once than allowed, nothing past the tolerated exceptions, no second try.
func TestNoWaveBeginsBeforeTheOneBeforeIsOver(t *testing.T) {
	ends := []plan.Stand{plan.Reached, plan.Reached, plan.Reached, plan.Failed, plan.BackedOut, plan.Held, plan.Away}
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(seed, 1))
		var targets []string
		for i := range random.IntN(20) {
			targets = append(targets, fmt.Sprint("gauge-", i))
		}
		canary := random.IntN(3)
		f := plan.Fleet{
			Waves: plan.Waves(targets, canary, random.IntN(4)), Canary: canary > 0, AtOnce: 1 + random.IntN(4),
			Tolerate: random.IntN(4), Before: random.IntN(2), Stands: map[string]plan.Stand{},
		}
		waveOf := map[string]int{}
		for i, wave := range f.Waves {
			for _, target := range wave {
				waveOf[target] = i
			}
		}
		var running []string
		tried, exceptions := 0, f.Before
		for {
			f.Paused = random.IntN(5) == 0
			begin, over := f.Next()
			assert.False(t, over && len(running) > 0)
			if over {
				break
			}
			if f.Paused {
				assert.Empty(t, begin)
			}
			for _, target := range begin {
				assert.LessOrEqual(t, exceptions, f.Tolerate)
				for other, stand := range f.Stands {
					assert.False(t, stand == plan.Underway && waveOf[other] != waveOf[target], "two waves at once")
				}
				assert.NotContains(t, f.Stands, target, "a second try")
				f.Stands[target] = plan.Underway
				running = append(running, target)
				tried++
			}
			assert.LessOrEqual(t, len(running), f.AtOnce)
			if len(running) > 0 {
				i := random.IntN(len(running))
				end := ends[random.IntN(len(ends))]
				if f.Stands[running[i]] = end; end.Exception() {
					exceptions++
				}
				running = append(running[:i], running[i+1:]...)
			}
		}
		assert.Equal(t, tried < len(targets), f.Stopped() != "", "%d of %d tried", tried, len(targets))
	}
}

func TestACanaryIsNotTolerated(t *testing.T) {
	f := plan.Fleet{
		Waves: [][]string{{"a"}, {"b", "c"}}, Canary: true, AtOnce: 4, Tolerate: 5,
		Stands: map[string]plan.Stand{"a": plan.Failed},
	}
	begin, over := f.Next()
	assert.Empty(t, begin)
	assert.True(t, over)
	assert.Contains(t, f.Stopped(), "canary")
	f.Canary = false
	begin, _ = f.Next()
	assert.Equal(t, []string{"b", "c"}, begin)
}

func TestNothingBeginsWhenItIsToEnd(t *testing.T) {
	f := plan.Fleet{Waves: [][]string{{"a", "b"}}, AtOnce: 1, Ending: true, Stands: map[string]plan.Stand{"a": plan.Underway}}
	begin, over := f.Next()
	assert.Empty(t, begin)
	assert.False(t, over)
	f.Stands["a"] = plan.Reached
	_, over = f.Next()
	assert.True(t, over)
	assert.Empty(t, f.Stopped())
}

// TestWhatAStepIsMeantFor is said of the environment; each target of its fleet is meant.
func TestWhatAStepIsMeantFor(t *testing.T) {
	catalogue := []plan.Step{{Number: "1", Options: step.Options{Only: []string{"production"}}}}
	for environment, waits := range map[string]int{"production": 1, "production.g1": 1, "staging.production": 0, "staging": 0} {
		view := plan.Look(environment, catalogue, ledger.Fold(nil))
		assert.Len(t, view.Pending(), waits, environment)
		assert.Len(t, plan.Rebuild(view).Actions, waits, environment)
	}
}
