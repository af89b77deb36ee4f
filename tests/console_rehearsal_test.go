package tests

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/internal/pgtest"
)

// TestARehearsalIsWatchedAndCancelledInTheConsole: with rows, live, and once it is over
// with what came of it, also after the page is opened again.
func TestARehearsalIsWatchedAndCancelledInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-berth.sql": "CREATE TABLE public.berth (id int PRIMARY KEY, depth int);"})
	p.w.Promoted("staging")
	pgtest.Exec(t, p.w.URLs["staging"], "INSERT INTO public.berth SELECT n, n FROM generate_series(1, 40) n")
	p.w.Submitted(map[string]string{
		"2-tidy.sql": "DELETE FROM public.berth WHERE id > 30;", "2-tidy.back.sql": "SELECT 1;",
		"3-long.sql": "SELECT pg_sleep(600);", "3-long.back.sql": "SELECT 1;",
	})
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.press("Preview")
	p.press("Rehearse")
	p.sees("Rehearsal 1 runs")
	p.sees("3 long …")
	p.press("Cancel the rehearsal")
	p.sees("The newest rehearsal is cancelled: Ship Pilot cancelled it")

	p.w.Submitted(map[string]string{"3-long.sql": "SELECT 3;"})
	p.goTo("/lanes/harbour/staging")
	p.press("Preview")
	p.sees("The newest rehearsal is cancelled")
	p.fill("rows", "100")
	p.press("Rehearse")
	p.sees("The rehearsal did not pass: the way back of step 2 is incomplete")
	p.sees("public.berth: 10 of 40 rows are gone")
	p.sees("with 40 rows of 1 table")
	assert.Equal(t, "40", pgtest.Query(t, p.w.URLs["staging"], "SELECT count(*)::text FROM "+
		"public.berth"), "it was only read")
}
