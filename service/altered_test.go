package service_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
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
	for message, c := range map[string]struct{ do, undo string }{
		"it has the trigger forge": {"CREATE TRIGGER forge BEFORE INSERT ON vorrang.ledger " +
			"FOR EACH ROW EXECUTE FUNCTION forge()", "DROP TRIGGER forge ON vorrang.ledger"},
		"its trigger append_only is gone, disabled or another": {"ALTER TABLE vorrang.ledger DISABLE TRIGGER " +
			"append_only", "ALTER TABLE vorrang.ledger ENABLE TRIGGER append_only"},
		"it has the rule forge": {"CREATE RULE forge AS ON DELETE TO vorrang.ledger DO " +
			"INSTEAD NOTHING", "DROP RULE forge ON vorrang.ledger"},
		"it has row security": {"ALTER TABLE vorrang.ledger ENABLE ROW LEVEL SECURITY", "ALTER TABLE vorrang.ledger " +
			"DISABLE ROW LEVEL SECURITY"},
		"everybody may write to it": {"GRANT INSERT ON vorrang.ledger TO PUBLIC", "REVOKE INSERT ON vorrang.ledger " +
			"FROM PUBLIC"},
		"its columns are others": {"ALTER TABLE vorrang.ledger ALTER COLUMN actor SET " +
			"DEFAULT 'me'", "ALTER TABLE vorrang.ledger ALTER COLUMN actor DROP DEFAULT"},
		"it is no ordinary table any more": {"CREATE TABLE child () INHERITS (vorrang.ledger)", "DROP TABLE child"},
	} {
		pgtest.Exec(t, url, c.do)
		check := holds()
		assert.Equal(t, gate.Hold, check.Verdict, message)
		assert.Equal(t, "the ledger's own table is not as Vorrang made it: "+message, check.Evidence)
		_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		assert.ErrorContains(t, err, "not as Vorrang made it", message)
		verified := must(w.Verify(t.Context(), "harbour", "staging"))
		require.NotEmpty(t, verified.Deviations, message)
		assert.Contains(t, verified.Deviations[0].What, message)
		pgtest.Exec(t, url, c.undo)
	}
	pgtest.Exec(
		t, url,
		"CREATE OR REPLACE FUNCTION vorrang.refuse_change() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'",
	)
	assert.Contains(t, holds().Evidence, "its trigger append_only is gone, disabled or another")
}

// Entries with a right chain that no deployment of this service wrote are named,
// and hold the gate until somebody adopts them.
// Forged entries have a chain that holds, and say whatever they like.
func TestForgedEntriesHoldTheGate(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);", "2-b.sql": "CREATE TABLE b (id int);"})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "1"}))
	w.Ended(promoted)
	id := fmt.Sprint(promoted.Deployment.ID)
	forge := func(action ledger.Action, deployment, detail string) {
		pgtest.Exec(
			t,
			w.URLs["staging"],
			"INSERT INTO vorrang.ledger SELECT e.*, "+ledger.HashSQL+`
				FROM (SELECT max(seq) + 1 AS seq, clock_timestamp() AS at, '`+string(
				action,
			)+`' AS action, '2' AS step, 'b' AS slug,
			'x' AS checksum, '`+deployment+`' AS deployment, 'pilot' AS actor, 1::bigint AS duration_ms, `+detail+`::json AS detail, (SELECT hash FROM vorrang.ledger ORDER BY seq DESC LIMIT 1) AS prev_hash FROM vorrang.ledger) e`,
		)
	}
	var evidence []string
	for _, action := range []ledger.Action{ledger.Applied, ledger.Begun, ledger.Failed, ledger.RolledBack,
		ledger.Attested, ledger.Amended, ledger.Settled, ledger.Baselined} {
		for _, deployment := range []string{"", "99", id, "one", "standalone-0123456789ab"} {
			forge(action, deployment, `'{"reason":"forged"}'`)
			evidence = append(evidence, fmt.Sprintf("entry %d (step 2, %s)", len(evidence)+2, action))
		}
	}
	theProof := `(SELECT detail FROM vorrang.ledger WHERE seq = 1)` // a true one, at another place
	forge(ledger.Applied, id, theProof)
	forge(ledger.Settled, "", theProof)
	forge(
		ledger.Adopted, "",
		`json_build_object('found', repeat('0', 64))`,
	) // takes nothing over: it does not know what stands before
	gateSays := func() gate.Check {
		return gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
	}
	assert.Contains(t, gateSays().Evidence, "what stands before it is not what was adopted there")
	pgtest.Exec(
		t,
		w.URLs["staging"],
		"ALTER TABLE vorrang.ledger DISABLE TRIGGER USER; DELETE FROM vorrang.ledger WHERE action = 'adopted'; ALTER "+
			"TABLE vorrang.ledger ENABLE TRIGGER USER",
	)
	for range 2 { // a look does not take it for seen
		check := gateSays()
		assert.Equal(
			t,
			"this service did not write "+strings.Join(evidence[:20], ", ")+", 22 more of the ledger",
			check.Evidence,
		)
		assert.Contains(t, advice.Text(check.Remedies), "vorrang adopt")
	}
	_, err := w.Attest(
		t.Context(), "harbour", "staging",
		client.Attestation{Step: "2", Reason: "it stands there"},
	) // nobody writes after them
	assert.ErrorContains(t, err, "this service did not write entry 2")

	found := must(w.Adoption(t.Context(), "harbour", "staging"))
	assert.True(t, found.Needed)
	must(w.Adopt(t.Context(), "harbour", "staging", found.Finding, "a drill"))
	assert.Equal(t, gate.Pass, gateSays().Verdict)
}

// A forged adoption takes over what stands before it, and fits it.
func TestAForgedAdoptionHoldsTheGate(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);"})
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})))
	entries := must(w.Ledger(t.Context(), "harbour", "staging", 100)).Entries
	e := entries[0].Head().
		Next(ledger.Entry{Action: ledger.Adopted, Actor: "pilot",
			Detail: ledger.Detail{Reason: "mine", Found: ledger.Found(entries)}.JSON()}, entries[0].At)
	pgtest.Exec(
		t,
		w.URLs["staging"],
		fmt.Sprintf("INSERT INTO vorrang.ledger VALUES (%d, '%s', '%s', '', '', '', '', '%s', 0, '%s', '%s', '%s')",
			e.Seq, e.At.Format(ledger.AtLayout), e.Action, e.Actor, e.Detail, e.PrevHash, e.Hash),
	)
	check := gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
	assert.Equal(t, "this service did not write entry 2 (adopted) of the ledger", check.Evidence)
}

// What a step writes about the next one of the deployment that runs it, in a plan that
// has both, is not believed afterwards.
func TestAStepForgesNothingForItsOwnDeployment(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);"})
	w.Promoted("staging")
	w.Submitted(map[string]string{
		"2-b.sql": "/*---\nmode: autocommit\n---*/\nDO $$ BEGIN EXECUTE 'INSERT INTO vor' || 'rang.ledger SELECT " +
			"e.*, ' || " + sqltext.Literal(
			strings.ReplaceAll(ledger.HashSQL, `E'\n'`, "chr(10)"),
		) + ` || '
			FROM (SELECT seq + 1 AS seq, clock_timestamp() AS at, ''applied'' AS action, ''3'' AS step, ''c'' AS slug, checksum,
				deployment, actor, duration_ms, ''{}''::json AS detail, hash AS prev_hash
			FROM vor' || 'rang.ledger ORDER BY seq DESC LIMIT 1) e'; END $$;`,
		"3-c.sql": "CREATE TABLE c (id int);"})
	ended := w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})))
	assert.EqualValues(t, deploy.Failed, ended.Outcome)
	check := gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
	assert.Equal(t, "this service did not write entry 3 (step 3, applied) of the ledger", check.Evidence)
}
