package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
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
