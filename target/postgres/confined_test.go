package postgres_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

// TestACopyHoldsNothingThatLeavesItsDatabase: what a trigger or a function would reach when a step
// sets it off is refused before anything is made.
func TestACopyHoldsNothingThatLeavesItsDatabase(t *testing.T) {
	url := pgtest.Database(t)
	for _, text := range []string{
		"CREATE EXTENSION dblink;",
		"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM dblink_exec('dbname=prod', 'DELETE FROM dues'); RETURN NEW; END $$;",
		"CREATE SUBSCRIPTION s CONNECTION 'dbname=prod' PUBLICATION p;",
		"DROP SUBSCRIPTION s;",
		"CREATE USER MAPPING FOR PUBLIC SERVER s OPTIONS (password 'x');",
		"CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS $$ BEGIN COPY dues FROM PROGRAM 'id'; END $$;",
		"IMPORT FOREIGN SCHEMA public FROM SERVER s INTO public;",
		"COPY dues FROM PROGRAM 'id';",
	} {
		scratch, err := postgres.NewScratch(t.Context(), url, "", true)
		require.NoError(t, err)
		err = scratch.Run(t.Context(), []byte(text), false)
		scratch.Close()
		assert.ErrorContains(t, err, "it is not run in a scratch database", text)
	}
}
