package tests

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
)

// TestAFleetInTheConsole: the targets that agree and the odd one, a promotion in waves that is paused and
// cancelled, one that is done, a target that is set aside, and a rollback.
func TestAFleetInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Fleet("staging", 4, "canary: 1, size: 2, at-once: 1, tolerate: 1")
	p.w.Submitted(map[string]string{
		"1-create-vessel.sql":      "/*---\nlock-timeout: none\n---*/\nSELECT pg_advisory_xact_lock(7); CREATE TABLE vessel (id int)",
		"1-create-vessel.back.sql": "DROP TABLE vessel",
	})
	waits := pgtest.Connect(t, p.w.URLs["staging.g1"]) // for whom the canary waits
	_, err := waits.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	if err != nil {
		t.Fatal(err)
	}
	p.signIn()
	p.sees("4 targets")
	p.goTo("/lanes/harbour/staging")
	p.sees("4 targets, all of which agree")
	p.press("Promote")
	p.sees("These steps will be applied to 4 targets")
	p.press("Apply 1 step to staging")
	p.sees("Deployment F1")
	p.sees("Canary")
	p.press("Pause")
	p.sees("no further target begins")
	p.press("Resume")
	p.press("Cancel deployment")
	p.press("Cancel deployment to staging")
	p.sees("cancelled it; 3 targets were not tried")
	if err := waits.Close(t.Context()); err != nil {
		t.Fatal(err)
	}

	pgtest.Exec(t, p.w.URLs["staging.g3"], "CREATE TABLE vessel (by_hand int)")
	p.goTo("/lanes/harbour/staging")
	p.sees("1 is odd")
	p.sees("1 of 4 targets (g3)")
	p.press("Gate")
	p.sees("The gate is clear: what holds is tolerated")
	p.press("Preview")
	p.sees("This is the plan of 4 targets (g1, g2, g3, g4)")
	p.press("Promote")
	p.sees("Targets whose gate is held are passed over, and named: 1 exception tolerated")
	p.press("Apply 1 step to staging")
	p.sees("Deployment F2")
	p.sees("1 target does not have what was asked for")
	p.sees("3 done")

	p.goTo("/lanes/harbour/staging.g3")
	p.press("Set aside")
	p.fill("words", "its mast is being repaired")
	p.press("Set aside staging.g3")
	p.goTo("/lanes/harbour/staging")
	p.sees("3 targets")
	p.sees("its mast is being repaired")
	p.press("Roll back")
	p.sees("DROP TABLE vessel")
	p.fill("confirm", "staging")
	p.press("Roll 1 step back on staging")
	p.sees("Deployment F3")
	p.sees("3 done")
	p.goTo("/lanes/harbour/staging")
	p.press("Take back")
	p.sees("4 targets")
	p.w.Promoted("staging.g1") // which most targets have not
	p.goTo("/lanes/harbour/staging")
	p.press("Roll back")
	p.sees("the last step of each target")
	p.sees("This SQL will run on 1 target of harbour / staging")
	p.sees("DROP TABLE vessel")
	p.goTo("/lanes/harbour/staging")
	p.press("Deployments")
	p.sees("F3")
	for range 2 {
		begun, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		require.NoError(t, err)
		p.w.FleetEnded(begun)
		begun, err = p.w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")
		require.NoError(t, err)
		p.w.FleetEnded(begun)
	}
	p.goTo("/deployments")
	p.sees("To fleets")
	p.sees("F7")
	p.wait(`!document.body.innerText.includes("F1")`)
	p.press("Older")
	p.sees("F1")
	p.wait(`!document.body.innerText.includes("F7")`)
	p.fill("step", "1")
	p.press("Search")
	p.sees("F7")
	p.fill("actor", "nobody")
	p.press("Search")
	p.sees("No deployment matches.")
	p.wait(`!document.body.innerText.includes("To fleets")`)
}
