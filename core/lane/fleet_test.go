package lane

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const fleetFile = `lane: gauges
environments:
  - name: staging
    target: env:STAGING
  - name: production
    targets:
      - north: env:NORTH
      - south: file:/run/south
    waves: {canary: 2, size: 5, at-once: 3, tolerate: 1}
`

func TestAFleetIsReadAndWrittenAgain(t *testing.T) {
	l, err := Parse("lane.yaml", []byte(fleetFile), engines)
	require.NoError(t, err)
	e, _ := l.Environment("production")
	require.NotNil(t, e.Fleet)
	assert.Equal(t, Waves{Canary: 2, Size: 5, AtOnce: 3, Tolerate: 1}, e.Fleet.Waves)
	assert.Equal(t, []Target{{"north", "env:NORTH"}, {"south", "file:/run/south"}}, e.Fleet.Targets)
	again, err := Parse("lane.yaml", l.File(), engines)
	require.NoError(t, err)
	assert.Equal(t, l, again)
	const list = "lane: gauges\nenvironments:\n  - {name: all, targets: \"file:/etc/gauges\"}\n"
	listed, err := Parse("lane.yaml", []byte(list), engines)
	require.NoError(t, err)
	assert.Equal(t, &Fleet{From: "file:/etc/gauges", Waves: usualWaves}, listed.Environments[0].Fleet)
}

func TestATargetIsAPlaceThatAsksWhatItsFleetAsks(t *testing.T) {
	l, err := Parse("lane.yaml", []byte(fleetFile), engines)
	require.NoError(t, err)
	south, found := l.Place("production.south")
	require.True(t, found)
	assert.Equal(t, "file:/run/south", south.Target)
	assert.Nil(t, south.Fleet)
	assert.True(t, south.Asks().Release, "as an environment named production does")
	assert.Equal(t, "staging", l.Before("production.south"))
	var names []string
	for _, place := range l.Places() {
		names = append(names, place.Name)
	}
	assert.Equal(t, []string{"staging", "production.north", "production.south"}, names)
	for _, none := range []string{"production.west", "staging.north", "harbour.north"} {
		_, found := l.Place(none)
		assert.False(t, found, none)
	}
	whole, found := l.Place("production")
	assert.True(t, found && whole.Fleet != nil)
}

func TestATextIsSaidOfAllTargets(t *testing.T) {
	for text, want := range map[string]string{
		"field.g1 is frozen, says field.g1":          "field is frozen, says field",
		"harbour/field.g1, and not field.g12":        "harbour/field, and not field.g12",
		"field.g1-north is not field.g1.":            "field.g1-north is not field.",
		"upper-field.g1 is another; so is 2field.g1": "upper-field.g1 is another; so is 2field.g1",
		"(field.g1)field.g1":                         "(field)field",
		"":                                           "",
		"nothing of it":                              "nothing of it",
	} {
		assert.Equal(t, want, Unnamed(text, "field.g1"), text)
	}
	assert.Equal(t, "staging is staging", Unnamed("staging is staging", "staging"), "an environment is its own")
}

func TestWhatIsWrongWithAFleet(t *testing.T) {
	for text, message := range map[string]string{
		"targets: [{all: env:A}]":                        `"all" is not a valid name`,
		"targets: []":                                    "targets is a list of names with references",
		"targets: [env:A]":                               "targets is a list of names with references",
		"targets: [{North: env:A}]":                      `"North" is not a valid name`,
		"targets: [{a: env:A}, {a: env:B}]":              `there are two targets "a"`,
		"targets: [{a: \"postgres://x:y@h/d\"}]":         "no credential may be in this file",
		"targets: [{a: env:A}], target: env:B":           "target and targets exclude each other",
		"target: env:A, waves: {canary: 1}":              "waves are for an environment that has targets",
		"targets: [{a: env:A}], waves: {at-once: 0}":     "at-once is a number from 1 to 64",
		"targets: [{a: env:A}], waves: {canary: many}":   "canary is a number from 0 to 5000",
		"targets: [{a: env:A}], waves: {first: 1}":       `there is no key "first" here`,
		"disposable: true":                               "an environment needs a name and a target, or targets",
		"targets: [{a.b: env:A}]":                        `"a.b" is not a valid name`,
		"targets: [{a: env:A, b: env:B}]":                "targets is a list of names with references",
		"targets: [{a: env:A}], waves: {tolerate: -1}":   "tolerate is a number from 0 to 5000",
		"targets: [{a: env:A}], waves: {size: \"half\"}": "size is a number from 1 to 5000",
	} {
		_, err := Parse("lane.yaml", []byte("lane: gauges\nenvironments:\n  - {name: all, "+text+"}\n"), engines)
		require.ErrorContains(t, err, message, text)
	}
}

func TestWhatANewDeclarationChangesOfAFleet(t *testing.T) {
	before, err := Parse("lane.yaml", []byte(fleetFile), engines)
	require.NoError(t, err)
	after, err := Parse("lane.yaml", []byte(strings.NewReplacer("env:NORTH", "env:FAR_NORTH", "- south: file:/run/south",
		"- west: env:WEST", "tolerate: 1", "tolerate: 3").Replace(fleetFile)), engines)
	require.NoError(t, err)
	assert.ElementsMatch(t, []Change{
		{"production", "the target north: env:FAR_NORTH, was env:NORTH", true},
		{"production", "the target west is new in the fleet", false},
		{"production", "the target south was taken out of the fleet", true},
		{"production", "tolerate: 3, was 1", true},
	}, Changes(before, after))
	single, err := Parse("lane.yaml", []byte("lane: gauges\nenvironments: [{name: staging, target: env:STAGING}, "+
		"{name: production, target: env:NORTH}]"), engines)
	require.NoError(t, err)
	for _, change := range Changes(before, single) {
		assert.True(t, change.Loosens, change.What)
	}
}

// TestAFleetFromAListIsComparedByWhatIsRead: a list that nobody read says nothing of its targets.
func TestAFleetFromAListIsComparedByWhatIsRead(t *testing.T) {
	parsed := func(targets string) Lane {
		text := "lane: gauges\nenvironments:\n  - {name: all, targets: " + targets + "}\n"
		l, err := Parse("lane.yaml", []byte(text), engines)
		require.NoError(t, err)
		return l
	}
	read := func(names ...string) Lane {
		l := parsed("file:/etc/gauges")
		for _, name := range names {
			l.Environments[0].Fleet.Targets = append(l.Environments[0].Fleet.Targets, Target{name, "file:/etc/gauges#" + name})
		}
		return l
	}
	assert.Empty(t, Changes(read("north", "south"), read("north", "south")))
	assert.Empty(t, Changes(read("north", "south"), read()), "nobody read the list")
	assert.Empty(t, Changes(read(), read("north")))
	moved := []Change{{"all", "targets: file:/etc/gauges, was named one by one", true}}
	assert.Equal(t, moved, Changes(parsed("[{north: env:NORTH}]"), read()))
	assert.Equal(t, append(moved, Change{"all", "the target north: file:/etc/gauges#north, was env:NORTH", true}),
		Changes(parsed("[{north: env:NORTH}]"), read("north")))
}

func TestWavesThatAreLessCareful(t *testing.T) {
	before, err := Parse("lane.yaml", []byte(fleetFile), engines)
	require.NoError(t, err)
	for waves, want := range map[string][]Change{
		"canary: 0, size: 5, at-once: 3, tolerate: 1": {{"production", "canary: 0, was 2", true}},
		"canary: 3, size: 5, at-once: 3, tolerate: 1": {{"production", "canary: 3, was 2", false}},
		"canary: 2, at-once: 3, tolerate: 1":          {{"production", "size: all that are left, was 5", true}},
		"canary: 2, size: 4, at-once: 9, tolerate: 0": {{"production", "size: 4, was 5", false},
			{"production", "at-once: 9, was 3", false}, {"production", "tolerate: 0, was 1", false}},
		"canary: 2, size: 50, at-once: 3, tolerate: 1": {{"production", "size: 50, was 5", true}},
	} {
		after, err := Parse("lane.yaml", []byte(strings.Replace(fleetFile, "canary: 2, size: 5, at-once: 3, tolerate: 1", waves, 1)), engines)
		require.NoError(t, err)
		assert.Equal(t, want, Changes(before, after), waves)
	}
}

func TestTheSecretsOfAListAreInNoError(t *testing.T) {
	targets, urls, err := ReadTargets("env:GAUGES", "# gauges\n\n north  postgres://a:b@h/north \nsouth\tx\n")
	require.ErrorContains(t, err, "line 4")
	assert.Nil(t, targets)
	assert.Nil(t, urls)
	targets, urls, err = ReadTargets("env:GAUGES", "north postgres://a:b@h/north\n7 sqlite:7.db\n")
	require.NoError(t, err)
	assert.Equal(t, []Target{{"north", "env:GAUGES#north"}, {"7", "env:GAUGES#7"}}, targets)
	assert.Equal(t, "postgres://a:b@h/north", urls["north"])
	list, target, is := PartOf("env:GAUGES#7")
	assert.True(t, is && list == "env:GAUGES" && target == "7")
	_, _, is = PartOf("file:/a#B")
	assert.False(t, is)
}
