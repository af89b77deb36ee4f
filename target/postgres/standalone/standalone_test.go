package standalone_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/target/postgres"
)

func file(mode step.Mode, text string, change func(*plan.Action)) engine.File {
	action := plan.Action{
		Direction: ledger.Forward,
		Step: plan.Step{
			Number:  "7",
			Slug:    "create-berth",
			Forward: plan.Text{Name: "7-create-berth.sql", Checksum: "c"},
		},
	}
	action.Step.Options.Mode, action.Step.Options.BatchSize = mode, 10
	if change != nil {
		change(&action)
	}
	return engine.File{
		Lane:        "harbour",
		Environment: "production",
		MadeBy:      "l.berg",
		MadeAt:      time.Now(),
		Holds:       []string{"soak: not\nlong enough"},
		Plan:        plan.Plan{Direction: ledger.Forward, Actions: []plan.Action{action}},
		Head:        ledger.NewHead(),
		Texts:       func(step.Checksum) ([]byte, error) { return []byte(text), nil },
		Defaults:    engine.Settings{Role: `the "owner"`, LockTimeout: time.Nanosecond},
	}
}

func written(f engine.File) ([]byte, error) { return postgres.Engine{}.Script(f) }

// What psql makes of these files is tried where there is a service: package
// service.
func TestAFileHoldsTheScriptWordForWord(t *testing.T) {
	const script = "CREATE TABLE berth (\n    name text DEFAULT ':here'\n)"
	text, err := written(file(step.Transaction, script, nil))
	require.NoError(t, err)
	assert.Contains(
		t, string(text),
		"(SELECT $sql$"+script+"$sql$::pg_catalog.text) s (sql) \\gexec \\set vorrang_ran 1\n",
		"psql does not read it, and the server does",
	)
	assert.Contains(t, string(text), `SET LOCAL ROLE "the ""owner""";`)
	assert.Contains(t, string(text), "SET LOCAL lock_timeout = '1ms';", "0 would wait for ever")
	assert.Contains(
		t, string(text),
		"-- ! the gate was held when this was made: soak: not long enough\n",
		"no line of another kind can get in",
	)
	before, after, found := strings.Cut(string(text), script)
	require.True(t, found)
	assert.Contains(t, before, "IF last <> '"+ledger.Genesis+"' THEN")
	assert.Contains(t, after, "INSERT INTO vorrang.ledger")
}

func TestADollarQuoteOfTheScriptIsNotTheFiles(t *testing.T) {
	text, err := written(
		file(
			step.Batches,
			"UPDATE berth SET name = $batches$x$sql$x$sql$$batches$ WHERE name IN (SELECT name FROM berth LIMIT :batch)",
			nil,
		),
	)
	require.NoError(t, err)
	assert.Contains(t, string(text), "(SELECT $sql2$DO $batches2$ DECLARE")
}

func TestWhatPsqlCouldNotDoIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		file    engine.File
		message string
	}{
		"statements that were changed since": {file(step.Autocommit, "SELECT 1; SELECT 2",
			func(a *plan.Action) { a.Resume, a.Done = 2, "of another text" }), "these were changed since"},
		"a transaction that stays open": {file(step.Autocommit, "BEGIN; SELECT 1", nil), "leaves its transaction open"},
	} {
		_, err := written(c.file)
		var refused *engine.UnwritableError
		require.ErrorAs(t, err, &refused, name)
		assert.Contains(t, refused.Reason, c.message)
	}
	_, err := written(file(step.Transaction, "SELECT 'open", nil))
	assert.Error(t, err)
}
