package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/access"
)

func TestGrantsAreReadAsTheyAreWritten(t *testing.T) {
	for _, text := range []string{"reader", "releaser@harbour", "approver@harbour/production"} {
		g, err := access.ParseGrant(text)
		require.NoError(t, err)
		assert.Equal(t, text, g.String())
	}
	for text, message := range map[string]string{"pilot": "is not a role", "reader@": "write ROLE",
		"reader@harbour/": "write ROLE", "": "is not a role", "reader@/x": "write ROLE"} {
		_, err := access.ParseGrant(text)
		assert.ErrorContains(t, err, message, text)
	}
}

func TestWhatAGrantReaches(t *testing.T) {
	production, lane, all := access.Scope{
		Lane:        "harbour",
		Environment: "production",
	}, access.Scope{
		Lane: "harbour",
	}, access.Scope{}
	promote, cut := access.By(access.Releaser), access.By(access.Releaser)
	for grant, may := range map[string]struct{ promoteThere, cutInLane, lookAtLane, lookAtAll, elsewhere bool }{
		"releaser":                    {true, true, true, true, true},
		"releaser@harbour":            {true, true, true, true, false},
		"releaser@harbour/production": {true, false, true, true, false},
		"releaser@harbour/staging":    {false, false, true, true, false},
		"releaser@dues":               {false, false, false, true, false},
		"author@harbour":              {false, false, true, true, false},
		"administrator@harbour":       {true, true, true, true, false},
		"administrator":               {true, true, true, true, true},
	} {
		list, err := access.ParseGrants(grant)
		require.NoError(t, err)
		have := access.Grants(list)
		assert.Equal(t, may.promoteThere, have.Allow(promote, production), "%s promotes", grant)
		assert.Equal(t, may.cutInLane, have.Allow(cut, lane), "%s cuts", grant)
		assert.Equal(t, may.lookAtLane, have.Allow(access.Looking, lane), "%s looks at the lane", grant)
		assert.Equal(t, may.lookAtAll, have.Allow(access.Looking, all), "%s looks", grant)
		assert.Equal(
			t, may.elsewhere,
			have.Allow(promote, access.Scope{Lane: "tide-gauges", Environment: "staging"}),
			"%s elsewhere", grant,
		)
	}
	assert.False(t, access.Grants(nil).Allow(access.Looking, all), "nothing granted is nothing allowed")
}

func TestNobodyGivesMoreThanTheyHave(t *testing.T) {
	has, err := access.ParseGrants("releaser@harbour, administrator@dues")
	require.NoError(t, err)
	for text, within := range map[string]bool{"releaser@harbour/staging": true, "releaser": false,
		"approver@harbour": false, "keeper@dues/production": true, "administrator": false} {
		wish, err := access.ParseGrants(text)
		require.NoError(t, err)
		assert.Equal(t, within, access.Grants(wish).Within(has), text)
	}
}

func TestNamesOfPeople(t *testing.T) {
	for _, good := range []string{"m.kai", "backup-job", "m.kai@nordmole.example"} {
		assert.NoError(t, access.CheckName(good))
	}
	for _, bad := range []string{"", "Kai", "a b", "a\nb", "-x", "a@"} {
		assert.Error(t, access.CheckName(bad), bad)
	}
}

// TestRightsOnATargetOfAFleet are none on the fleet; those on the fleet are rights on each target.
func TestRightsOnATargetOfAFleet(t *testing.T) {
	one, whole := access.Grants{must(t, "releaser@gauges/production.north")}, access.Grants{must(t, "releaser@gauges/production")}
	production, north := access.Scope{Lane: "gauges", Environment: "production"},
		access.Scope{Lane: "gauges", Environment: "production.north"}
	south := access.Scope{Lane: "gauges", Environment: "production.south"}
	for _, need := range []access.Need{access.By(access.Releaser), access.Looking} {
		assert.True(t, one.Allow(need, north))
		assert.False(t, one.Allow(need, production))
		assert.False(t, one.Allow(need, south))
		assert.True(t, whole.Allow(need, north))
		assert.True(t, whole.Allow(need, production))
	}
	assert.True(t, one.Allow(access.Looking, access.Scope{Lane: "gauges"}), "as for any environment")
	assert.False(t, access.Grants{must(t, "releaser@gauges/product")}.Allow(access.Looking, production))
}

func must(t *testing.T, grant string) access.Grant {
	g, err := access.ParseGrant(grant)
	require.NoError(t, err)
	return g
}
