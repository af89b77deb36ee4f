package service_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// stands are the targets of a deployment to a fleet, with how each stands.
func stands(f *api.FleetDeployment) map[string]plan.Stand {
	all := map[string]plan.Stand{}
	for _, t := range f.Targets {
		all[t.Target] = t.Stand
	}
	return all
}

func promotedFleet(t *testing.T, w *servicetest.World) *api.FleetDeployment {
	t.Helper()
	return w.FleetEnded(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})))
}

func TestAFleetGetsStepsInWaves(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 5, "canary: 1, size: 2, at-once: 2")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})

	f := promotedFleet(t, w)
	assert.Equal(t, deploy.Done, f.Outcome, f.Message)
	assert.Equal(t, map[plan.Stand]int{plan.Reached: 5}, f.Counts)
	var waves []int
	for _, target := range f.Targets {
		waves = append(waves, target.Wave)
		d := must(w.Deployment(t.Context(), target.Deployment))
		assert.Equal(t, "staging."+target.Target, d.Environment)
		assert.Equal(t, f.ID, d.Fleet)
		assert.Equal(t, deploy.Done, d.Outcome)
	}
	assert.Equal(t, []int{1, 2, 2, 3, 3}, waves)
	for i, target := range f.Targets {
		for _, later := range f.Targets[i+1:] {
			if later.Wave > target.Wave {
				assert.False(t, later.BeganAt.Before(*target.EndedAt), "%s began before %s had ended", later.Target, target.Target)
			}
		}
	}
	for place, url := range w.URLs {
		if strings.HasPrefix(place, "staging.") {
			assert.Equal(t, "0", pgtest.Query(t, url, "SELECT count(*) FROM tide"), place)
		}
	}

	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.NotNil(t, status.Fleet)
	require.Len(t, status.Fleet.Groups, 1, "all agree")
	assert.Equal(t, []string{"g1", "g2", "g3", "g4", "g5"}, status.Fleet.Groups[0].Targets)
	assert.Empty(t, status.Trouble)
	assert.EqualValues(t, "1", status.At)

	again := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	assert.True(t, again.Nothing)
	of := must(w.Deployments(t.Context(), client.DeploymentQuery{Lane: "harbour", Environment: "staging"}))
	assert.Len(t, of.Deployments, 5, "those of a fleet are those of its targets")
	fleets := must(w.FleetDeployments(t.Context(), client.DeploymentQuery{Lane: "harbour"}))
	require.Len(t, fleets.Deployments, 1)
	assert.Equal(t, 5, fleets.Deployments[0].Counts[plan.Reached])

	for query, found := range map[client.DeploymentQuery]int{
		{Outcome: "done", Step: "1", Actor: fleets.Deployments[0].Actor, Environment: "staging"}: 1,
		{Outcome: "failed"}: 0, {Step: "2"}: 0, {Actor: "nobody"}: 0, {Release: "R1"}: 0, {Environment: "production"}: 0,
	} {
		assert.Len(t, must(w.FleetDeployments(t.Context(), query)).Deployments, found, "%+v", query)
	}
	_, err := w.FleetDeployments(t.Context(), client.DeploymentQuery{Step: "x y"})
	assert.ErrorContains(t, err, "step: ")

	_, err = w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")
	require.ErrorContains(t, err, "g1, g2, g3, g4, g5: there is no way back for step 1 (tide)")
}

// TestBrokenTargetsAreNamed: those that are tolerated do not stop the others, and the next promotion
// is about them alone.
func TestBrokenTargetsAreNamed(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 6, "canary: 1, size: 2, at-once: 2, tolerate: 2")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)", "1-tide.back.sql": "DROP TABLE tide"})
	pgtest.Exec(t, w.URLs["staging.g3"], "CREATE TABLE tide (of_hand text)")
	existing := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.Len(t, existing.Fleet.Groups, 2)
	assert.Equal(t, []string{"g3"}, existing.Fleet.Groups[1].Targets)
	require.NotEmpty(t, existing.Trouble)
	assert.Contains(t, existing.Trouble[0].Message, "1 of 6 targets (g3): ")
	pgtest.Exec(t, w.URLs["staging.g3"], "DROP TABLE tide")
	pgtest.Exec(t, w.URLs["staging.g5"], "CREATE VIEW public.nothing AS SELECT 1; DROP VIEW public.nothing")

	w.Submitted(map[string]string{"2-mark.sql": "DO $$ BEGIN IF current_database() = '" +
		databaseOf(t, w.URLs["staging.g3"]) + "' THEN RAISE 'no mark'; END IF; END $$", "2-mark.back.sql": "SELECT 1"})
	f := promotedFleet(t, w)
	assert.Equal(t, deploy.Failed, f.Outcome)
	assert.Equal(t, plan.Failed, stands(f)["g3"])
	assert.Equal(t, 5, f.Counts[plan.Reached])
	assert.Contains(t, f.Message, "1 target does not have what was asked for")

	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.Len(t, status.Fleet.Groups, 2)
	assert.Len(t, status.Fleet.Groups[0].Targets, 5)
	assert.Equal(t, []string{"g3"}, status.Fleet.Groups[1].Targets)

	before := must(w.Deployments(t.Context(), client.DeploymentQuery{Lane: "harbour", Limit: 500}))
	second := promotedFleet(t, w)
	assert.Equal(t, plan.Failed, stands(second)["g3"])
	after := must(w.Deployments(t.Context(), client.DeploymentQuery{Lane: "harbour", Limit: 500}))
	assert.Len(t, after.Deployments, len(before.Deployments)+1, "only the broken one is touched")

	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging.g1", client.Way{To: "0"}, "staging.g1")))
	last := w.FleetEnded(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")))
	assert.Equal(t, deploy.Done, last.Outcome, last.Message)
	assert.Zero(t, last.Targets[0].Deployment, "g1 has nothing to go back")
	back := w.FleetEnded(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{To: "0"}, "staging")))
	nothing := must(w.PreviewBack(t.Context(), "harbour", "staging", client.Way{Last: 1}))
	assert.Empty(t, nothing.Actions)
	assert.True(t, must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")).Nothing)
	assert.Equal(t, deploy.Done, back.Outcome, back.Message)
	assert.Equal(t, 6, back.Counts[plan.Reached])
}

// TestTargetsWithTheSameTroubleAgree: however many there are, and whatever each one's server said.
func TestTargetsWithTheSameTroubleAgree(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 6, "canary: 1, tolerate: 5")
	w.Submitted(map[string]string{"1-mark.sql": "DO $$ BEGIN IF current_database() IN ('" + databaseOf(t, w.URLs["staging.g3"]) +
		"', '" + databaseOf(t, w.URLs["staging.g4"]) + "') THEN RAISE 'no mark in %', current_database(); END IF; END $$"})
	assert.Equal(t, 2, promotedFleet(t, w).Counts[plan.Failed])
	for i, target := range []string{"staging.g5", "staging.g6"} {
		require.NoError(t, os.WriteFile(w.Files[target], []byte(fmt.Sprintf("postgres://postgres:x@127.0.0.1:%d/gauge", i+1)), 0o600))
	}
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	var groups [][]string
	for _, g := range status.Fleet.Groups {
		groups = append(groups, g.Targets)
	}
	assert.Equal(t, [][]string{{"g1", "g2"}, {"g3", "g4"}, {"g5", "g6"}}, groups)
	require.Len(t, status.Trouble, 2)
	failed, away := status.Trouble[0], status.Trouble[1]
	assert.Contains(t, failed.Message, "2 of 6 targets (g3, g4): g3: step 1 (mark) failed in deployment ")
	assert.Equal(t, "staging", failed.Remedies[1].Arguments.Environment, "one promotion for both")
	assert.Contains(t, away.Message, "2 of 6 targets (g5, g6): g5: ")
	assert.Contains(t, away.Message, "127.0.0.1:1")
}

func databaseOf(t *testing.T, url string) string {
	return pgtest.Query(t, url, "SELECT current_database()")
}

// TestATargetThatFailsKeepsNobodyWaiting: where others have the step, it is no canary. Where nobody has it, the step may
// be at fault, and is tried where it failed before.
func TestATargetThatFailsKeepsNobodyWaiting(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 4, "canary: 1, size: 1, at-once: 1")
	fails := func(targets ...string) string {
		var names []string
		for _, target := range targets {
			names = append(names, "'"+databaseOf(t, w.URLs["staging."+target])+"'")
		}
		return "DO $$ BEGIN IF current_database() IN (" + strings.Join(names, ", ") + ") THEN RAISE 'no mark'; END IF; END $$"
	}
	w.Submitted(map[string]string{"1-mark.sql": fails("g1", "g2")})
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Failed, "g2": plan.Waiting, "g3": plan.Waiting, "g4": plan.Waiting},
		stands(promotedFleet(t, w)))
	w.Submitted(map[string]string{"1-mark.sql": fails("g2")})
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Failed, "g3": plan.Waiting, "g4": plan.Waiting},
		stands(promotedFleet(t, w)), "the canary that failed is tried again, and nothing is tolerated")
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Failed, "g3": plan.Reached, "g4": plan.Reached},
		stands(promotedFleet(t, w)), "what fails on g2 alone does not keep g3 and g4 from it")
	w.Submitted(map[string]string{"2-light.sql": "SELECT 2"})
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Failed, "g3": plan.Reached, "g4": plan.Reached},
		stands(promotedFleet(t, w)), "nor from a later step, which nobody has")
}

// TestADeadCanaryStopsAFleet: no other target gets the steps.
func TestADeadCanaryStopsAFleet(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 4, "canary: 1, size: 3, tolerate: 3")
	w.Submitted(map[string]string{"1-broken.sql": "SELECT 1/0"})
	f := promotedFleet(t, w)
	assert.Equal(t, deploy.Failed, f.Outcome)
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Failed, "g2": plan.Waiting, "g3": plan.Waiting, "g4": plan.Waiting}, stands(f))
	assert.Contains(t, f.Message, "canary")
	assert.Contains(t, f.Message, "3 targets were not tried")
}

func refusal(t *testing.T, w *servicetest.World, environment string) *client.Error {
	t.Helper()
	_, err := w.Promote(t.Context(), "harbour", environment, client.Promotion{})
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	return refused
}

// followed are what the event stream of a deployment to a fleet brings, until it ends.
func followed(t *testing.T, from *client.Client, id int64) <-chan api.FleetDeployment {
	t.Helper()
	at := &servicetest.World{Client: from}
	answer := at.Ask(t, http.MethodGet, fmt.Sprintf("/api/v1/fleet-deployments/%d", id), nil,
		map[string]string{"Accept": "text/event-stream"})
	require.Equal(t, "text/event-stream", answer.Header.Get("Content-Type"))
	heard := make(chan api.FleetDeployment, 100)
	go func() {
		defer close(heard)
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			if data, is := strings.CutPrefix(lines.Text(), "data: "); is {
				var f api.FleetDeployment
				assert.NoError(t, json.Unmarshal([]byte(data), &f))
				heard <- f
			}
		}
	}()
	return heard
}

// TestAFleetIsPausedAndCancelled, by whichever service is asked.
func TestAFleetIsPausedAndCancelled(t *testing.T) {
	w := servicetest.Start(t)
	beside := w.Beside()
	w.Fleet("staging", 4, "canary: 1, size: 1, at-once: 1")
	w.Submitted(map[string]string{"1-wait.sql": waiting})
	release := kept(t, w.URLs["staging.g1"])
	f := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Fleet
	busy := refusal(t, w, "staging")
	assert.Contains(t, busy.Detail, fmt.Sprintf("deployment F%d to the fleet staging", f.ID))

	require.Eventually(t, func() bool {
		return stands(must(w.FleetDeployment(t.Context(), f.ID)))["g1"] == plan.Underway
	}, 20*time.Second, 20*time.Millisecond)
	heard := followed(t, beside, f.ID) // from the service that does not run it
	assert.Len(t, (<-heard).Targets, 4, "first, all of them")

	paused := must(beside.PauseFleet(t.Context(), f.ID))
	for now := range heard {
		assert.Empty(t, now.Targets, "none stands in another way")
		if now.Paused != "" {
			break
		}
	}
	assert.Equal(t, "pilot", paused.Paused)
	require.Eventually(t, func() bool { return len(w.Logged("is paused")) > 0 }, 20*time.Second, 20*time.Millisecond)
	release()
	holds := kept(t, w.URLs["staging.g2"])
	require.Eventually(t, func() bool {
		return stands(must(w.FleetDeployment(t.Context(), f.ID)))["g1"] == plan.Reached
	}, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, plan.Waiting, stands(must(w.FleetDeployment(t.Context(), f.ID)))["g2"])
	must(beside.ResumeFleet(t.Context(), f.ID))
	require.Eventually(t, func() bool {
		return stands(must(w.FleetDeployment(t.Context(), f.ID)))["g2"] == plan.Underway
	}, 20*time.Second, 20*time.Millisecond)
	must(beside.CancelFleet(t.Context(), f.ID))
	require.NoError(t, w.FollowFleet(t.Context(), f.ID, func(now *api.FleetDeployment) error { f = now; return nil }))
	holds()
	assert.Equal(t, deploy.Cancelled, f.Outcome)
	assert.Equal(t, map[string]plan.Stand{
		"g1": plan.Reached, "g2": plan.Cancelled, "g3": plan.Waiting, "g4": plan.Waiting,
	}, stands(f))
	g1, g2, last := []plan.Stand{}, []plan.Stand{}, api.FleetDeployment{}
	for last = range heard {
		for _, t := range last.Targets {
			switch t.Target {
			case "g1":
				g1 = append(g1, t.Stand)
			case "g2":
				g2 = append(g2, t.Stand)
			default:
				assert.Fail(w.T, "told again, and nothing changed", t.Target)
			}
		}
	}
	assert.Equal(t, []plan.Stand{plan.Reached}, g1)
	assert.Equal(t, plan.Cancelled, g2[len(g2)-1]) // what happens within a moment is told together
	assert.Equal(t, deploy.Cancelled, last.Outcome)
	_, err := w.PauseFleet(t.Context(), f.ID)
	require.ErrorContains(t, err, "ended")
	_, gone := w.FleetDeployment(t.Context(), 999)
	for _, refused := range []error{err, gone} {
		var answered *client.Error
		require.ErrorAs(t, refused, &answered)
		assert.Contains(t, answered.Next(), "vorrang deployments -fleets", "which lists them")
	}
}

// TestAnApprovalOfAFleet is one of each of its targets.
func TestAnApprovalOfAFleet(t *testing.T) {
	w := servicetest.Start(t)
	w.Gates(map[string]string{"staging": "approvals: 1, previous-environment: not-asked"})
	w.Fleet("staging", 3, "canary: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	must(w.Cut(t.Context(), "harbour", client.Cutting{Name: "spring"}))
	of := client.Promotion{Release: "spring"}
	_, err := w.Promote(t.Context(), "harbour", "staging", of)
	require.ErrorContains(t, err, "3 targets of 3 cannot take part")
	approver := w.As("approver", "approver@harbour/staging")
	must(approver.Approve(t.Context(), "harbour", "staging", "spring", ""))
	assert.Equal(t, "clear", must(w.Gate(t.Context(), "harbour", "staging", "spring")).Gate)
	must(approver.WithdrawApproval(t.Context(), "harbour", "staging", "spring"))
	assert.Equal(t, "held", must(w.Gate(t.Context(), "harbour", "staging", "spring")).Gate)
	must(approver.Approve(t.Context(), "harbour", "staging", "spring", ""))
	assert.Equal(t, deploy.Done, w.FleetEnded(must(w.Promote(t.Context(), "harbour", "staging", of))).Outcome)
	_, err = approver.Approve(t.Context(), "harbour", "staging", "spring", "")
	require.ErrorContains(t, err, "would bring nothing to staging.g1")
}

// TestAFleetGetsWhatItsCanaryGot: steps that are submitted, and texts that are edited, while it runs reach no
// target by it.
func TestAFleetGetsWhatItsCanaryGot(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 4, "canary: 1, size: 1, at-once: 1, tolerate: 3")
	w.Submitted(map[string]string{"1-wait.sql": waiting, "3-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	release := kept(t, w.URLs["staging.g1"])
	f := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Fleet
	w.Submitted(map[string]string{"4-later.sql": "CREATE TABLE later (id int)"})
	second := kept(t, w.URLs["staging.g2"])
	release()
	require.Eventually(t, func() bool {
		return stands(must(w.FleetDeployment(t.Context(), f.ID)))["g2"] == plan.Underway
	}, 20*time.Second, 20*time.Millisecond)
	w.Submitted(map[string]string{"2-between.sql": "CREATE TABLE between_them (id int)"})
	second()
	require.NoError(t, w.FollowFleet(t.Context(), f.ID, func(now *api.FleetDeployment) error { f = now; return nil }))
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Reached, "g3": plan.Held, "g4": plan.Held}, stands(f))
	assert.Contains(t, f.Targets[2].Message, "step 2 was submitted or edited after the deployment to the fleet began")
	for place, has := range map[string]string{"g1": "tide", "g2": "tide", "g3": "", "g4": ""} {
		assert.Equal(t, has, pgtest.Query(t, w.URLs["staging."+place],
			"SELECT coalesce(string_agg(relname, ' '), '') FROM pg_class WHERE relname IN ('tide', 'later', 'between_them')"), place)
	}
}

// TestWhatIsOfOneTarget needs one named, and works on it alone.
func TestWhatIsOfOneTarget(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 3, "canary: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	shown := must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{}))
	require.Len(t, shown.Fleet, 1)
	assert.Equal(t, []string{"g1", "g2", "g3"}, shown.Fleet[0].Targets)
	assert.Len(t, shown.Actions, 1)
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{Shown: "0123456789abcdef"})
	require.ErrorContains(t, err, "3 targets of 3 cannot take part, and 0 are tolerated: g1, g2, g3: the plan is not the one "+
		"that was shown")
	_, err = w.Standalone(t.Context(), "harbour", "staging", client.Promotion{})
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "fleet", refused.Kind())
	assert.Equal(t, []string{"g1", "g2", "g3"}, refused.Targets)
	assert.Equal(t, deploy.Done, w.Promoted("staging.g2").Outcome)
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	require.Len(t, status.Fleet.Groups, 2)
	assert.Equal(t, []string{"g1", "g3"}, status.Fleet.Groups[0].Targets)
	assert.Len(t, must(w.Preview(t.Context(), "harbour", "staging.g1", client.Promotion{})).Actions, 1)
	shown = must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{}))
	require.Len(t, shown.Fleet, 2)
	assert.Equal(t, []string{"g2"}, shown.Fleet[1].Targets, "which has nothing to do")
	_, err = w.Status(t.Context(), "harbour", "staging.g9", "none")
	require.ErrorContains(t, err, "its targets are g1, g2, g3")
	_, err = w.Status(t.Context(), "harbour", "development.g1", "none")
	require.ErrorContains(t, err, "it has one target")
	verified := must(w.Verify(t.Context(), "harbour", "staging"))
	assert.Equal(t, []string{"staging.g2"}, verified.Environments)
	assert.Len(t, verified.Empty, 2, "nothing was deployed to the others")
	must(w.Freeze(t.Context(), "harbour", "staging", time.Time{}, w.Now().AddDate(0, 0, 1), "spring tide"))
	assert.Contains(t, refusal(t, w, "staging").Detail, "spring tide")
	assert.Contains(t, refusal(t, w, "staging.g1").Detail, "spring tide")
}

func deploymentOfTarget(f *api.FleetDeployment, target string) int64 {
	i := slices.IndexFunc(f.Targets, func(t api.FleetTarget) bool { return t.Target == target })
	return f.Targets[i].Deployment
}

// TestAFleetStandsInAList: what is wrong in it is said without what stands there, and a new line is a
// new target.
func TestAFleetStandsInAList(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	file := t.TempDir() + "/gauges"
	const secret = "high-water"
	list := func(lines ...string) {
		require.NoError(t, os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o600))
	}
	line := func(environment string) string { return environment + " " + w.URLs[environment] }
	list("# the gauges", "", line("staging"))
	declaration := []byte("lane: gauges\nenvironments:\n  - {name: all, targets: \"file:" + file + "\"}\n")
	_, err := w.Declare(t.Context(), "lane.yaml", declaration, "gauges")
	require.ErrorContains(t, err, "is the database of", "staging is another lane's")
	url := pgtest.Database(t)
	list("one " + url)
	_, err = w.Declare(t.Context(), "lane.yaml", declaration, "gauges")
	require.NoError(t, err)
	_, err = w.Submit(t.Context(), "gauges", os.DirFS(w.Steps))
	require.NoError(t, err)
	assert.Equal(t, 1, w.FleetEnded(must(w.Promote(t.Context(), "gauges", "all", client.Promotion{}))).Counts[plan.Reached])
	twoURL := pgtest.Database(t)
	list("one "+url, "two   "+twoURL)
	status := must(w.Status(t.Context(), "gauges", "all", "none"))
	assert.Equal(t, 2, status.Fleet.Targets)
	f := w.FleetEnded(must(w.Promote(t.Context(), "gauges", "all", client.Promotion{})))
	assert.Equal(t, map[string]plan.Stand{"one": plan.Reached, "two": plan.Reached}, stands(f))
	again, err := w.Declare(t.Context(), "lane.yaml", declaration)
	require.NoError(t, err, "nothing is taken out of the fleet by the same declaration")
	assert.Empty(t, again.Changes)
	assert.False(t, again.Changed)
	assert.Len(t, again.Lane.Environments[0].Fleet.Targets, 2)
	assert.Equal(t, "file:"+file+"#two", must(w.Status(t.Context(), "gauges", "all.two", "none")).Target)

	w.Submitted(map[string]string{"2-mark.sql": "SELECT 2"})
	_, err = w.Submit(t.Context(), "gauges", os.DirFS(w.Steps))
	require.NoError(t, err)
	second := must(w.Status(t.Context(), "gauges", "all.two", "none"))
	list("one "+url, "two "+url)
	assert.Contains(t, must(w.Status(t.Context(), "gauges", "all", "none")).Trouble[0].Message,
		"1 of 2 targets (two): this database's ledger says that it belongs to gauges/all.one, and not to gauges/all.two")
	list("one " + url)
	status = must(w.Status(t.Context(), "gauges", "all", "none"))
	assert.Equal(t, 2, status.Fleet.Targets, "a fleet with half of its lines is not whole")
	assert.Equal(t, []string{"two"}, status.Fleet.Gone)
	require.Len(t, status.Trouble, 1)
	assert.Equal(t, "1 of 2 targets (two): it no longer stands in the list of targets in file:"+file, status.Trouble[0].Message)
	_, err = w.Promote(t.Context(), "gauges", "all", client.Promotion{})
	require.ErrorContains(t, err, "1 target of 2 cannot take part")
	must(w.SetAside(t.Context(), "gauges", "all.two", "its mast is gone"))
	status = must(w.Status(t.Context(), "gauges", "all", "none"))
	assert.Equal(t, 1, status.Fleet.Targets, "what is gone, and meant to be")
	assert.Empty(t, status.Fleet.Gone)
	assert.Empty(t, status.Fleet.Aside)
	assert.Equal(t, map[string]plan.Stand{"one": plan.Reached},
		stands(w.FleetEnded(must(w.Promote(t.Context(), "gauges", "all", client.Promotion{})))))
	list("one "+url, "two "+twoURL)
	assert.Len(t, must(w.Status(t.Context(), "gauges", "all", "none")).Fleet.Aside, 1, "it came back, and is set aside still")
	require.NoError(t, w.TakeBack(t.Context(), "gauges", "all.two"))
	assert.Equal(t, second.At, must(w.Status(t.Context(), "gauges", "all.two", "none")).At)

	for wrong, message := range map[string]string{
		"one " + secret + " x": "line 1 is not a name and a connection URL",
		"One " + secret:        "line 1 does not begin with a target's name",
		"one a\none " + secret: "line 2: one stands there twice",
		"# " + secret:          "is empty",
	} {
		list(wrong)
		_, err := w.Promote(t.Context(), "gauges", "all", client.Promotion{})
		require.ErrorContains(t, err, message)
		assert.NotContains(t, err.Error(), secret)
		status := must(w.Status(t.Context(), "gauges", "all", "none"))
		require.Len(t, status.Trouble, 1, wrong)
		assert.Contains(t, status.Trouble[0].Message, message)
		assert.NotContains(t, fmt.Sprint(status), secret)
	}
	require.NoError(t, os.Remove(file))
	again, err = w.Declare(t.Context(), "lane.yaml", declaration)
	require.NoError(t, err)
	assert.Empty(t, again.Changes)
	assert.Contains(t, again.Asks[0].Unread, "is not there")
	assert.Contains(t, must(w.Status(t.Context(), "gauges", "all", "none")).Trouble[0].Message, "is not there")
}

// TestARehearsalCountsForTargetsThatLookTheSame, and for no other.
func TestARehearsalCountsForTargetsThatLookTheSame(t *testing.T) {
	w := servicetest.Start(t)
	w.Gates(map[string]string{"staging": "rehearsal: required, release: not-asked, previous-environment: not-asked"})
	w.Fleet("staging", 3, "canary: 1, tolerate: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)", "1-tide.back.sql": "DROP TABLE tide"})
	assert.Contains(t, refusal(t, w, "staging").Detail, "3 targets of 3 cannot take part")
	must(w.Rehearse(t.Context(), "harbour", "staging.g1", client.Rehearsal{}, nil))
	assert.Equal(t, "clear", must(w.Gate(t.Context(), "harbour", "staging", "")).Gate)
	pgtest.Exec(t, w.URLs["staging.g3"], "CREATE SCHEMA elsewhere")
	f := promotedFleet(t, w)
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Reached, "g3": plan.Held}, stands(f))
}

// TestARollbackOfAFleetGoesNoFurtherThanItSaid: where a target's history goes on meanwhile, "the last step" is
// another one there.
func TestARollbackOfAFleetGoesNoFurtherThanItSaid(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 3, "canary: 1, size: 1, at-once: 1, tolerate: 1")
	files := map[string]string{}
	for i := 1; i < 4; i++ {
		files[fmt.Sprintf("%d-a.sql", i)] = "SELECT 1"
		files[fmt.Sprintf("%d-a.back.sql", i)] = "SELECT 1"
	}
	files["3-a.back.sql"] = "SELECT pg_advisory_xact_lock(7)"
	w.Submitted(files)
	promotedFleet(t, w)
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging.g2", client.Way{Last: 1}, "staging.g2"))) // it is odd, at step 2
	release := kept(t, w.URLs["staging.g1"])
	f := must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 2}, "staging")).Fleet     // 3, 2 on g1 and g3; 2, 1 on g2
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging.g3", client.Way{Last: 1}, "staging.g3"))) // half of it by hand
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging.g2", client.Way{Last: 2}, "staging.g2"))) // all of it
	release()
	require.NoError(t, w.FollowFleet(t.Context(), f.ID, func(now *api.FleetDeployment) error { f = now; return nil }))
	assert.Equal(t, map[string]plan.Stand{"g1": plan.Reached, "g2": plan.Reached, "g3": plan.Reached}, stands(f))
	assert.Contains(t, f.Targets[1].Message, "there was nothing to do")
	for _, target := range []string{"staging.g1", "staging.g3"} {
		assert.EqualValues(t, "1", must(w.Status(t.Context(), "harbour", target, "none")).At, target)
	}
}

// TestAFleetIsScheduled: at its time, in waves, as whoever scheduled it.
func TestAFleetIsScheduled(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 2, "canary: 1")
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{At: time.Now().Add(time.Second)}))
	require.NotNil(t, promoted.Scheduled)
	var begun int64
	require.Eventually(t, func() bool {
		for _, one := range must(w.Scheduled(t.Context(), "harbour", "", client.ListQuery{})).Scheduled {
			begun = one.Fleet
		}
		return begun != 0
	}, 20*time.Second, 20*time.Millisecond)
	var f *api.FleetDeployment
	require.NoError(t, w.FollowFleet(t.Context(), begun, func(now *api.FleetDeployment) error { f = now; return nil }))
	assert.Equal(t, deploy.Done, f.Outcome)
	assert.Equal(t, "pilot", f.Actor)
}
