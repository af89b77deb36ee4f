package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

var (
	made     = Object{Kind: Table, Name: "a", Made: true, Statement: 1, Line: 3}
	index    = Object{Kind: Index, Name: "i", Made: true}
	dropped  = Object{Kind: Column, Of: "a", Name: "b", Gone: true}
	altered  = Object{Kind: Table, Name: "a"}
	holds    = Outcome{Line: 1, Holds: true, Got: "(true)"}
	holdsNot = Outcome{Line: 1, Got: "(false)"}
)

func found(observations ...Observation) Evidence { return Evidence{Observations: observations} }

func (e Evidence) with(check ...Outcome) Evidence { e.Check = check; return e }

func TestOnlyWhatSpeaksForItselfIsJudged(t *testing.T) {
	there, missing := Observation{Object: made, There: true}, Observation{Object: made}
	cases := map[string]struct {
		evidence      Evidence
		statement, of int
		verdict       Verdict
		why           string
	}{
		"no check": {found(missing), 1, 1, Unclear, "has no check"},
		"a check that holds after the last statement": {
			found().with(holds), 2, 2, TookEffect,
			"this was its last statement",
		},
		"a check that holds too early": {found(there).with(holds), 1, 2, Unclear, "it cannot tell"},
		"nothing is there": {
			found(missing).with(holdsNot), 1, 2, NoEffect, "and table a is not there",
		},
		"some of it is there": {
			found(there).with(holdsNot), 1, 2, Unclear, "and yet table a is there",
		},
		"one query of several fails": {
			found(missing).with(holds, holdsNot), 2, 2, NoEffect, "does not hold",
		},
		"what was to be dropped is still there": {
			found(Observation{Object: dropped, There: true}).with(holdsNot),
			1, 1, NoEffect,
			"column a.b is still there",
		},
		"what was to be dropped is gone": {
			found(Observation{Object: dropped}).with(holdsNot),
			1, 1, Unclear,
			"and yet column a.b is gone",
		},
		"a change of rows": {
			found().with(holdsNot), 1, 1, Unclear,
			"nothing in the catalogs that could be looked up",
		},
		"a table that was there before": {
			found(Observation{Object: altered, There: true}).with(holdsNot),
			1, 1, Unclear, "nothing in the catalogs",
		},
		"an index whose build did not end": {
			found(Observation{Object: index, There: true, Invalid: true}).with(holdsNot),
			1, 1, Unclear, "index i was left INVALID",
		},
		"an index in the way of a check that may hold": {
			found(Observation{Object: index, There: true, Invalid: true}).with(holds),
			1, 1, Unclear, "has to be dropped first",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			verdict, why := Judge(c.evidence, c.statement, c.of)
			assert.Equal(t, c.verdict, verdict)
			assert.Contains(t, why, c.why)
		})
	}
}

func TestWhatIsWrongIsListed(t *testing.T) {
	cases := map[string]struct {
		evidence Evidence
		wrong    []string
	}{
		"all as it should be": {found(Observation{Object: made, There: true}), []string{}},
		"a missing table": {
			found(Observation{Object: made}),
			[]string{"table a is not there (statement 1, line 3)"},
		},
		"an invalid index": {
			found(Observation{Object: index, There: true, Invalid: true}),
			[]string{"index i is there, but INVALID: its build did not end (statement 0, line 0)"},
		},
		"a check that holds is enough": {found(Observation{Object: made}).with(holds), []string{}},
		"a check that does not hold": {
			found(Observation{Object: made, There: true}).with(holdsNot),
			[]string{"the check in line 1 does not hold: it gave (false)"},
		},
		"nothing that could be seen": {
			Evidence{Unverifiable: []Unverifiable{{1, 2, "UPDATE"}}},
			[]string{
				"the step has no check and creates, alters or drops nothing that could be looked up: UPDATE in line 2",
			},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.wrong, c.evidence.Wrong()) })
	}
	assert.True(t, found(Observation{Object: made, There: true}, Observation{Object: altered}).AllMade())
	assert.False(
		t,
		found(Observation{Object: made, There: true}, Observation{Object: index, There: true, Invalid: true}).AllMade(),
	)
	assert.False(t, found(Observation{Object: altered, There: true}).AllMade(), "it creates nothing")
}
