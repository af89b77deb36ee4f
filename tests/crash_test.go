package tests

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/internal/wiretap"
	"vorrang/service/api"
)

var update = flag.Bool("update", false, "write the crash matrix into docs/reliability.md")

// voyage is a folder with a step of every mode. Each leaves rows that would
// show if it took effect twice.
func voyage(whole bool) map[string]string {
	files := map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id int PRIMARY KEY, draught_cm int, draught_m numeric);\n" +
			"INSERT INTO vessel SELECT n, 400 + n FROM generate_series(1, 300) n;",
		"1-create-vessel.back.sql": "DROP TABLE vessel;",
		"2-index-berth.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE berth (name text);\n" +
			"CREATE INDEX CONCURRENTLY berth_name ON berth (name);\n" +
			"INSERT INTO berth VALUES ('North quay');",
		"2-index-berth.check.sql": "SELECT count(*) = 1 FROM berth;\nSELECT indisvalid FROM pg_index WHERE indexrelid " +
			"= 'berth_name'::regclass;",
		"2-index-berth.back.sql": "DROP TABLE berth;",
		"3-migrate-draught.sql": "/*---\nmode: batches\nbatch-size: 100\npause: 1ms\n---*/\n" +
			"UPDATE vessel SET draught_m = coalesce(draught_m, 0) + draught_cm / 100.0 WHERE id IN (SELECT id FROM vessel " +
			"WHERE draught_m IS NULL ORDER BY id LIMIT :batch);",
		"3-migrate-draught.check.sql": "SELECT count(*) = 0 FROM vessel WHERE draught_m IS NULL;",
		"3-migrate-draught.back.sql":  "UPDATE vessel SET draught_m = NULL;",
		"4-create-pilot.sql":          "CREATE TABLE pilot (name text);\nINSERT INTO pilot VALUES ('A. Tern');",
		"4-create-pilot.check.sql":    "SELECT count(*) = 1 FROM pilot;",
		"4-create-pilot.back.sql":     "DROP TABLE pilot;",
	}
	if whole { // only the steps that can be part of it
		maps.DeleteFunc(files, func(name, _ string) bool { return name[0] == '2' || name[0] == '3' })
	}
	return files
}

// strikes are the interesting points of a deployment.
var strikes = []struct {
	point   string
	strike  wiretap.Strike
	backOut bool // a fifth step fails, and the deployment backs out
	whole   bool // steps 1 and 4 in one transaction
}{
	{
		"before the first step",
		wiretap.Strike{When: wiretap.Before, Text: "BEGIN; SET LOCAL lock_timeout", Nth: 1},
		false, false,
	},
	{
		"after the first statement of a transaction",
		wiretap.Strike{When: wiretap.After, Text: "CREATE TABLE vessel", Nth: 1},
		false, false,
	},
	{"after its last statement", wiretap.Strike{When: wiretap.After, Text: "INSERT INTO vessel", Nth: 1}, false, false},
	{"before its commit", wiretap.Strike{When: wiretap.Before, Text: "'applied', '1'", Nth: 1}, false, false},
	{"after its commit", wiretap.Strike{When: wiretap.After, Text: "'applied', '1'", Nth: 1}, false, false},
	{
		"before an autocommit step's first begun row",
		wiretap.Strike{When: wiretap.Before, Text: "'begun', '2'", Nth: 1},
		false, false,
	},
	{
		"between the begun row and the first statement",
		wiretap.Strike{When: wiretap.After, Text: "'begun', '2'", Nth: 1},
		false, false,
	},
	{
		"after the first statement in autocommit",
		wiretap.Strike{When: wiretap.After, Text: "CREATE TABLE berth", Nth: 1},
		false, false,
	},
	{
		"between the begun row and a concurrent index build",
		wiretap.Strike{When: wiretap.After, Text: "'begun', '2'", Nth: 2},
		false, false,
	},
	{
		"after the concurrent index build",
		wiretap.Strike{When: wiretap.After, Text: "CREATE INDEX CONCURRENTLY berth_name", Nth: 1},
		false, false,
	},
	{
		"between the begun row and a change of rows",
		wiretap.Strike{When: wiretap.After, Text: "'begun', '2'", Nth: 3},
		false, false,
	},
	{
		"after the change of rows, the last statement",
		wiretap.Strike{When: wiretap.After, Text: "INSERT INTO berth", Nth: 1},
		false, false,
	},
	{
		"before the commit of the applied row",
		wiretap.Strike{When: wiretap.Before, Text: "'applied', '2'", Nth: 1},
		false, false,
	},
	{
		"after the commit of the applied row",
		wiretap.Strike{When: wiretap.After, Text: "'applied', '2'", Nth: 1},
		false, false,
	},
	{
		"between a backfill's begun row and its first batch",
		wiretap.Strike{When: wiretap.After, Text: "'begun', '3'", Nth: 1},
		false, false,
	},
	{
		"after a batch, before its commit",
		wiretap.Strike{When: wiretap.After, Text: "UPDATE vessel SET draught_m = coalesce", Nth: 3},
		false, false,
	},
	{
		"between two batches",
		wiretap.Strike{When: wiretap.Before, Text: "BEGIN; SET LOCAL lock_timeout", Nth: 6},
		false, false,
	},
	{
		"before a backfill's last commit",
		wiretap.Strike{When: wiretap.Before, Text: "'applied', '3'", Nth: 1},
		false, false,
	},
	{
		"backing out: after a way back, before its commit",
		wiretap.Strike{When: wiretap.After, Text: "DROP TABLE pilot", Nth: 1},
		true, false,
	},
	{
		"backing out: between two ways back",
		wiretap.Strike{When: wiretap.After, Text: "'rolled-back', '4'", Nth: 1},
		true, false,
	},
	{
		"backing out: in a way back in autocommit",
		wiretap.Strike{When: wiretap.After, Text: "DROP TABLE berth", Nth: 1},
		true, false,
	},
	{
		"a whole deployment: between two steps",
		wiretap.Strike{When: wiretap.After, Text: "'applied', '1'", Nth: 1},
		false, true,
	},
	{
		"a whole deployment: after its commit",
		wiretap.Strike{When: wiretap.After, Text: "'applied', '4'", Nth: 1},
		false, true,
	},
}

// What became of a voyage that was struck.
const (
	wentOn    = "went on by itself"
	byCheck   = "settled by its check"
	byHand    = "in doubt, settled by hand"
	begunAnew = "half-done, given up and begun again"
	unharmed  = "nothing was lost"
	notStruck = "never came by"
)

// hands are the ways of striking.
var hands = []string{
	"service killed", "connection cut", "target's server stopped", "records' server stopped",
	"cut, then all rolled back",
	"cut, then berth dropped by hand",
}

// TestTheCrashMatrix strikes at every point in every way, lets the same
// promotion run again, and holds the target against an undisturbed one.
func TestTheCrashMatrix(t *testing.T) {
	var mu sync.Mutex
	found := map[string]map[string]string{}
	undisturbed := map[bool]string{false: sail(t, false), true: sail(t, true)}
	assert.Equal(t, "vessel 300 1651.50, berth 1 true, pilot 1, applied 1 2 3 4", undisturbed[false])
	t.Run("each", func(t *testing.T) {
		for _, s := range strikes {
			found[s.point] = map[string]string{}
			for _, hand := range hands {
				t.Run(s.point+", "+hand, func(t *testing.T) {
					t.Parallel()
					became, left := struck(t, s.strike, hand, s.backOut, s.whole)
					assert.Equal(t, undisturbed[s.whole], left, "as after an undisturbed run")
					mu.Lock()
					found[s.point][hand] = became
					mu.Unlock()
				})
			}
		}
	})
	if t.Failed() {
		return
	}
	var table strings.Builder
	fmt.Fprintf(&table, "| struck | %s |\n|---|%s\n", strings.Join(hands, " | "), strings.Repeat("---|", len(hands)))
	for _, s := range strikes {
		fmt.Fprintf(&table, "| %s |", s.point)
		for _, hand := range hands {
			fmt.Fprintf(&table, " %s |", found[s.point][hand])
		}
		table.WriteByte('\n')
	}
	holdTable(t, table.String())
}

// holdTable compares the matrix with the one in the documentation.
func holdTable(t *testing.T, table string) {
	text, whole, name := documented(t, "the crash matrix", table)
	if *update {
		require.NoError(t, os.WriteFile(name, []byte(whole), 0o644))
		return
	}
	assert.Equal(t, whole, text, "run: go test ./tests -run CrashMatrix -update")
}

// documented is docs/reliability.md as it is, and with a table in the place for it.
func documented(t *testing.T, what, table string) (text, whole, name string) {
	opens, closes := "<!-- "+what+"; written by its test -->\n", "<!-- end -->"
	name = filepath.Join(pgtest.Root(), "docs", "reliability.md")
	read, err := os.ReadFile(name)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(read), opens)
	_, after, closed := strings.Cut(rest, closes)
	require.True(t, found && closed, "docs/reliability.md has a place for %s", what)
	return string(read), before + opens + table + closes + after, name
}

const sailed = "lane: harbour\nenvironments: [{name: staging, target: env:TARGET, lock-timeout: 2s}]\n"

// sail is what an undisturbed voyage leaves.
func sail(t *testing.T, whole bool) string {
	database := pgtest.Database(t)
	p := startProcess(t, "TARGET="+database)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(sailed))
	require.NoError(t, err)
	p.submit(voyage(whole))
	require.Equal(t, wentOn, p.toItsEnd(database, client.Promotion{Whole: whole}))
	return haul(t, database)
}

// struck lets a promotion be struck, takes it to its end, and says what became
// of it and what it left.
func struck(t *testing.T, strike wiretap.Strike, hand string, backOut, whole bool) (became, left string) {
	server, recordsServer := pgtest.Shared(t), pgtest.Shared(t)
	kept := ""
	switch hand {
	case hands[2]:
		server = pgtest.Own(t)
	case hands[3]:
		recordsServer = pgtest.Own(t)
		kept = recordsServer.Database(t)
	}
	if kept == "" {
		kept = servicetest.EmptyRecords(t)
	}
	database := server.Database(t)
	tap := wiretap.Open(t, database)
	p := startProcess(t, "TARGET="+tap.URL, "RECORDS="+kept)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(sailed))
	require.NoError(t, err)
	files := voyage(whole)
	fixed := maps.Clone(files)
	if backOut {
		files["5-fail.sql"], files["5-fail.back.sql"] = "SELECT 1/0;", "SELECT 1;"
	}
	p.submit(files)

	strike.Do = func(tap *wiretap.Tap) {
		switch hand {
		case hands[0]:
			p.kill()
		case hands[2]:
			assert.NoError(t, server.Stop("immediate"))
		case hands[3]:
			assert.NoError(t, recordsServer.Stop("immediate"))
			assert.NoError(t, recordsServer.Start())
			return // the way to the target stays
		}
		tap.Cut()
	}
	done := tap.Arm(strike)
	how := client.Promotion{Whole: whole}
	if backOut {
		how.OnFailure = plan.BackOut
	}
	p.strikeDuring(how, done)
	switch hand {
	case hands[0]:
		p.start()
	case hands[2]:
		require.NoError(t, server.Start())
	}
	p.submit(fixed)
	switch hand {
	case hands[4]:
		p.backToNothing(database)
	case hands[5]:
		p.dropHalf(database)
	}
	became = p.toItsEnd(database, client.Promotion{Whole: whole})
	verified, err := p.Verify(t.Context(), "harbour", "")
	require.NoError(t, err)
	assert.Empty(t, verified.Deviations)
	return became, haul(t, database)
}

// strikeDuring begins a promotion and returns once it was struck and has ended.
func (p *process) strikeDuring(how client.Promotion, struck <-chan struct{}) {
	ctx, cancel := context.WithTimeout(p.t.Context(), 60*time.Second)
	defer cancel()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		promoted, err := p.Promote(ctx, "harbour", "staging", how)
		if err == nil {
			_ = p.Follow(ctx, promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }) // it may break off
		}
	}()
	select {
	case <-struck:
	case <-ctx.Done():
		require.Fail(p.t, notStruck)
	}
	if p.command.ProcessState == nil { // it lives, and tells how it ended
		<-ended
	}
	cancel()
	<-ended
}

// toItsEnd promotes until nothing is left to do, as a user would: what is in
// doubt is settled by a look into the database.
func (p *process) toItsEnd(database string, how client.Promotion) string {
	became := unharmed
	for range 6 {
		promoted, err := p.Promote(p.t.Context(), "harbour", "staging", how)
		var refused *client.Error
		if errors.As(err, &refused) && refused.Kind() == "in-doubt" {
			if became = byHand; !p.settleByHand(database) {
				p.giveUp()
				became = begunAnew
			}
			continue
		}
		require.NoError(p.t, err)
		if len(promoted.Settled) > 0 {
			became = byCheck
		}
		if promoted.Nothing {
			return became
		}
		require.NoError(
			p.t,
			p.Follow(p.t.Context(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }),
		)
		ended, err := p.Deployment(p.t.Context(), promoted.Deployment.ID)
		require.NoError(p.t, err)
		if ended.Outcome == deploy.Cancelled { // the gate closed once the check had told what became of a step
			p.giveUp()
			became = begunAnew
			continue
		}
		require.Equal(p.t, deploy.Done, ended.Outcome, "%v", ended.Failure)
		if became == unharmed {
			became = wentOn
		}
	}
	require.Fail(p.t, "it never came to an end")
	return became
}

// giveUp records that nothing is left of the half-done step that cannot go on.
func (p *process) giveUp() {
	asked, err := p.Gate(p.t.Context(), "harbour", "staging", "")
	require.NoError(p.t, err)
	assert.Contains(
		p.t,
		gate.Result{Checks: asked.Checks}.Find(gate.NothingInDoubt).Evidence,
		"what its earlier statements did is no longer so",
	)
	_, err = p.Settle(
		p.t.Context(), "harbour", "staging",
		client.Settlement{Step: "2", As: ledger.SettledUndone, Reason: "somebody dropped it"},
	)
	require.NoError(p.t, err)
}

// backToNothing rolls back beneath everything that the strike left, half-done
// steps too.
func (p *process) backToNothing(database string) {
	for range 4 {
		promoted, err := p.Rollback(p.t.Context(), "harbour", "staging", client.Way{To: "0"}, "staging")
		var refused *client.Error
		if errors.As(err, &refused) && refused.Kind() == "in-doubt" {
			p.settleByHand(database)
			continue
		}
		require.NoError(p.t, err)
		if !promoted.Nothing {
			require.NoError(
				p.t,
				p.Follow(p.t.Context(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }),
			)
			ended, err := p.Deployment(p.t.Context(), promoted.Deployment.ID)
			require.NoError(p.t, err)
			require.Equal(p.t, deploy.Done, ended.Outcome, "%v", ended.Failure)
		}
		require.Equal(
			p.t, "0",
			pgtest.Query(
				p.t, database,
				"SELECT count(*) FROM pg_class WHERE relname IN ('vessel', 'berth', 'berth_name', 'pilot')",
			),
		)
		return
	}
	require.Fail(p.t, "it never came to its beginning")
}

// dropHalf drops what step 2 made by hand, unless step 2 is applied: then that
// would be drift, which is not what is tried here.
func (p *process) dropHalf(database string) {
	status, err := p.Status(p.t.Context(), "harbour", "staging", "all")
	require.NoError(p.t, err)
	for _, s := range status.Steps {
		if s.Number == "2" && s.State != ledger.StatusApplied {
			pgtest.Exec(p.t, database, "DROP TABLE IF EXISTS berth")
		}
	}
}

// settleByHand looks into the database, as the evidence cannot tell. It reports
// whether a step was in doubt.
func (p *process) settleByHand(database string) bool {
	status, err := p.Status(p.t.Context(), "harbour", "staging", "all")
	require.NoError(p.t, err)
	doubtful := slices.IndexFunc(status.Steps, func(s api.StepStatus) bool { return s.State == ledger.StatusInDoubt })
	if doubtful < 0 {
		return false
	}
	number := string(status.Steps[doubtful].Number)
	found, err := p.Evidence(p.t.Context(), "harbour", "staging", number)
	require.NoError(p.t, err)
	require.Equal(p.t, evidence.Unclear, found.Verdict)
	truth := map[string]string{
		"CREATE TABLE berth": "SELECT to_regclass('berth') IS NOT NULL",
		"CREATE INDEX":       "SELECT to_regclass('berth_name') IS NOT NULL",
		"INSERT INTO berth":  "SELECT count(*) > 0 FROM berth", "DROP TABLE berth": "SELECT to_regclass('berth') IS NULL",
	}
	as := ""
	if pgtest.Query(p.t, database, "SELECT to_regclass('berth')") == "null" {
		truth["INSERT INTO berth"] = "SELECT false"
	}
	for begins, query := range truth {
		if strings.HasPrefix(found.SQL, begins) {
			as = map[string]string{"true": ledger.SettledApplied,
				"false": ledger.SettledNotApplied}[pgtest.Query(p.t, database, query)]
		}
	}
	_, err = p.Settle(
		p.t.Context(), "harbour", "staging",
		client.Settlement{Step: number, As: as, Reason: "looked into the database"},
	)
	require.NoError(p.t, err)
	return true
}

// haul is what a voyage left. A step that took effect twice would show.
func haul(t *testing.T, database string) string {
	ask := func(sql string) string { return pgtest.Query(t, database, sql) }
	left := fmt.Sprintf(
		"vessel %s %s",
		ask("SELECT count(*) FROM vessel"),
		ask("SELECT coalesce(round(sum(draught_m), 2), 0) FROM vessel"),
	)
	if ask("SELECT to_regclass('berth')") != "null" {
		left += fmt.Sprintf(
			", berth %s %s",
			ask("SELECT count(*) FROM berth"),
			ask("SELECT indisvalid FROM pg_index WHERE indexrelid = 'berth_name'::regclass"),
		)
	}
	// Applied twice without a way back in between would be two rows of a step.
	applied := ask(
		`WITH took AS (SELECT step, seq, action <> 'rolled-back' AND detail::json ->> 'direction' IS NULL AS forward
			FROM vorrang.ledger
			WHERE action IN ('applied', 'rolled-back') OR action = 'settled' AND detail::json ->> 'as' = 'applied'
				AND detail::json ->> 'next' IS NULL)
		SELECT string_agg(step, ' ' ORDER BY step::int) FROM (
		SELECT step, count(*) FILTER (WHERE seq > (SELECT coalesce(max(seq), 0) FROM took b WHERE b.step = f.step
			AND NOT forward)) AS times
		FROM took f WHERE forward GROUP BY step) s WHERE times = 1`,
	)
	return left + fmt.Sprintf(", pilot %s, applied %s", ask("SELECT count(*) FROM pilot"), applied)
}
