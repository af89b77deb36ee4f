package rehearsal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
)

func contents(rows int64, sum string, columns map[string]string) engine.TableContents {
	return engine.TableContents{Rows: rows, Sum: sum, Columns: columns}
}

func TestRowsAreComparedTableByTable(t *testing.T) {
	before := engine.Contents{
		"harbour.berth":  contents(40, "a", map[string]string{"code": "1", "depth": "2"}),
		"harbour.pilot":  contents(3, "b", map[string]string{"name": "1", "badge": "2"}),
		"harbour.quay":   contents(2, "c", map[string]string{"code": "1"}),
		"harbour.tide":   contents(9, "d", map[string]string{"at": "1"}),
		"harbour.vessel": contents(7, "e", map[string]string{"name": "1"}),
	}
	after := engine.Contents{
		"harbour.berth":  contents(37, "x", map[string]string{"code": "7", "depth": "8"}),
		"harbour.pilot":  contents(3, "y", map[string]string{"name": "9", "badge": "2"}),
		"harbour.quay":   contents(3, "z", map[string]string{"code": "4"}),
		"harbour.tide":   contents(9, "swapped", map[string]string{"at": "1"}),
		"harbour.vessel": contents(7, "e", map[string]string{"name": "1"}),
		"harbour.new":    contents(7, "e", nil),
	}
	list := compareRows(before, after)
	require.Len(t, list, 4)
	assert.Equal(t, "harbour.berth: 3 of 40 rows are gone", list[0].Message)
	assert.Empty(t, list[0].Columns, "with other rows, every column differs")
	assert.Equal(t, "harbour.pilot: values of name are not what they were", list[1].Message)
	assert.Equal(t, "harbour.quay: 1 row more than the 2 that were there", list[2].Message)
	assert.Equal(t, "harbour.tide: values are in other rows than they did", list[3].Message)
	assert.Equal(t, list[0].Message+"; "+list[1].Message+"; and 2 tables more", rowSummary(list, 2))
	assert.Empty(t, compareRows(before, before))
	assert.Empty(t, compareRows(nil, after), "without rows there is nothing to compare")
}

func TestOnlyWhatWasThereIsCompared(t *testing.T) {
	table := func(name string, columns ...string) (list []schema.Object) {
		list = []schema.Object{{Kind: schema.Table, Name: name, Props: schema.Props{}}}
		for _, column := range columns {
			list = append(list, schema.Object{Kind: schema.Column, Name: name + "." + column, Of: name, Props: schema.Props{}})
		}
		return list
	}
	start := schema.New(table("a", "id", "old"), nil)
	now := schema.New(append(table("a", "id", "new"), table("b", "id")...), nil)
	var names []string
	for _, o := range ofBoth(now, start).Objects {
		names = append(names, o.Name)
	}
	assert.Equal(t, []string{"a", "a.id"}, names)
}

func TestAResultSaysWhichRowsItMet(t *testing.T) {
	assert.Equal(t, "no rows", Result{}.With())
	assert.Equal(t, "all rows of its clone", Result{Cloned: true}.With())
	assert.Equal(t, "1,203 rows of 2 tables",
		Result{Copied: []engine.Sampled{{Table: "a", Rows: 1200}, {Table: "b", Rows: 3}}}.With())
}

func TestWhatAReadingFoundIsNotFoundAgain(t *testing.T) {
	rules, err := review.ReadRules([]byte(`
rules:
  blocks.measured: {severity: medium, title: others wait, why: One. Two., server: x, has: a, has_not: b}
  rewrites.measured: {severity: high, title: written again, why: One. Two., server: x, has: a, has_not: b}
`))
	require.NoError(t, err)
	r := Result{Steps: []Step{
		{Number: "1", ForwardMS: 2600, Footprint: &engine.Footprint{Tables: []engine.TableFootprint{
			{Table: "harbour.berth", Blocks: engine.ReadsAndWrites, Rows: 50_000},
			{Table: "harbour.pilot", Blocks: engine.SchemaChanges},
			{Table: "public.quay", Rewritten: true, Rows: 90},
		}}},
		{Number: "2", ForwardMS: 999,
			Footprint: &engine.Footprint{Tables: []engine.TableFootprint{{Table: "harbour.berth", Blocks: engine.Writes}}}},
		{Number: "3", ForwardMS: 5000},
	}}
	list := r.Findings(rules, nil, map[step.Number]string{"1": "1-a.sql"})
	require.Len(t, list, 2, "a moment's lock is none, nor is one that nobody waits for")
	assert.Equal(t, "1-a.sql:1:1: others wait: harbour.berth: reads and writes wait for up to 2.6s", list[0].Error())
	assert.Equal(t, review.Medium, list[0].Severity)
	assert.Equal(t, review.Low, list[1].Severity, "a small table")
	known := []review.Finding{
		{Code: "blocks.check-scan", Step: "1", Object: "constraint harbour.berth.deep"},
		{Code: "rewrites.column-type", Step: "1", Object: "column quay.code"},
	}
	assert.Empty(t, r.Findings(rules, known, nil))
	known[0].Step, known[1].Code = "2", "loses.converted"
	assert.Len(t, r.Findings(rules, known, nil), 2, "of another step, or about something else")
}
