package tests

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
	"vorrang/service/api"
)

// gauges is a fleet, one database each, whose list is in a file, and two services.
type gauges struct {
	t        *testing.T
	services []*process
	records  string
	names    []string
	urls     map[string]string
}

func startGauges(t *testing.T, targets int, waves string) *gauges {
	g := &gauges{t: t, urls: map[string]string{}}
	list := filepath.Join(t.TempDir(), "gauges")
	text := "# the gauges of the harbour\n"
	for i := range targets {
		name := fmt.Sprintf("gauge-%02d", i+1)
		g.names = append(g.names, name)
		g.urls[name] = pgtest.Database(t)
		text += name + " " + g.urls[name] + "\n"
	}
	require.NoError(t, os.WriteFile(list, []byte(text), 0o600))
	g.records = pgtest.Database(t)
	for range 2 {
		g.services = append(g.services, startProcess(t, "RECORDS="+g.records))
	}
	lane := fmt.Sprintf("lane: gauges\nenvironments:\n  - {name: production, targets: \"file:%s\", waves: {%s}, "+
		"gate: {release: not-asked}}\n", list, waves)
	_, err := g.services[0].Declare(t.Context(), "lane.yaml", []byte(lane), "gauges")
	require.NoError(t, err)
	return g
}

// setBroken has the last step fail in a target, or not any more.
func (g *gauges) setBroken(name string, broken bool) {
	parsed, err := url.Parse(g.urls[name])
	require.NoError(g.t, err)
	database := strings.TrimPrefix(parsed.Path, "/")
	pgtest.Exec(g.t, g.urls[name], fmt.Sprintf(`ALTER DATABASE %q SET harbour.broken = '%t'`, database, broken))
}

// gaugeSteps are ten small steps, of which the last fails where a target is broken.
func gaugeSteps() fstest.MapFS {
	folder := fstest.MapFS{"1-reading.sql": {Data: []byte("CREATE TABLE reading (step integer PRIMARY KEY)")}}
	for i := 2; i < 10; i++ {
		folder[fmt.Sprintf("%d-reading.sql", i)] = &fstest.MapFile{Data: fmt.Appendf(nil, "INSERT INTO reading VALUES (%d)", i)}
	}
	folder["10-mast.sql"] = &fstest.MapFile{Data: []byte("DO $$ BEGIN IF current_setting('harbour.broken', true) = 'true' THEN " +
		"RAISE 'the mast is broken'; END IF; END $$")}
	return folder
}

// TestAFleetGoesOnElsewhere: the service that runs a deployment to a fleet is killed in the middle. The
// other one goes on; three targets that are broken are named, the next promotion is about those alone, and
// every target has every step once.
func TestAFleetGoesOnElsewhere(t *testing.T) {
	g := startGauges(t, 24, "canary: 1, size: 8, at-once: 4, tolerate: 3")
	first, second := g.services[0], g.services[1]
	_, err := first.Submit(t.Context(), "gauges", gaugeSteps())
	require.NoError(t, err)
	broken := []string{"gauge-05", "gauge-11", "gauge-20"}
	for _, name := range broken {
		g.setBroken(name, true)
	}
	promoted, err := first.Promote(t.Context(), "gauges", "production", client.Promotion{})
	require.NoError(t, err)
	id := promoted.Fleet.ID
	require.NoError(t, second.FollowFleet(t.Context(), id, func(now *api.FleetDeployment) error {
		if now.Counts[plan.Reached] >= 4 && first.command.ProcessState == nil {
			require.NoError(t, first.command.Process.Kill())
			_ = first.command.Wait()
		}
		return nil
	}))
	ended := g.ended(second, id)
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.Equal(t, broken, exceptionsOf(ended))
	assert.Equal(t, 21, ended.Counts[plan.Reached])
	for _, one := range ended.Targets {
		if slices.Contains(broken, one.Target) {
			assert.Contains(t, one.Message, "the mast is broken")
		}
	}
	for _, name := range broken {
		g.setBroken(name, false)
	}
	again, err := second.Promote(t.Context(), "gauges", "production", client.Promotion{})
	require.NoError(t, err)
	var touched []string
	last := g.ended(second, again.Fleet.ID)
	for _, one := range last.Targets {
		if one.Deployment > 0 {
			touched = append(touched, one.Target)
		}
	}
	assert.Equal(t, broken, touched)
	assert.Equal(t, deploy.Done, last.Outcome, last.Message)
	for _, name := range g.names {
		assert.Equal(t, "8", pgtest.Query(t, g.urls[name], "SELECT count(*) FROM reading"), name)
		history, err := second.Ledger(t.Context(), "gauges", "production."+name, 0)
		require.NoError(t, err)
		assert.Empty(t, history.Chain, name)
		applied := map[string]int{}
		for _, e := range history.Entries {
			if e.Action == ledger.Applied {
				applied[string(e.Step)]++
			}
		}
		assert.Len(t, applied, 10, name)
		for step, n := range applied {
			assert.Equal(t, 1, n, "step %s of %s", step, name)
		}
	}
	running, err := second.Deployments(t.Context(), client.DeploymentQuery{Outcome: string(deploy.Running)})
	require.NoError(t, err)
	assert.Empty(t, running.Deployments)
	assert.Equal(t, "true", pgtest.Query(t, g.records,
		fmt.Sprintf("SELECT records.lives(service)::text FROM records.fleet_deployment WHERE id = %d", id)), "the other one ended it")
}

func (g *gauges) ended(at *process, id int64) (ended *api.FleetDeployment) {
	require.NoError(g.t, at.FollowFleet(g.t.Context(), id, func(now *api.FleetDeployment) error { ended = now; return nil }))
	return ended
}

func exceptionsOf(f *api.FleetDeployment) (names []string) {
	for _, one := range f.Targets {
		if one.Stand.Exception() {
			names = append(names, one.Target)
		}
	}
	return names
}
