package sqlite_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	sqlite3 "github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/require"

	"vorrang/target/enginetest"
	"vorrang/target/sqlite"
)

var (
	folder string // of all files
	number atomic.Int64
)

func TestMain(m *testing.M) {
	folder = os.Getenv("VORRANG_SQLITE_FOLDER") // of the suite that started this program to be killed
	if folder == "" {
		made, err := os.MkdirTemp("", "vorrang-sqlite-")
		if err != nil {
			panic(err)
		}
		folder = made
		_ = os.Setenv("VORRANG_SQLITE_FOLDER", folder)
		defer os.RemoveAll(made)
	}
	m.Run()
}

func pathOf(url string) string { return filepath.Join(folder, strings.TrimPrefix(url, "sqlite:")) }

// fresh makes an empty file.
func fresh(t testing.TB) string {
	name := fmt.Sprintf("%d.db", number.Add(1))
	require.NoError(t, os.WriteFile(filepath.Join(folder, name), nil, 0o600))
	return "sqlite:" + name
}

// other opens a file as another program would.
func other(t testing.TB, url string) *sql.DB {
	db, err := sql.Open("sqlite3", "file:"+pathOf(url)+"?_busy_timeout=5000")
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func run(t testing.TB, url, statements string) error {
	db := other(t, url)
	defer db.Close()
	_, err := db.ExecContext(t.Context(), statements)
	return err
}

func query(t testing.TB, url, question string) string {
	var answer any
	db := other(t, url)
	defer db.Close()
	require.NoError(t, db.QueryRowContext(t.Context(), question).Scan(&answer), question)
	return fmt.Sprint(answer)
}

// pragmas is what SQLite tells of a schema by its pragmas, without the texts that the
// snapshot reads.
func pragmas(t testing.TB, url string) string {
	db := other(t, url)
	defer db.Close()
	rows, err := db.QueryContext(
		t.Context(),
		`SELECT concat_ws('|', 'table', l.name, l.type, l.wr, l.strict) FROM pragma_table_list l WHERE l.schema = 'main'
			AND l.name NOT LIKE 'sqlite_%' UNION ALL
		SELECT concat_ws('|', 'column', s.name, c.name, upper(c.type), c."notnull", c.dflt_value, c.pk, c.hidden)
			FROM sqlite_schema s, pragma_table_xinfo(s.name) c WHERE s.type IN ('table', 'view') AND s.name NOT LIKE 'sqlite_%'
			UNION ALL
		SELECT concat_ws('|', 'key', s.name, f."from", f."table", f."to", f.on_update, f.on_delete)
			FROM sqlite_schema s, pragma_foreign_key_list(s.name) f WHERE s.type = 'table' UNION ALL
		SELECT concat_ws('|', 'index', s.name, CASE i.origin WHEN 'c' THEN i.name END, i."unique", i.origin, i.partial,
			(SELECT group_concat(x.name || x."desc" || x.coll) FROM pragma_index_xinfo(i.name) x WHERE x.key))
			FROM sqlite_schema s, pragma_index_list(s.name) i WHERE s.type = 'table' UNION ALL
		SELECT concat_ws('|', type, name, tbl_name) FROM sqlite_schema WHERE type IN ('view', 'trigger') ORDER BY 1`,
	)
	require.NoError(t, err)
	defer rows.Close()
	var lines []string
	for rows.Next() {
		var line string
		require.NoError(t, rows.Scan(&line))
		lines = append(lines, line)
	}
	require.NoError(t, rows.Err())
	return strings.Join(lines, "\n")
}

func harness() enginetest.Harness {
	return enginetest.Harness{
		Engine: sqlite.Engine{Folder: folder}, Fresh: fresh, Exec: run, Query: query,
		Hold: func(t testing.TB, url, statement string) func() {
			transaction, err := other(t, url).BeginTx(t.Context(), nil)
			require.NoError(t, err)
			_, err = transaction.ExecContext(t.Context(), statement)
			require.NoError(t, err)
			return func() { require.NoError(t, transaction.Rollback()) }
		},
		Backup: func(t testing.TB, url string) func() {
			text, err := os.ReadFile(pathOf(url)) // no session has it open
			require.NoError(t, err)
			return func() { require.NoError(t, os.WriteFile(pathOf(url), text, 0o600)) }
		},
		Oracle: pragmas,
		Ledger: "vorrang_ledger",
		Backfill: "UPDATE vessel SET draught_m = coalesce(draught_m, 0) + draught_cm / 100.0 WHERE id IN " +
			"(SELECT id FROM vessel WHERE draught_m IS NULL ORDER BY id LIMIT :batch)",
		Leaves: map[string]enginetest.Left{
			"a temporary table": {
				Script: "CREATE TEMP TABLE tide (id INTEGER); INSERT INTO tide VALUES (1);",
				Gone:   "SELECT count(*) = 0 FROM temp.sqlite_schema",
			},
			"a setting": {
				Script: "PRAGMA recursive_triggers = ON;",
				Gone:   "SELECT recursive_triggers = 0 FROM pragma_recursive_triggers",
			},
			"checks ignored": {
				Script: "PRAGMA ignore_check_constraints = ON;",
				Gone:   "SELECT ignore_check_constraints = 0 FROM pragma_ignore_check_constraints",
			},
		},
	}
}

func TestEngine(t *testing.T) { enginetest.Run(t, harness()) }

func TestStruck(t *testing.T) { enginetest.Struck(t, harness()) }

func TestEachFindingIsTrue(t *testing.T) {
	enginetest.Findings(t, enginetest.Proofs{
		Harness: harness(),
		Alone: func(t testing.TB, url string, statements ...string) error {
			return run(t, url, strings.Join(statements, ";\n"))
		},
		Code: func(err error) string {
			var refused sqlite3.Error
			require.ErrorAs(t, err, &refused)
			return fmt.Sprint(int(refused.Code))
		},
	})
}
