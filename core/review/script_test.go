package review_test

import (
	"bytes"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

const someRules = `
setup: "MAKE berth"
rules:
  readers.drop: {severity: high, title: it goes, why: "One. Two.", server: s, has: DROP berth, has_not: KEEP berth, proof: {old: SELECT}}
  blocks.all: {severity: high, title: all wait, why: "One. Two.", server: s, has: a, has_not: b}
  phase.expand-breaks: {severity: high, title: an expand breaks, why: "One. Two.", server: s, has: a, has_not: b}
  phase.contract-alone: {severity: high, title: alone, why: "One. Two.", server: s, has: a, has_not: b}
  back.missing: {severity: medium, title: no way back, why: "One. Two.", server: s, has: a, has_not: b}
  back.incomplete: {severity: high, title: it leaves something, why: "One. Two.", server: s, has: a, has_not: b}
`

// tongue is a language of lines: MAKE x, DROP x; anything else cannot be looked up.
type tongue struct{}

func (tongue) Cut(text []byte) ([]sqltext.Statement, error) { return cut(text) }

func leaves(net *evidence.Net, s sqltext.Statement) {
	verb, name, _ := strings.Cut(string(s.SQL), " ")
	switch verb {
	case "MAKE":
		net.Made(evidence.Object{Kind: evidence.Table, Name: name})
	case "DROP":
		net.Gone(evidence.Object{Kind: evidence.Table, Name: name})
	}
}

func (tongue) Objects(statements []sqltext.Statement, first, last int) evidence.Script {
	return evidence.Collect(statements, first, last, leaves)
}

func (tongue) Left(scripts [][]sqltext.Statement) [][]evidence.Object {
	return evidence.CollectLeft(scripts, leaves)
}

// read reads steps as a reviewer of the tongue would, and gives what it found in each.
func read(t *testing.T, in review.Setting, files map[string]string) (all [][]review.Finding) {
	rules, err := review.ReadRules([]byte(someRules))
	require.NoError(t, err)
	folder := fstest.MapFS{}
	for name, text := range files {
		folder[name] = &fstest.MapFile{Data: []byte(text)}
	}
	steps, err := step.ReadDir(folder)
	require.NoError(t, err)
	before := review.NewSteps(in)
	for _, s := range steps {
		script, err := before.Script(s, rules, tongue{})
		require.NoError(t, err)
		script.Each(func() {
			verb, name, _ := bytes.Cut(script.Statement.SQL, []byte(" "))
			table := string(name)
			switch {
			case string(verb) == "MAKE":
				script.Makes(table)
				script.Goes("table "+table+"_part", table)
			case string(verb) == "DROP" && script.InUse(table):
				script.Breaks(script.About("readers.drop", "table "+table, table, "", ""))
			case string(verb) == "LOCK" && script.InUse(table) && script.Once(table):
				script.FindOn("blocks.all", table, "", "", "WAIT "+table)
			}
		})
		all = append(all, before.End(script))
	}
	return all
}

func texts(list []review.Finding) (all []string) {
	for _, f := range list {
		all = append(all, f.Text())
	}
	return all
}

func TestAScriptIsReadInItsSetting(t *testing.T) {
	drop := map[string]string{
		"1-a.sql":      "MAKE pilot\nDROP pilot",
		"2-b.sql":      "\nDROP  berth\nDROP pilot\n",
		"2-b.back.sql": "MAKE berth\n",
	}
	found := read(t, review.Setting{}, drop)
	assert.Equal(
		t, []string{"medium back.missing 1-a.sql:1:1: no way back"}, texts(found[0]), "what the script makes is new",
	)
	assert.Equal(
		t,
		[]string{"high readers.drop 2-b.sql:3:6: it goes"},
		texts(found[1])[1:],
		"what an earlier step made is in use",
	)

	found = read(t, review.Setting{Waiting: true}, map[string]string{"1-a.sql": "MAKE pilot", "2-b.sql": "DROP pilot"})
	assert.Equal(
		t, []string{"medium back.missing 2-b.sql:1:1: no way back"}, texts(found[1]), "unless they wait together",
	)

	target := schema.New([]schema.Object{{Kind: schema.Table, Name: "public.berth"}}, nil)
	found = read(t, review.Setting{Schema: &target}, map[string]string{"1-a.sql": "MAKE pilot\nDROP pilot\nDROP berth"})
	assert.Contains(t, texts(found[0]), "high readers.drop 1-a.sql:3:6: it goes")
	assert.Len(t, found[0], 2, "the target decides what is in use")
}

func TestTheSizeOfATableSaysHowMuchItMatters(t *testing.T) {
	figures := review.Figures{
		Tables: map[string]review.Size{
			"public.berth": {Rows: 12, Bytes: 8192},
			"port.call":    {Rows: 1234567, Bytes: 96 << 20},
		},
	}
	found := read(t, review.Setting{Figures: figures}, map[string]string{"1-a.sql": "LOCK berth\nLOCK port.call\n" +
		"LOCK berth\nLOCK quay", "1-a.back.sql": "DROP x"})[0]
	assert.Equal(t, []string{
		"low blocks.all 1-a.sql:1:1: all wait (berth has about 12 rows, 8.0 KiB)",
		"high blocks.all 1-a.sql:2:1: all wait (port.call has about 1,234,567 rows, 96 MiB)",
		"high blocks.all 1-a.sql:4:1: all wait",
	}, texts(found))
	assert.Equal(t, "WAIT berth", found[0].Rewrite)
	assert.Equal(t, "One. Two.", found[0].Why)
}

func TestPhasesChangeWhatAFindingMeans(t *testing.T) {
	phase := func(name string) string { return "/*---\nphase: " + name + "\n---*/\n" }
	files := map[string]string{
		"1-a.sql": phase("contract") + "DROP berth",
		"2-b.sql": phase("expand") + "DROP berth",
		"3-c.sql": phase("contract") + "DROP berth",
	}
	found := read(t, review.Setting{}, files)
	assert.Contains(t, texts(found[0]), "high phase.contract-alone 1-a.sql:2:1: alone")
	assert.Contains(t, texts(found[1]), "high phase.expand-breaks 2-b.sql:4:6: it goes, in a step of phase expand")
	assert.NotContains(t, strings.Join(texts(found[2]), "\n"), "contract-alone", "an expand came before")
	assert.Contains(t, texts(found[2]), "medium readers.drop 3-c.sql:4:6: it goes")
	found = read(
		t,
		review.Setting{Phases: map[step.Phase]bool{step.Expand: true}},
		map[string]string{"1-a.sql": files["1-a.sql"]},
	)
	assert.NotContains(t, strings.Join(texts(found[0]), "\n"), "contract-alone", "or stands in the target")
}

func TestAWayBackIsHeldAgainstTheStep(t *testing.T) {
	for back, message := range map[string]string{
		"DROP berth\nDROP quay": "",
		"DROP berth":            "high back.incomplete 1-a.back.sql:1:1: the way back leaves table quay",
		"DO anything":           "", // which may drop both
	} {
		found := read(t, review.Setting{}, map[string]string{"1-a.sql": "MAKE berth\nMAKE quay", "1-a.back.sql": back})[0]
		if message == "" {
			assert.Empty(t, texts(found), back)
		} else {
			assert.Equal(t, []string{message}, texts(found), back)
		}
	}
	assert.Empty(
		t,
		read(t, review.Setting{},
			map[string]string{"1-a.sql": "MAKE berth\nMAKE berth_part", "1-a.back.sql": "DROP berth"})[0],
		"what goes with a table is gone",
	)
}

func TestAnAcceptanceMeetsAFinding(t *testing.T) {
	rules, err := review.ReadRules([]byte(someRules))
	require.NoError(t, err)
	assert.Equal(t, "MAKE berth", rules.Setup)
	assert.Len(t, rules.All(), 6)
	assert.Equal(t, "back.incomplete", rules.Codes()[0])
	rule, known := rules.Of("readers.drop")
	assert.True(t, known)
	assert.Equal(t, review.High, rule.Severity)
	text := "/*---\naccept:\n  readers.drop: nobody reads it\n  blocks.all: not here\n  no.such: thing\n---*/\nDROP berth"
	steps, err := step.ReadDir(fstest.MapFS{"1-a.sql": {Data: []byte(text)}})
	require.NoError(t, err)
	found := read(t, review.Setting{}, map[string]string{"1-a.sql": text})[0]
	problems := review.Accept(steps[0], found, rules)
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0].Error(), "1-a.sql:2:1: accept: the step has no finding blocks.all; take it out")
	assert.Contains(t, problems[1].Error(), `accept: there is no finding "no.such"`)
	assert.Equal(t, []string{"medium back.missing 1-a.sql:1:1: no way back"}, texts(review.Open(found, review.Low)))
	assert.Empty(t, review.Open(found, review.High))
	assert.False(t, review.Severity("grave").Reaches(review.Low))
}

func TestRulesThatCannotBeReadAreNamed(t *testing.T) {
	for text, message := range map[string]string{
		"rules: {a.b: {sevrity: high}}": "a.b: ", "setup: [": "", "rool: x": "rool",
	} {
		_, err := review.ReadRules([]byte(text))
		assert.ErrorContains(t, err, message, text)
		assert.Panics(t, func() { review.MustReadRules([]byte(text)) })
	}
}
