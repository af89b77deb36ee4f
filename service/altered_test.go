package service_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// A step's SQL can reach the ledger's table if its role owns it, hidden from the
// review. Each look sees what it did to the table.
func TestALedgerThatWasAlteredHoldsTheGate(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);"})
	w.Promoted("staging")
	w.Submitted(map[string]string{"2-b.sql": "CREATE TABLE b (id int);"})
	url := w.URLs["staging"]
	pgtest.Exec(t, url, "CREATE FUNCTION forge() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'")
	holds := func() gate.Check {
		return gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
	}
	require.Equal(t, gate.Pass, holds().Verdict)
	for says, c := range map[string]struct{ do, undo string }{
		"it has the trigger forge":                             {"CREATE TRIGGER forge BEFORE INSERT ON vorrang.ledger FOR EACH ROW EXECUTE FUNCTION forge()", "DROP TRIGGER forge ON vorrang.ledger"},
		"its trigger append_only is gone, disabled or another": {"ALTER TABLE vorrang.ledger DISABLE TRIGGER append_only", "ALTER TABLE vorrang.ledger ENABLE TRIGGER append_only"},
		"it has the rule forge":                                {"CREATE RULE forge AS ON DELETE TO vorrang.ledger DO INSTEAD NOTHING", "DROP RULE forge ON vorrang.ledger"},
		"it has row security":                                  {"ALTER TABLE vorrang.ledger ENABLE ROW LEVEL SECURITY", "ALTER TABLE vorrang.ledger DISABLE ROW LEVEL SECURITY"},
		"everybody may write to it":                            {"GRANT INSERT ON vorrang.ledger TO PUBLIC", "REVOKE INSERT ON vorrang.ledger FROM PUBLIC"},
		"its columns are others":                               {"ALTER TABLE vorrang.ledger ALTER COLUMN actor SET DEFAULT 'me'", "ALTER TABLE vorrang.ledger ALTER COLUMN actor DROP DEFAULT"},
		"it is no ordinary table any more":                     {"CREATE TABLE child () INHERITS (vorrang.ledger)", "DROP TABLE child"},
	} {
		pgtest.Exec(t, url, c.do)
		check := holds()
		assert.Equal(t, gate.Hold, check.Verdict, says)
		assert.Equal(t, "the ledger's own table is not as Vorrang made it: "+says, check.Evidence)
		_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		assert.ErrorContains(t, err, "not as Vorrang made it", says)
		verified := must(w.Verify(t.Context(), "harbour", "staging"))
		require.NotEmpty(t, verified.Deviations, says)
		assert.Contains(t, verified.Deviations[0].What, says)
		pgtest.Exec(t, url, c.undo)
	}
	pgtest.Exec(t, url, "CREATE OR REPLACE FUNCTION vorrang.refuse_change() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'")
	assert.Contains(t, holds().Evidence, "its trigger append_only is gone, disabled or another")
}

// Entries with a right chain that no deployment of this service wrote are named,
// and hold the gate until somebody adopts them.
func TestForgedEntriesHoldTheGate(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);", "2-b.sql": "CREATE TABLE b (id int);"})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "1"}))
	w.Ended(promoted)
	forge := func(deployment string) {
		pgtest.Exec(t, w.URLs["staging"], "INSERT INTO vorrang.ledger SELECT e.*, "+ledger.HashSQL+` FROM (SELECT max(seq) + 1 AS seq, clock_timestamp() AS at, 'applied' AS action, '2' AS step, 'b' AS slug,
			'x' AS checksum, '`+deployment+`' AS deployment, 'pilot' AS actor, 1::bigint AS duration_ms, '{}'::json AS detail, (SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1) AS prev_hash FROM vorrang.ledger) e`)
	}
	for _, deployment := range []string{"99", fmt.Sprint(promoted.Deployment.ID), "", "one"} {
		forge(deployment)
	}
	for range 2 { // a look does not take it for seen
		check := gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
		assert.Equal(t, "no deployment of this service wrote entry 2 (step 2, applied), entry 3 (step 2, applied), entry 4 (step 2, applied), entry 5 (step 2, applied) of the ledger", check.Evidence)
		assert.Contains(t, advice.Text(check.Remedies), "vorrang adopt")
	}
	found := must(w.Adoption(t.Context(), "harbour", "staging"))
	assert.True(t, found.Needed)
	must(w.Adopt(t.Context(), "harbour", "staging", found.Finding, "a drill"))
	check := gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
	assert.Equal(t, gate.Pass, check.Verdict)
}
