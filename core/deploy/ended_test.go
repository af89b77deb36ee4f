package deploy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
)

// TestATransactionThatTheScriptEndsIsNotCalledRolledBack: what it committed stays, and the
// failure says so, also where another transaction was open at once.
func TestATransactionThatTheScriptEndsIsNotCalledRolledBack(t *testing.T) {
	for name, script := range map[string]string{
		"ended":                   "CREATE TABLE berth (id int);\nCOMMIT;\n",
		"ended, and another open": "CREATE TABLE berth (id int);\nCOMMIT AND CHAIN;\nCREATE TABLE quay (id int);\n",
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, map[string]string{"0001-berth.sql": script})
			result := y.promote()
			require.Equal(t, deploy.Failed, result.Outcome)
			assert.Contains(t, result.Failure.Message, "ended Vorrang's transaction")
			assert.NotContains(t, result.Failure.Left, "nothing")
			assert.Contains(t, result.Failure.Left, "that stays")
			assert.Equal(t, "(t,f)", y.query("SELECT (to_regclass('berth') IS NOT NULL, to_regclass('quay') IS NOT NULL)"))
		})
	}
	y := newYard(t, map[string]string{"0001-berth.sql": "SAVEPOINT a; CREATE TABLE berth (id int); ROLLBACK TO a; RELEASE a;"})
	assert.Equal(t, deploy.Done, y.promote().Outcome, "a savepoint is the script's own")
}

// TestOneStatementIsOne: a setting cannot make two of a string that the review has read as one.
func TestOneStatementIsOne(t *testing.T) {
	for name, script := range map[string]string{
		"strings by other rules": `SELECT set_config('standard_conforming_strings', 'off', false);
			SELECT 'a\', ' ; CREATE TABLE hidden (id int); --';`,
		"by SET":                 `SET standard_conforming_strings = off; SELECT 'a\', ' ; CREATE TABLE hidden (id int); --';`,
		"for the transaction":    `SET LOCAL standard_conforming_strings = off; SELECT 'a\', ' ; CREATE TABLE hidden (id int); --';`,
		"within a block":         `DO $$ BEGIN PERFORM set_config('standard_conforming_strings', 'off', false); END $$; SELECT 'a\', ' ; CREATE TABLE hidden (id int); --';`,
		"another encoding":       "SET client_encoding = 'SJIS'; SELECT 'é\\', ' ; CREATE TABLE hidden (id int); --';",
		"in the options of COPY": "CREATE TABLE c (a text); SELECT set_config('standard_conforming_strings', 'off', false);\nCOPY c FROM stdin WITH (NULL 'a\\', DELIMITER ' ; CREATE TABLE hidden (id int); --');\nx\n\\.\n",
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t, map[string]string{"0001-hidden.sql": script})
			y.promote()
			assert.Equal(t, "false", y.query("SELECT to_regclass('hidden') IS NOT NULL"))
		})
	}
}
