package postgres_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
)

// formatting are settings by which a server prints the same thing in another way.
var formatting = []string{
	"quote_all_identifiers = on", "DateStyle = 'German'", "IntervalStyle = 'sql_standard'", "TimeZone = 'Asia/Tokyo'",
	"bytea_output = 'escape'", "extra_float_digits = -3", "search_path = 'harbour'", "lc_monetary = 'C.UTF-8'",
	"standard_conforming_strings = off", "xmlbinary = 'hex'", "row_security = off", "backslash_quote = on",
}

// TestNoSettingLooksLikeDrift, nor like a ledger that somebody altered: neither in a small schema
// nor in one that two connections read.
func TestNoSettingLooksLikeDrift(t *testing.T) {
	for _, tables := range []int{1, 700} {
		url := pgtest.Database(t)
		var many strings.Builder
		for i := range tables {
			fmt.Fprintf(&many, "CREATE TABLE harbour.t%d (id int PRIMARY KEY, at date DEFAULT '2026-11-03', \"Wind\" float8 DEFAULT 0.1,\n"+
				"raw bytea DEFAULT '\\x00ff', since interval DEFAULT '1 day 2 hours', noted timestamptz DEFAULT '2026-11-03 06:00+00',\n"+
				"dues money DEFAULT 12.5, CHECK (at > '2020-01-01')); CREATE INDEX ON harbour.t%[1]d (lower(\"Wind\"::text));", i)
		}
		pgtest.Exec(t, url, "CREATE SCHEMA harbour; CREATE FUNCTION harbour.f() RETURNS int LANGUAGE sql AS 'SELECT 1'; "+
			many.String()+"CREATE VIEW harbour.v AS SELECT id, at + 1 AS next FROM harbour.t0 WHERE raw <> '\\x01'")
		look := func() (schema.Schema, string) {
			session, err := postgres.Connect(t.Context(), url, "test")
			require.NoError(t, err)
			defer session.Close()
			require.NoError(t, session.CreateLedger(t.Context()))
			seen, err := session.SnapshotWithNeeds(t.Context(), []string{"harbour"})
			require.NoError(t, err)
			altered, err := session.LedgerAltered(t.Context())
			require.NoError(t, err)
			return seen, altered
		}
		before, _ := look()
		name := url[strings.LastIndexByte(url, '/')+1:]
		for _, setting := range formatting {
			pgtest.Exec(t, url, "ALTER DATABASE "+name+" SET "+setting)
		}
		after, altered := look()
		assert.Empty(t, altered)
		assert.Empty(t, schema.Compare(before, after), "%d tables", tables)
	}
}
