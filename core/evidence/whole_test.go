package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/sqltext"
)

func TestWhatWasThereBeforeTellsWhatAStatementDid(t *testing.T) {
	table := func(there bool) Observation {
		return Observation{Object: Object{Kind: Table, Name: "berth", Made: true}, There: there}
	}
	old := func(there bool) Observation {
		return Observation{Object: Object{Kind: Table, Name: "dock", Gone: true}, There: there}
	}
	altered := Observation{Object: Object{Kind: Table, Name: "quay"}, There: true}
	assert.Equal(
		t,
		[]string{"no table berth", "table dock"},
		Before([]Observation{table(false), old(true), altered}),
		"what is altered tells nothing",
	)
	assert.Empty(t, Before([]Observation{altered}))
	before := []string{"no table berth", "table dock"}
	for name, c := range map[string]struct {
		now    []Observation
		before []string
		is     Verdict
		why    string
	}{
		"all of it is done": {[]Observation{table(true), old(false)}, before, TookEffect,
			"which was not so before it began"},
		"nothing is": {[]Observation{table(false), old(true)}, before, NoEffect, "as before it began"},
		"neither":    {[]Observation{table(true), old(true)}, before, Unclear, "neither as before"},
		"it was so before": {[]Observation{table(true)}, []string{"table berth"}, Unclear,
			"changes nothing in the catalogs that was not so before"},
		"nobody looked before": {[]Observation{table(true)}, []string{"no table quay"}, Unclear, "is not known"},
		"one was there, the other not": {[]Observation{table(true), old(false)}, []string{"table berth", "table dock"},
			TookEffect, "table dock is gone"},
		"nothing that tells": {[]Observation{altered}, nil, Unclear, "changes nothing"},
	} {
		verdict, why := JudgeWhole(Evidence{Observations: c.now}, c.before)
		assert.Equal(t, c.is, verdict, name)
		assert.Contains(t, why, c.why, name)
	}
}

// TestANetAddsUp what statements leave, told by a reader of one word each.
func TestANetAddsUp(t *testing.T) {
	read := func(n *Net, s sqltext.Statement) {
		verb, name := s.SQL[0], string(s.SQL[1:])
		switch verb {
		case '+':
			n.Made(Object{Kind: Table, Name: name})
		case '-':
			n.Gone(Object{Kind: Table, Name: name})
		case '|':
			n.Made(Object{Kind: Column, Of: name, Name: "id"})
		case '~':
			n.There(Object{Kind: Table, Name: name})
		case '.':
			n.Nothing()
		case '/':
			n.Searches([]string{name})
		}
	}
	script := func(texts ...string) (all []sqltext.Statement) {
		for i, text := range texts {
			all = append(all, sqltext.Statement{SQL: []byte(text), Line: i + 1})
		}
		return all
	}
	names := func(objects []Object) (all []string) {
		for _, o := range objects {
			mark := ""
			if o.Gone {
				mark = "no "
			}
			all = append(all, mark+o.String())
		}
		return all
	}
	all := script("+a", "|a", "+b", "-b", "~a", ".x", "UPDATE c", "/harbour", "+d", "+")
	found := Collect(all, 1, 0, read)
	assert.Equal(t, []string{"table a", "column a.id", "no table b", "table d"}, names(found.Objects))
	assert.Equal(
		t,
		[]Unverifiable{{Statement: 7, Line: 7, What: "UPDATE"}, {Statement: 10, Line: 10, What: "+"}},
		found.Unverifiable,
	)
	assert.Equal(t, []string{"harbour"}, found.Objects[3].Path)
	assert.Equal(t, []string{"no table b"}, names(Collect(all, 4, 6, read).Objects)[:1], "only those between count")
	assert.Equal(
		t,
		[]string{"harbour"},
		Collect(all, 9, 9, read).Objects[0].Path,
		"but what is searched does, from before",
	)

	left := CollectLeft([][]sqltext.Statement{script("+a", "|a", "+b"), script("-a", "+c"), script("~c", "-b")}, read)
	assert.Empty(t, left[0], "what a later script drops is nobody's")
	assert.Equal(t, []string{"table c"}, names(left[1]))
}
