package plan

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/ledger"
	"vorrang/core/step"
)

// catalogue makes steps; a number with a trailing ! has no way back.
func catalogue(numbers ...string) []Step {
	var steps []Step
	for _, n := range numbers {
		back := &Text{Checksum: "b"}
		if n[len(n)-1] == '!' {
			n, back = n[:len(n)-1], nil
		}
		steps = append(
			steps,
			Step{Number: step.Number(n), Slug: "s", Forward: Text{Checksum: step.Checksum("c" + n)}, Back: back,
				Options: step.DefaultOptions()},
		)
	}
	return steps
}

type row struct {
	action     ledger.Action
	number     step.Number
	checksum   step.Checksum
	deployment string
	detail     ledger.Detail
}

func state(rows ...row) ledger.State {
	head := ledger.NewHead()
	var entries []ledger.Entry
	for _, r := range rows {
		if r.checksum == "" {
			r.checksum = step.Checksum("c" + r.number)
		}
		e := head.Next(
			ledger.Entry{Action: r.action, Step: r.number, Slug: "s", Checksum: r.checksum, Deployment: r.deployment,
				Detail: json.RawMessage(r.detail.JSON())},
			time.Unix(0, 0),
		)
		entries, head = append(entries, e), e.Head()
	}
	return ledger.Fold(entries)
}

func applied(number step.Number) row { return row{action: ledger.Applied, number: number} }

func TestLookPutsFlagsBesideStates(t *testing.T) {
	steps := catalogue("1", "2", "3", "4", "5", "6")
	steps[4].Options.Only = []string{"development"}
	edited := applied("1")
	edited.checksum = "other"
	view := Look(
		"staging", steps,
		state(edited, applied("3"), applied("7"), applied("4"), row{action: ledger.RolledBack, number: "4"}),
	)
	flags := map[step.Number][]Flag{}
	for _, s := range view.Steps {
		flags[s.Step.Number] = s.Flags
	}
	assert.Equal(t, map[step.Number][]Flag{
		"1": {Edited}, "2": {Late}, "3": nil, "4": {Late}, "5": {NotHere}, "6": {Late}, "7": {Absent},
	}, flags)
	assert.Len(t, view.Pending(), 3)

	_, known := view.Find("7")
	assert.True(t, known)
	_, known = view.Find("8")
	assert.False(t, known)
}

func TestAbsentStepsMatterOnlyWhileTheirEffectIsThere(t *testing.T) {
	view := Look("staging", nil, state(applied("1"), row{action: ledger.RolledBack, number: "1"},
		row{action: ledger.Failed, number: "2", detail: ledger.Detail{Statement: 1, Of: 1}},
		row{action: ledger.Begun, number: "3", detail: ledger.Detail{Statement: 1, Of: 2, Mode: step.Autocommit}}))
	require.Len(t, view.Steps, 1)
	assert.Equal(t, step.Number("3"), view.Steps[0].Step.Number)
	assert.Empty(t, view.Pending(), "what is not in the catalogue cannot be run")
}

func TestForwardPlansWhatWaits(t *testing.T) {
	view := Look(
		"staging",
		catalogue("1", "2", "3", "10"),
		state(
			row{action: ledger.Baselined, number: "1"},
			applied("2"),
			row{
				action: ledger.Failed,
				number: "3",
				detail: ledger.Detail{Statement: 2, Of: 3, Mode: step.Autocommit, Done: "sum"},
			},
		),
	)
	p, err := Forward(view, "")
	require.NoError(t, err)
	assert.Equal(t, []step.Number{"3", "10"}, p.Numbers())
	assert.Equal(t, 2, p.Actions[0].Resume, "a step that stopped half-way goes on there")
	assert.Equal(t, "sum", p.Actions[0].Done)

	p, err = Forward(view, "3")
	require.NoError(t, err)
	assert.Equal(t, []step.Number{"3"}, p.Numbers())

	p, err = Forward(view, "2")
	require.NoError(t, err)
	assert.Empty(t, p.Actions, "nothing to do is a plan too")

	_, err = Forward(view, "99")
	assert.ErrorContains(t, err, "there is no step 99")
}

func TestBackPlansTheNewestFirst(t *testing.T) {
	steps := catalogue("1", "2!", "3", "4", "5")
	in := func(deployment string, number step.Number) row {
		return row{action: ledger.Applied, number: number, deployment: deployment}
	}
	view := Look("staging", steps, state(row{action: ledger.Baselined, number: "1"},
		in("7", "2"), in("8", "4"), in("8", "3"), in("9", "5")))
	versions := func(number step.Number, _ step.Checksum) (Step, bool) {
		for _, s := range steps {
			if s.Number == number {
				return s, true
			}
		}
		return Step{}, false
	}
	cases := map[string]struct {
		way  Way
		want []step.Number
		err  string
	}{
		"the last":                 {Way{Last: 1}, []step.Number{"5"}, ""},
		"the last three, as run":   {Way{Last: 3}, []step.Number{"5", "3", "4"}, ""},
		"one that has no way back": {Way{Last: 4}, nil, "there is no way back for step 2 (s)"},
		"more than there are": {
			Way{Last: 9},
			nil,
			"only 4 steps were run here; 9 cannot be rolled back; steps up to 1 are covered by the baseline",
		},
		"to a step":               {Way{To: "4"}, []step.Number{"5"}, ""},
		"what is left of some":    {Way{Of: map[step.Number]bool{"5": true, "9": true}}, []step.Number{"5"}, ""},
		"nothing is left of some": {Way{Of: map[step.Number]bool{"9": true}}, []step.Number{}, ""},
		"another one was run after some": {
			Way{Of: map[step.Number]bool{"3": true}}, nil,
			"step 5 was run here after step 3, which was to be rolled back: the history went on",
		},
		"to a step that nobody knows":       {Way{To: "77"}, nil, "there is no step 77"},
		"to the newest":                     {Way{To: "5"}, []step.Number{}, ""},
		"to the beginning of a baselined":   {Way{To: "0"}, nil, "the beginning lies below the baseline"},
		"the newest deployment":             {Way{Deployment: "9"}, []step.Number{"5"}, ""},
		"a deployment that others followed": {Way{Deployment: "8"}, nil, "step 5 was run after deployment 8"},
		"a deployment that left nothing": {
			Way{Deployment: "3"},
			nil,
			"nothing that deployment 3 applied is in this target",
		},
		"no way at all": {Way{}, nil, "say how far"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			p, err := Back(view, c.way, versions)
			if c.err != "" {
				var refused *Error
				require.ErrorAs(t, err, &refused)
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, p.Numbers())
		})
	}
}

func TestWhereLittleWasRunThereIsLittleToRollBack(t *testing.T) {
	steps := catalogue("1", "2")
	for want, view := range map[string]View{
		"no step was run here that could be rolled back; steps up to 1 are covered by the baseline": Look("staging", steps,
			state(row{action: ledger.Baselined, number: "1"})),
		"no step was run here that could be rolled back":    Look("staging", steps, state()),
		"only 1 step was run here; 2 cannot be rolled back": Look("staging", steps, state(applied("1"))),
	} {
		_, err := Back(view, Way{Last: 2}, func(step.Number, step.Checksum) (Step, bool) { return Step{}, false })
		assert.ErrorContains(t, err, want)
	}
	none, err := Back(Look("staging", steps, state()), Way{Last: 2, Each: true}, nil)
	require.NoError(t, err, "a target of a fleet that has nothing has nothing to do")
	assert.Empty(t, none.Actions)
	_, err = Back(Look("staging", steps, state(applied("1"))), Way{Last: 2, Each: true}, nil)
	assert.ErrorContains(t, err, "only 1 step was run here")
}

func TestAWayBackThatStoppedHalfWayIsGoneOnWith(t *testing.T) {
	half := ledger.Detail{Direction: ledger.Back, Mode: step.Autocommit, Statement: 2, Of: 2, Done: "sum"}
	view := Look(
		"staging",
		catalogue("1", "2"),
		state(applied("1"), applied("2"), row{action: ledger.Failed, number: "2", detail: half}),
	)
	require.Len(t, view.HalfBack(), 1)
	p, err := Back(view, Way{Last: 1}, func(number step.Number, checksum step.Checksum) (Step, bool) {
		assert.Equal(t, step.Checksum("c2"), checksum)
		return catalogue("2")[0], true
	})
	require.NoError(t, err)
	assert.Equal(t, 2, p.Actions[0].Resume)
}

func TestAPlanPromisesOnlyWhatItCanKeep(t *testing.T) {
	steps := catalogue("1", "2!", "3")
	steps[2].Options.Mode = step.Autocommit
	p, err := Forward(Look("staging", steps, state()), "")
	require.NoError(t, err)
	require.NoError(t, p.Promise())
	p.OnFailure = BackOut
	assert.EqualError(
		t, p.Promise(),
		"these steps have no way back, so nothing could be backed out if a later one failed: 2 (s, mode transaction); "+
			"write their .back.sql files and submit, or promote with -on-failure stop",
	)
	p.Whole = true
	assert.ErrorContains(
		t, p.Promise(),
		"these steps cannot run in one transaction with others: 3 (s, mode autocommit)",
	)
	p.Actions = p.Actions[:2]
	assert.NoError(t, p.Promise(), "a whole deployment needs no way back")
}

func TestARebuildCarriesOutWhatIsMeantForTheEnvironment(t *testing.T) {
	steps := catalogue("1", "2", "3", "4")
	steps[2].Options.Only = []string{"development"}
	half := ledger.Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "x"}
	p := Rebuild(
		Look(
			"staging", steps,
			state(
				row{action: ledger.Baselined, number: "1"},
				applied("9"),
				applied("2"),
				row{action: ledger.Failed, number: "4", detail: half},
			),
		),
	)
	assert.Equal(t, []step.Number{"1", "2", "4"}, p.Numbers(), "neither what is not here nor what is absent")
	assert.Zero(t, p.Actions[2].Resume, "nothing is gone on with")
	var emptied []step.Number
	for _, s := range p.Emptied {
		emptied = append(emptied, s.Number)
	}
	assert.Equal(t, []step.Number{"4", "2", "9", "1"}, emptied, "everything that left something goes, newest first")
}

func TestAnUnfinishedBackfillGoesOnWithItsRows(t *testing.T) {
	steps := catalogue("1")
	steps[0].Options.Mode = step.Batches
	p, err := Forward(
		Look(
			"staging", steps,
			state(
				row{
					action: ledger.Failed,
					number: "1",
					detail: ledger.Detail{Mode: step.Batches, Statement: 1, Of: 1, Rows: 700},
				},
			),
		),
		"",
	)
	require.NoError(t, err)
	assert.Equal(t, int64(700), p.Actions[0].Rows)
}
