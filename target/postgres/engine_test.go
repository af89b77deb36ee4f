package postgres_test

import (
	"context"
	"fmt"
	"path"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
	"vorrang/target/enginetest"
	"vorrang/target/postgres"
)

// ends breaks every connection to a database.
func ends(t testing.TB, url string) {
	pgtest.Query(
		t,
		pgtest.Shared(t).URL("postgres"),
		fmt.Sprintf(
			"SELECT count(pg_terminate_backend(pid, 5000)) FROM pg_stat_activity WHERE datname = '%s'",
			path.Base(url),
		),
	)
}

func harness() enginetest.Harness {
	return enginetest.Harness{
		Engine: postgres.Engine{}, Fresh: pgtest.Database, Cut: ends,
		Exec: func(t testing.TB, url, sql string) error {
			conn := pgtest.Connect(t, url)
			defer func() { _ = conn.Close(context.Background()) }()
			_, err := conn.Exec(t.Context(), "SET search_path = public; "+sql, pgx.QueryExecModeSimpleProtocol)
			return err
		},
		Query: pgtest.Query,
		Hold: func(t testing.TB, url, sql string) func() {
			transaction, err := pgtest.Connect(t, url).Begin(t.Context())
			require.NoError(t, err)
			_, err = transaction.Exec(t.Context(), sql)
			require.NoError(t, err)
			return func() { require.NoError(t, transaction.Rollback(t.Context())) }
		},
		Backup: func(t testing.TB, url string) func() {
			server, name := pgtest.Shared(t).URL("postgres"), path.Base(url)
			ends(t, url)
			pgtest.Exec(t, server, fmt.Sprintf("CREATE DATABASE %s_backup TEMPLATE %[1]s", name))
			return func() {
				ends(t, url)
				pgtest.Exec(t, server, "DROP DATABASE "+name)
				pgtest.Exec(t, server, fmt.Sprintf("ALTER DATABASE %s_backup RENAME TO %[1]s", name))
			}
		},
		Ledger: "vorrang.ledger",
		Backfill: "UPDATE vessel SET draught_m = coalesce(draught_m, 0) + draught_cm / 100.0 WHERE id IN (SELECT id FROM " +
			"vessel WHERE draught_m IS NULL ORDER BY id LIMIT :batch)",
		Leaves: map[string]enginetest.Left{
			"a setting": {
				Script: "SET DateStyle = 'German';",
				Gone:   "SELECT current_setting('DateStyle') NOT LIKE 'German%'",
			},
			"a temporary table": {
				Script: "CREATE TEMP TABLE tide (id int);",
				Gone:   "SELECT to_regclass('pg_temp.tide') IS NULL",
			},
		},
	}
}

func TestEngine(t *testing.T) { enginetest.Run(t, harness()) }

func TestStruck(t *testing.T) { enginetest.Struck(t, harness()) }

func TestEachFindingIsTrue(t *testing.T) {
	enginetest.Findings(t, enginetest.Proofs{
		Harness: harness(), Impatient: "SET lock_timeout = '100ms'; ",
		Alone: func(t testing.TB, url string, statements ...string) error {
			conn := pgtest.Connect(t, url)
			defer func() { _ = conn.Close(context.Background()) }()
			for _, statement := range statements {
				if _, err := conn.Exec(t.Context(), statement, pgx.QueryExecModeSimpleProtocol); err != nil {
					return err
				}
			}
			return nil
		},
		Code: func(err error) string {
			var refused *pgconn.PgError
			require.ErrorAs(t, err, &refused)
			return refused.Code
		},
		File: "SELECT pg_relation_filenode('%s')::text",
		Waiting: "SELECT EXISTS (SELECT FROM pg_locks l JOIN pg_stat_activity a USING (pid) WHERE NOT granted AND " +
			"a.datname = current_database())::text",
		Read:  "SELECT count(*) FROM %s",
		Write: "DELETE FROM %s WHERE false",
	})
}
