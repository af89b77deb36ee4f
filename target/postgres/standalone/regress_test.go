package standalone_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres/grammar"
)

// scripts is a folder like src/test/regress of PostgreSQL's source; its scripts run
// for half an hour and are not ours, so they are played where somebody asks for it.
var scripts = os.Getenv("VORRANG_REGRESS")

// TestTheServersOwnScriptsRunBothWays runs scripts that somebody else wrote, with
// everything that the server's language has: by psql as they are, and as files of
// ours. Both leave the same database.
func TestTheServersOwnScriptsRunBothWays(t *testing.T) {
	if scripts == "" {
		t.Skip("VORRANG_REGRESS names no folder with scripts")
	}
	trial, plain, ours := pgtest.Own(t), pgtest.Own(t), pgtest.Own(t)
	files, err := filepath.Glob(filepath.Join(scripts, "sql", "*.sql"))
	require.NoError(t, err)
	for _, server := range []*pgtest.Server{trial, plain, ours} { // a user whose name is no schema's
		pgtest.Exec(t, server.URL("postgres"), "CREATE ROLE harbour_master SUPERUSER LOGIN PASSWORD 'p'")
	}
	setUp := filepath.Join(scripts, "sql", "test_setup.sql")
	ran := 0
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			text := psqlFree(t, setUp)
			if file != setUp {
				text += "\n" + psqlFree(t, file)
			}
			statements, err := grammar.Cut([]byte(text))
			if err != nil {
				t.Skip("psql reads it otherwise on purpose: ", err)
			}
			name := "r_" + strings.TrimSuffix(filepath.Base(file), ".sql")
			renew(t, name, trial, plain, ours)
			var script []byte
			for again := 0; ; again++ { // until all of what is left works
				script = working(t, as(trial, name), statements)
				renew(t, name, trial, plain)
				if run(t, as(plain, name), script) == "" {
					break
				}
				require.Less(t, again, 5)
				statements, err = grammar.Cut(script)
				require.NoError(t, err)
			}
			assertSame(t, as(plain, name), as(ours, name), script)
			ran += len(statements)
		})
	}
	t.Logf("%d statements of %d scripts", ran, len(files))
}

// as is a database's URL for the user who plays.
func as(server *pgtest.Server, name string) string {
	return fmt.Sprintf("postgres://harbour_master:p@127.0.0.1:%d/%s", server.Port, name)
}

func renew(t *testing.T, name string, servers ...*pgtest.Server) {
	for _, server := range servers {
		pgtest.Exec(t, server.URL("postgres"), fmt.Sprintf("DROP DATABASE IF EXISTS %q WITH (FORCE)", name))
		pgtest.Exec(t, server.URL("postgres"), fmt.Sprintf("CREATE DATABASE %q TEMPLATE template0", name))
	}
}

var (
	setting  = regexp.MustCompile(`(?m)^\\set (\w+) :abs_srcdir '([^']*)'$`)
	commands = regexp.MustCompile(`(?m)^\\[^.].*$`)
	endings  = regexp.MustCompile(`(?m)\\(?:g|gset|gexec|gdesc|crosstabview|gx|bind)\b.*$`)
)

// psqlFree is a script without what is for psql alone.
func psqlFree(t *testing.T, file string) string {
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	text := string(content)
	for _, found := range setting.FindAllStringSubmatch(text, -1) {
		text = strings.ReplaceAll(text, fmt.Sprintf(":'%s'", found[1]), "'"+scripts+found[2]+"'")
	}
	return endings.ReplaceAllString(commands.ReplaceAllString(text, ""), ";")
}

// moving finds what gives another result each time.
var moving = regexp.MustCompile(
	`(?i)random|now\(\)|_timestamp|current_(?:time|date)|localtime|pg_sleep|clock|txid|xact_id|pg_backend_pid|oid|relfilenode|gen_random|pg_stat|tablespace|subscription|publication|lo_|large object|'now'|'today'|'tomorrow'|'yesterday'|current_database|DATABASE|vorrang|ctid|lsn|xmin`,
)

// working picks the statements that succeed, one after the other, and leave nothing
// that differs from one run to the next.
func working(t *testing.T, url string, statements []sqltext.Statement) []byte {
	conn := pgtest.Connect(t, url)
	script := bytes.NewBufferString("DO $$ BEGIN END $$;\n") // plpgsql is there, as in our file
	depth := 0
	for _, s := range statements {
		if moving.Match(s.SQL) {
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		var err error
		if s.IsCopy {
			_, err = conn.PgConn().CopyFrom(ctx, bytes.NewReader(s.CopyData), string(s.SQL))
		} else {
			_, err = conn.Exec(ctx, string(s.SQL), pgx.QueryExecModeSimpleProtocol)
		}
		cancel()
		if conn.IsClosed() {
			conn = pgtest.Connect(t, url)
		}
		switch grammar.Transaction(s) {
		case grammar.Opens:
			depth = 1
		case grammar.Closes:
			depth = 0
		case grammar.Neither:
		}
		if err != nil {
			if depth > 0 { // what is in a transaction that fails is left out with it
				_, _ = conn.Exec(t.Context(), "ROLLBACK")
				fmt.Fprint(script, "ROLLBACK;\n")
				depth = 0
			}
			continue
		}
		script.Write(s.SQL)
		if s.IsCopy {
			fmt.Fprintf(script, ";\n%s\\.\n", s.CopyData)
			continue
		}
		script.WriteString("\n;\n")
	}
	if depth > 0 {
		script.WriteString("ROLLBACK;\n")
	}
	return script.Bytes()
}

// run lets psql read a script, and gives what it says of errors.
func run(t *testing.T, url string, script []byte) string {
	file := filepath.Join(t.TempDir(), "script.sql")
	require.NoError(t, os.WriteFile(file, script, 0o644))
	output, _ := exec.CommandContext(t.Context(), binaries+"psql", "-X", "-q", "-o", "/dev/null", "-f", file, url).
		CombinedOutput()
		// what it says is checked
	var errors []string
	for line := range strings.Lines(string(output)) {
		if strings.Contains(line, "ERROR") || strings.Contains(line, "FATAL") {
			errors = append(errors, line)
		}
	}
	return strings.Join(errors[:min(len(errors), 5)], "")
}

const binaries = "/usr/lib/postgresql/15/bin/"

func assertSame(t *testing.T, plain, ours string, script []byte) {
	made := file(step.Autocommit, string(script), nil)
	made.MakeLedger, made.Belongs, made.Defaults = true, &ledger.Owner{
		Lane:        "harbour",
		Environment: "production",
	}, engine.Settings{}
	text, err := written(made)
	require.NoError(t, err)
	assert.Empty(t, run(t, ours, text))
	assert.Equal(t, "1", pgtest.Query(t, ours, "SELECT count(*) FROM vorrang.ledger WHERE action = 'applied'"))
	assert.Equal(t, dumped(t, plain), dumped(t, ours))
}

// dumped is a database without what is named by numbers that differ.
func dumped(t *testing.T, url string) string {
	return regexp.MustCompile(`pg_toast_\d+`).ReplaceAllString(pgtest.Dump(t, url), "")
}
