package lane

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/step"
)

// engines are one that has everything, and one that has nothing.
var engines = map[string]engine.Traits{
	"postgresql": {
		Server:      "PostgreSQL",
		Roles:       true,
		Schemas:     true,
		LedgerOwner: true,
		Yields:      true,
		Scratch:     true,
		Samples:     true,
		Clones:      true,
	},
	"tally": {Server: "Tally"},
}

func TestWhatAnEngineHasNotIsRefusedWhereItIsWritten(t *testing.T) {
	file := `lane: harbour
steps-may: [roles]
environments:
  - name: development
    target: env:A
    scratch: env:B
    role: pilot
    schemas: [harbour]
    ledger-role: keeper
    ledger-key: env:C
    block-at-most: 3s
engine: tally
`
	_, err := Parse("lane.yaml", []byte(file), engines)
	var problems step.Problems
	require.ErrorAs(t, err, &problems)
	var lines []string
	for _, p := range problems {
		lines = append(lines, p.Error())
	}
	assert.Equal(t, []string{
		"lane.yaml:2:1: Tally has no use for steps-may: take it out", "lane.yaml:6:5: Tally has no use for scratch: " +
			"take it out", "lane.yaml:7:5: Tally has no use for role: take it out",
		"lane.yaml:8:5: Tally has no use for schemas: take it out", "lane.yaml:9:5: Tally has no use for ledger-role: " +
			"take it out", "lane.yaml:10:5: Tally has no use for ledger-key: take it out",
		"lane.yaml:11:5: Tally has no use for block-at-most: take it out",
	}, lines)
	_, err = Parse("lane.yaml", []byte(file), nil)
	assert.NoError(t, err, "who does not know the engines leaves it to who does")
}

func TestTheDemosLanesAreRead(t *testing.T) {
	text, err := os.ReadFile("../../demo/harbour/lane.yaml")
	require.NoError(t, err)
	l, err := Parse("lane.yaml", text, engines)
	require.NoError(t, err)
	assert.Equal(t, "harbour", l.Name)
	assert.Equal(t, []string{"development", "staging", "production"}, l.Names())
	production, found := l.Environment("production")
	require.True(t, found)
	assert.Equal(t, "env:HARBOUR_PRODUCTION_URL", production.Target)
	assert.Equal(t, 2*time.Second, *production.LockTimeout)
	assert.False(t, production.Disposable)
	_, found = l.Environment("moon")
	assert.False(t, found)
}

func TestEveryProblemOfALaneFileHasItsPlace(t *testing.T) {
	cases := map[string]struct{ text, want string }{
		"empty":           {"", "lane.yaml: is empty"},
		"no YAML":         {"lane: [\n", "is not valid YAML"},
		"a list":          {"- a\n", "lane.yaml:1:1: lines of the form key: value"},
		"no name":         {"about: x\nenvironments: [{name: a, target: env:A}]\n", "the lane has no name"},
		"no environments": {"lane: a\n", "the lane has no environments"},
		"a bad name":      {"lane: Harbour One\n", `lane.yaml:1:7: "Harbour One" is not a valid name`},
		"an unknown key": {
			"lane: a\nowner: b\n",
			`lane.yaml:2:1: there is no key "owner" here; the keys are lane, about, engine, on-failure, steps-may, environments`,
		},
		"another engine": {
			"lane: a\nengine: abacus\n",
			`lane.yaml:2:9: the engine "abacus" is not known; it can be postgresql, tally`,
		},
		"a key that stands twice": {"lane: a\nabout: b\nabout: c\n", "lane.yaml:3:1"},
		"two of one name": {
			"lane: a\nenvironments:\n  - {name: a, target: env:A}\n  - {name: a, target: env:B}\n",
			`lane.yaml:4:5: there are two environments "a"`,
		},
		"no target": {
			"lane: a\nenvironments:\n  - name: a\n",
			"an environment needs a name and a target",
		},
		"a target of no form": {
			"lane: a\nenvironments:\n  - name: a\n    target: HARBOUR_URL\n",
			"lane.yaml:4:13: a target is a reference",
		},
		"what steps may not": {
			"lane: a\nsteps-may: [roles, everything]\nenvironments:\n  - {name: a, target: env:A}\n",
			"lane.yaml:2:12: steps-may is a list of what steps may change beside schemas and rows; it can name roles, " +
				"event-triggers, session-user, settings",
		},
		"a bad duration": {
			"lane: a\nenvironments:\n  - name: a\n    target: env:A\n    lock-timeout: soon\n",
			"lane.yaml:5:19: lock-timeout:",
		},
		"a bad boolean": {
			"lane: a\nenvironments:\n  - name: a\n    target: env:A\n    disposable: maybe\n",
			"lane.yaml:5:17: disposable is true or false",
		},
		"a gate": {
			"lane: a\nenvironments:\n  - name: a\n    target: env:A\n    gate: {findings: required}\n",
			`lane.yaml:5:22: findings is high, medium, low or not-asked, not "required"`,
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := Parse("lane.yaml", []byte(c.text), engines)
			var problems step.Problems
			require.True(t, errors.As(err, &problems), "%v", err)
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// A credential in the file is refused, and not repeated by the error.
func TestAURLInALaneFileIsRefused(t *testing.T) {
	for _, target := range []string{
		"postgres://pilot:s3cret@db/harbour", "postgresql://db/harbour", "host=db password=s3cret",
		"'env:postgres://pilot:s3cret@db/harbour'",
	} {
		_, err := Parse("lane.yaml", []byte("lane: a\nenvironments:\n  - name: a\n    target: "+target+"\n"), engines)
		require.Error(t, err)
		assert.NotContains(t, err.Error(), "s3cret")
		assert.Contains(t, err.Error(), "lane.yaml:4:13")
	}
}

func TestTheNearestPolicyHolds(t *testing.T) {
	l, err := Parse(
		"lane.yaml",
		[]byte(
			"lane: harbour\non-failure: back-out\nenvironments: [{name: development, target: env:A}, {name: production, "+
				"target: env:B, on-failure: stop}]",
		),
		engines,
	)
	require.NoError(t, err)
	assert.Equal(t, plan.BackOut, l.Policy(l.Environments[0]))
	assert.Equal(t, plan.Stop, l.Policy(l.Environments[1]))
	assert.Equal(t, plan.Stop, Lane{}.Policy(Environment{}))
	_, err = Parse(
		"lane.yaml",
		[]byte("lane: harbour\non-failure: pray\nenvironments: [{name: development, target: env:A}]"),
		engines,
	)
	assert.ErrorContains(t, err, `lane.yaml:2:13: on-failure is stop or back-out, not "pray"`)
}

func TestAGateAsksWhatItSaysAndWhatIsUsual(t *testing.T) {
	const file = "lane: harbour\nenvironments:\n  - {name: staging, target: env:A, gate: {soak: 24h, way-back: " +
		"required, backup: 12h, window: {days: [mon, tue], hours: 22:00-02:00, zone: Europe/Berlin}}}\n" +
		"  - {name: production, target: env:B, lock-timeout: 2s, schemas: [harbour]}\n" +
		"  - {name: mirror, target: env:C, disposable: true, gate: {release: required, previous-environment: not-asked}}\n" +
		"  - {name: twin, target: env:D, gate: {approvals: {count: 2, authors: excluded}}}\n"
	l, err := Parse("lane.yaml", []byte(file), engines)
	require.NoError(t, err)
	assert.Equal(
		t,
		Gate{
			WayBack: true,
			Soak:    24 * time.Hour,
			Backup:  12 * time.Hour,
			Window:  &Window{Days: []string{"mon", "tue"}, From: "22:00", To: "02:00", Zone: "Europe/Berlin"},
		},
		l.Environments[0].Asks(),
	)
	assert.Equal(
		t,
		Gate{Release: true, Previous: true},
		l.Environments[1].Asks(),
		"production asks for releases by default",
	)
	assert.Equal(t, Gate{Release: true}, l.Environments[2].Asks())
	assert.Equal(
		t,
		Gate{Release: true, Approvals: 2, NotAuthors: true},
		l.Environments[3].Asks(),
		"approvals are given to releases",
	)
	again, err := Parse("lane.yaml", l.File(), engines)
	require.NoError(t, err)
	assert.Equal(t, l, again, "a lane can be written as a file: %s", l.File())
	for gate, message := range map[string]string{"release: perhaps": `release is required or not-asked, not "perhaps"`,
		"soak: long": "is not a duration", "moon: full": `there is no key "moon"`,
		"rehearsal: perhaps": `rehearsal is required or not-asked, not "perhaps"`,
		"drift: required":    "drift is refused or not-asked", "approvals: many": "approvals is a number from 0 to 9",
		"approvals: {authors: excluded}":         "say how many approvals",
		"approvals: {count: 1, authors: hanged}": "authors are excluded or counted",
		"approvals: 1, release: not-asked":       "approvals are given to releases",
		"window: {hours: late}":                  "hours are two times", "window: {days: [mon]}": "the window has no hours",
		"window: {hours: 08:00-16:00, zone: Moon/Sea}":  "is not a time zone",
		"window: {hours: 08:00-16:00, days: [someday]}": "days is a list of mon"} {
		_, err := Parse(
			"lane.yaml",
			[]byte("lane: harbour\nenvironments: [{name: staging, target: env:A, gate: {"+gate+"}}]"),
			engines,
		)
		assert.ErrorContains(t, err, message)
	}
}

func TestWhatStepsMayIsDeclared(t *testing.T) {
	const file = "lane: harbour\nsteps-may: [session-user, roles, roles]\n" +
		"environments: [{name: staging, target: env:A, scratch: env:S}, {name: production, target: env:B}]"
	l, err := Parse("lane.yaml", []byte(file), engines)
	require.NoError(t, err)
	assert.Equal(t, []string{"roles", "session-user"}, l.StepsMay)
	assert.Equal(t, "env:S", l.Environments[0].Scratch)
	again, err := Parse("lane.yaml", l.File(), engines)
	require.NoError(t, err)
	assert.Equal(t, l, again)
	strict := l
	strict.StepsMay = nil
	elsewhere := l
	elsewhere.Environments = slices.Clone(l.Environments)
	elsewhere.Environments[0].Scratch = ""
	assert.Equal(t, []Change{{"staging", "scratch: env:S, was not declared", true}}, Changes(elsewhere, l))
	assert.Equal(
		t,
		[]Change{
			{"staging", "steps-may: roles, session-user, was none", true},
			{"production", "steps-may: roles, session-user, was none", true},
		},
		Changes(strict, l),
	)
	assert.Equal(
		t,
		[]Change{
			{"staging", "steps-may: none, was roles, session-user", false},
			{"production", "steps-may: none, was roles, session-user", false},
		},
		Changes(l, strict),
	)
}

func TestSignersAreKeysWithNames(t *testing.T) {
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDJErhVoadu7R2D6XtlaxrlCrkTWmaEVB4sbvJ9DL+7b"
	file := "lane: harbour\nenvironments: [{name: staging, target: env:A, gate: {%s}}]"
	l, err := Parse("lane.yaml", fmt.Appendf(nil, file, "signers: ['"+key+" p.holm']"), engines)
	require.NoError(t, err)
	asks := l.Environments[0].Asks()
	assert.True(t, asks.Release, "signatures are given to releases")
	require.Len(t, asks.Signers, 1)
	assert.Equal(t, "p.holm", asks.Signers[0].Holder)
	again, err := Parse("lane.yaml", l.File(), engines)
	require.NoError(t, err)
	assert.Equal(t, l, again)
	for gate, message := range map[string]string{"signers: p.holm": "signers is a list of public SSH keys",
		"signers: []":              "signers is a list of public SSH keys",
		"signers: ['" + key + "']": "say whose key it is", "signers: [p.holm]": "signers: it is not a public SSH key",
		"signers: ['" + key + " p.holm'], release: not-asked": "signatures are given to releases"} {
		_, err := Parse("lane.yaml", fmt.Appendf(nil, file, gate), engines)
		assert.ErrorContains(t, err, message)
	}
	none, err := Parse("lane.yaml", fmt.Appendf(nil, file, "release: required"), engines)
	require.NoError(t, err)
	other := l
	other.Environments = slices.Clone(l.Environments)
	other.Environments[0].Gate = &Gate{
		Release: true,
		Signers: []release.Key{{Line: "another", Fingerprint: "SHA256:x", Holder: "l.berg"}},
	}
	assert.False(t, Changes(none, l)[0].Loosens)
	assert.True(t, Changes(l, none)[0].Loosens)
	assert.True(t, Changes(l, other)[0].Loosens, "somebody else is another question")
}

func TestALookForDriftHasAnInterval(t *testing.T) {
	file := "lane: harbour\nenvironments: [{name: staging, target: env:A, look-for-drift: %s, gate: {drift: refused}}]"
	l, err := Parse("lane.yaml", fmt.Appendf(nil, file, "6h"), engines)
	require.NoError(t, err)
	assert.Equal(t, 6*time.Hour, l.Environments[0].LookForDrift)
	assert.True(t, l.Environments[0].Asks().Drift)
	again, err := Parse("lane.yaml", l.File(), engines)
	require.NoError(t, err)
	assert.Equal(t, l, again)
	off, err := Parse("lane.yaml", fmt.Appendf(nil, file, "off"), engines)
	require.NoError(t, err)
	assert.Zero(t, off.Environments[0].LookForDrift)
	for value, message := range map[string]string{"often": "is not a duration",
		"5s": "look-for-drift is off, or 1m or more"} {
		_, err := Parse("lane.yaml", fmt.Appendf(nil, file, value), engines)
		assert.ErrorContains(t, err, message)
	}
}

func TestAWindowOpensAndCloses(t *testing.T) {
	day := Window{Days: []string{"mon", "fri"}, From: "08:00", To: "16:00", Zone: "Europe/Berlin"}
	night := Window{Days: []string{"mon"}, From: "22:00", To: "02:00", Zone: "UTC"}
	cases := map[string]struct {
		window Window
		at     string // UTC; 23 November 2026 is a Monday
		open   bool
		next   string
	}{
		"on a Monday morning":            {day, "2026-11-23T07:00:00Z", true, ""},
		"a minute too early, over there": {day, "2026-11-23T06:59:00Z", false, "2026-11-23T07:00:00Z"},
		"at closing time":                {day, "2026-11-23T15:00:00Z", false, "2026-11-27T07:00:00Z"},
		"in summer, an hour earlier":     {day, "2026-07-06T06:00:00Z", true, ""},
		"on another day":                 {day, "2026-11-24T10:00:00Z", false, "2026-11-27T07:00:00Z"},
		"before midnight":                {night, "2026-11-23T23:30:00Z", true, ""},
		"after midnight":                 {night, "2026-11-24T01:59:00Z", true, ""},
		"the night before":               {night, "2026-11-23T01:00:00Z", false, "2026-11-23T22:00:00Z"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			at, err := time.Parse(time.RFC3339, c.at)
			require.NoError(t, err)
			assert.Equal(t, c.open, c.window.Open(at))
			if !c.open {
				assert.Equal(t, c.next, c.window.Next(at).UTC().Format(time.RFC3339))
			}
		})
	}
}

func TestWhatADeclarationChangesIsSaid(t *testing.T) {
	parse := func(environments string) Lane {
		l, err := Parse("lane.yaml", []byte("lane: harbour\nenvironments: ["+environments+"]"), engines)
		require.NoError(t, err)
		return l
	}
	before := parse(
		"{name: development, target: env:A}, {name: staging, target: env:B}, {name: production, target: env:C, gate: " +
			"{approvals: 2, soak: 24h}}",
	)
	assert.Empty(t, Changes(before, before))
	after := parse(
		"{name: staging, target: env:B}, {name: production, target: env:D, gate: {approvals: 1, release: required, " +
			"previous-environment: not-asked}}, {name: mirror, target: env:E}",
	)
	assert.Equal(t, []Change{
		{"staging", "the environment before: none, was development", true},
		{"production", "previous-environment: not-asked, was required", true},
		{"production", "approvals: 1, was 2", true},
		{"production", "soak: 0s, was 24h", true},
		{"production", "target: env:D, was env:C", true},
		{"mirror", "the environment is new in the lane", false},
		{"development", "the environment was taken out of the lane", true},
	}, Changes(before, after))
	strict := parse(
		"{name: development, target: env:A}, {name: staging, target: env:B}, {name: production, target: env:C, gate: " +
			"{approvals: 3, soak: 48h, backup: 1h, drift: refused, window: {hours: 08:00-16:00}}}",
	)
	for _, change := range Changes(before, strict) {
		assert.False(t, change.Loosens, "to ask for more loosens nothing: %s", change.What)
	}
	for _, change := range Changes(strict, before) {
		assert.True(t, change.Loosens, change.What)
	}
	assert.Equal(
		t,
		[]string{"release: required", "previous-environment: required"},
		before.Environments[2].Asks().Words()[:2],
	)
}

func TestDurationsAreWrittenAsPeopleDo(t *testing.T) {
	for text, d := range map[string]time.Duration{"0s": 0, "1ms": time.Millisecond, "20s": 20 * time.Second,
		"12m": 12 * time.Minute, "1h": time.Hour, "1h5m": 65 * time.Minute, "10h0m1s": 10*time.Hour + time.Second} {
		assert.Equal(t, text, Span(d))
	}
}

// FuzzParse: whatever is in a lane file, it is a lane or an error, and what is
// a lane is the same once it was written and read again.
func FuzzParse(f *testing.F) {
	f.Add(
		[]byte(
			"lane: harbour\nenvironments:\n  - {name: development, target: env:X, disposable: true}\n" +
				"  - {name: production, target: file:/x, gate: {approvals: {count: 1, authors: excluded}}}\n",
		),
	)
	f.Add([]byte("lane: &a [*a]\n"))
	f.Add([]byte("a: &a [x,x]\nb: &b [*a,*a]\nlane: *b\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		parsed, err := Parse("lane.yaml", text, engines)
		if err != nil {
			return
		}
		written, err := json.Marshal(parsed)
		require.NoError(t, err)
		var again Lane
		require.NoError(t, json.Unmarshal(written, &again))
		assert.Equal(t, parsed.Names(), again.Names())
	})
}

// TestAnEnvironmentNamesAllItsReferences: whoever checks references misses none.
func TestAnEnvironmentNamesAllItsReferences(t *testing.T) {
	e := Environment{Target: "env:A", Scratch: "env:B", RehearseOn: "env:C", LedgerKey: "env:D"}
	assert.Equal(t, []Reference{{"target", "env:A"}, {"scratch", "env:B"}, {"rehearse-on", "env:C"},
		{"ledger-key", "env:D"}}, e.References())
	assert.Equal(t, []Reference{{"target", "env:A"}}, Environment{Target: "env:A"}.References())
}
