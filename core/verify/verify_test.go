package verify

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/advice"
)

var morning = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

// environment has applied some steps, in order; "3=x" is step 3 with the checksum
// x, and "3!" is step 3 run by hand.
func environment(name string, catalogue []plan.Step, applied ...string) Environment {
	head := ledger.NewHead()
	var entries []ledger.Entry
	for i, text := range applied {
		number, checksum := step.Number(text), step.Checksum("c"+text)
		if len(text) > 2 && text[1] == '=' {
			number, checksum = step.Number(text[:1]), step.Checksum(text[2:])
		}
		action := ledger.Applied
		if by, hand := strings.CutSuffix(text, "!"); hand {
			action, number, checksum = ledger.Attested, step.Number(by), step.Checksum("c"+by)
		}
		e := head.Next(
			ledger.Entry{Action: action, Step: number, Slug: "s", Checksum: checksum},
			morning.Add(time.Duration(i)*time.Hour),
		)
		entries, head = append(entries, e), e.Head()
	}
	return Environment{Name: name, Entries: entries,
		Facts: gate.Facts{View: plan.Look(name, catalogue, ledger.Fold(entries)), Chain: ledger.Verify(entries)}}
}

func catalogue(numbers ...step.Number) []plan.Step {
	var steps []plan.Step
	for _, n := range numbers {
		steps = append(
			steps,
			plan.Step{
				Number:  n,
				Slug:    "s",
				Forward: plan.Text{Checksum: step.Checksum("c" + n)},
				Options: step.DefaultOptions(),
			},
		)
	}
	return steps
}

func whats(deviations []Deviation) []string {
	list := []string{}
	for _, d := range deviations {
		list = append(list, string(d.Kind)+" "+d.Environment+": "+d.What)
	}
	return list
}

func TestEachDeviationIsOneLine(t *testing.T) {
	steps := catalogue("1", "2", "3", "4")
	onlyProduction := catalogue("1", "2", "3", "4")
	onlyProduction[2].Options.Only = []string{"production"}
	broken := environment("staging", steps, "1", "2")
	broken.Entries[1].Actor = "nobody"
	broken.Facts.Chain = ledger.Verify(broken.Entries)
	cases := map[string]struct {
		environments []Environment
		want         []string
	}{
		"all is well": {
			[]Environment{environment("development", steps, "1", "2", "3"), environment("production", steps, "1", "2")},
			[]string{},
		},
		"a broken chain": {
			[]Environment{broken},
			[]string{
				"chain staging: the ledger's chain is broken at entry 2: its content is not what its hash was made of",
			},
		},
		"an edited step": {
			[]Environment{environment("development", steps, "1", "2=old")},
			[]string{
				"checksum development: step 2 (s) was applied with the checksum old, and the catalogue's text has c2",
			},
		},
		"an absent step": {
			[]Environment{environment("development", steps, "1", "5")},
			[]string{
				"absent development: step 5 (s) was applied and is no longer in the catalogue",
				"late development: step 2 (s) is pending, and step 5 is already there",
				"late development: step 3 (s) is pending, and step 5 is already there",
				"late development: step 4 (s) is pending, and step 5 is already there",
			},
		},
		"another order than the numbers": {
			[]Environment{environment("development", steps, "2", "1", "3")},
			[]string{"order development: step 1 (s) was run after step 2"},
		},
		"production is ahead": {
			[]Environment{environment("development", steps, "1"), environment("production", steps, "1", "2")},
			[]string{"history production: step 2 (s) is applied here, and pending in development"},
		},
		"another text than before": {
			[]Environment{environment("development", steps, "1", "2"), environment("production", steps, "1", "2=hot")},
			[]string{
				"checksum production: step 2 (s) was applied with the checksum hot, and the catalogue's text has c2",
				"history production: step 2 (s) was applied here with the checksum hot, and in development with c2",
			},
		},
		"another order than before": {
			[]Environment{environment("development", steps, "2", "1"), environment("production", steps, "1", "2")},
			[]string{
				"order development: step 1 (s) was run after step 2",
				"history production: step 2 (s) was applied here after step 1, and in development before it",
			},
		},
		"done by hand here, some time": {
			[]Environment{
				environment("development", steps, "1", "2", "3"),
				environment("production", steps, "1", "3", "2!"),
			},
			[]string{},
		},
		"done by hand there, some time": {
			[]Environment{
				environment("development", steps, "1", "3", "2!"),
				environment("production", steps, "1", "2", "3"),
			},
			[]string{},
		},
		"a step that is meant for one only": {
			[]Environment{
				environment("development", onlyProduction, "1", "2", "4"),
				environment("production", onlyProduction, "1", "2", "3", "4"),
			},
			[]string{},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			deviations := Lane("harbour", c.environments).Deviations
			if name == "an absent step" {
				assert.ElementsMatch(t, c.want, whats(deviations))
			} else {
				assert.Equal(t, c.want, whats(deviations))
			}
			for _, d := range deviations {
				assert.NotEmpty(t, advice.Text(d.Remedies), "what settles it is said")
				if d.Kind == Order {
					assert.Contains(t, advice.Text(d.Remedies), "vorrang rollback", "%s", d.What)
				}
				if d.Kind != Late {
					assert.NotNil(t, d.Since, "%s", d.What)
				}
			}
		})
	}
}

// TestNothingIsConsistentThatNobodyCompared: what has no history is named, and what could not be held
// against the environment before.
func TestNothingIsConsistentThatNobodyCompared(t *testing.T) {
	steps := catalogue("1", "2")
	existing := environment("production", steps)
	existing.Facts.Existing = engine.Existing{Tables: 7}
	lost := environment("production", steps)
	lost.Facts.Chain = &ledger.ChainError{Reason: "the ledger is gone"}
	unreached := Environment{Name: "staging", Unreached: true}
	ahead := environment("production", steps, "1", "2")
	cases := map[string]struct {
		environments     []Environment
		empty, different []string
		uncompared       []Uncompared
	}{
		"nothing was deployed yet": {
			environments: []Environment{environment("staging", steps, "1"), environment("production", steps)},
			empty:        []string{"production: it has no history yet"},
		},
		"an existing database": {
			environments: []Environment{environment("staging", steps, "1"), existing},
			empty:        []string{"production: it has 7 tables and no history, so Vorrang cannot know what ran here"},
		},
		"a ledger that was lost is no empty one": {
			environments: []Environment{lost},
			different:    []string{"chain production: the ledger's chain is broken at entry 0: the ledger is gone"},
		},
		"the environment before was not reached": {
			environments: []Environment{environment("development", steps, "1"), unreached, ahead},
			uncompared:   []Uncompared{{Environment: "production", Before: "staging"}},
		},
		"one target of the fleet before was reached": {
			environments: []Environment{
				{Name: "staging.g1", Unreached: true}, environment("staging.g2", steps, "1"), ahead,
			},
			different: []string{"history production: step 2 (s) is applied here, and pending in staging.g2"},
		},
		"none of the fleet before was": {
			environments: []Environment{{Name: "staging.g1", Unreached: true}, {Name: "staging.g2", Unreached: true}, ahead},
			uncompared:   []Uncompared{{Environment: "production", Before: "staging"}},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			got := Lane("harbour", c.environments)
			assert.ElementsMatch(t, c.different, whats(got.Deviations))
			assert.ElementsMatch(t, c.uncompared, got.Uncompared)
			var empty []string
			for _, e := range got.Empty {
				empty = append(empty, e.Environment+": "+e.Message)
				assert.Equal(t, strings.Contains(e.Message, "tables"), len(e.Remedies) > 0, "there is something to settle")
			}
			assert.Equal(t, c.empty, empty)
		})
	}
}
