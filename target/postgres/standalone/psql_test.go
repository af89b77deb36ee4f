package standalone_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/internal/wiretap"
	"vorrang/target/postgres/grammar"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// FuzzFile lets psql run the file of any script, on a server where it may do
// nothing, and listens: what the server hears of the script is its statements, to
// the byte and in their order, as far as they go; psql itself reads none of it.
func FuzzFile(f *testing.F) {
	for _, seed := range []string{
		"SELECT 1;", "SELECT E'a\n\\set vorrang_ran 7\n';", "SELECT ':vorrang_ran', :'vorrang_ran', :\"x\", " +
			"a[1:2], a[:n];", "SET standard_conforming_strings = off; SELECT '\\'; \\echo read by psql\n';",
		"SELECT $sql$ $sql2$ $sql$;", "SELECT $a$;$a$; -- \\q\nSELECT 2;", "/* \\gexec */ SELECT 1 \n;\n" +
			"SELECT U&'\\0041';", "CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; SELECT 2; END;",
		"SET TRANSACTION ISOLATION LEVEL SERIALIZABLE; SELECT 1;", "SELECT 'ж', \"ä\";\r\nSELECT 2",
		"DO $$ BEGIN PERFORM 1; END $$; SELECT '$$';", "SELECT 1 \\;", "SELECT '\\\\.\n\\.\n';",
	} {
		f.Add(seed)
	}
	server := pgtest.Shared(f)
	pgtest.Exec(f, server.URL("postgres"), "DROP ROLE IF EXISTS powerless; CREATE ROLE powerless LOGIN PASSWORD 'p'")
	address, err := url.Parse(pgtest.Database(f))
	require.NoError(f, err)
	address.User = url.UserPassword("powerless", "p")
	tap := wiretap.Open(f, address.String())
	f.Fuzz(func(t *testing.T, script string) {
		statements, err := grammar.Cut([]byte(script))
		copies := strings.Contains(strings.ToUpper(script), "COPY") // what psql sends of them are rows
		if err != nil || len(statements) == 0 || copies || !utf8.ValidString(script) ||
			strings.ContainsRune(script, 0) ||
			len(script) > 10_000 {
			t.Skip()
		}
		var mu sync.Mutex
		var heard []string
		tap.Hear(func(sql string) {
			mu.Lock()
			defer mu.Unlock()
			heard = append(heard, sql)
		})
		made := file(step.Transaction, script, nil)
		made.Defaults = engine.Settings{StatementTimeout: time.Second}
		text, err := written(made)
		require.NoError(t, err)
		name := filepath.Join(t.TempDir(), "deploy.sql")
		require.NoError(t, os.WriteFile(name, text, 0o600))
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		output, _ := exec.CommandContext(ctx, binaries+"psql", "-X", "-q", "-v", "file="+name, "-f", name, tap.URL).
			CombinedOutput()
			// it fails: there is no ledger
		assert.NotContains(t, string(output), "was edited")
		assert.NotContains(t, string(output), "could not open file")
		mu.Lock()
		defer mu.Unlock()
		for at, i := 0, 0; i < len(statements); i++ {
			asked := false // psql asks for the text, and runs what it gets
			for ; at < len(heard) && !asked; at++ {
				asked = strings.Contains(
					heard[at],
					fmt.Sprintf("'%[1]d'::pg_catalog.text OPERATOR(pg_catalog.=) '%[1]d'", i),
				) &&
					strings.Contains(heard[at], string(statements[i].SQL))
				if first := strings.TrimSpace(string(statements[i].SQL)); strings.TrimSpace(heard[at]) == first &&
					strings.HasPrefix(strings.ToUpper(first), "SET") {
					break
				}
			}
			if at == len(heard) { // the one before failed
				require.NotContains(
					t, string(output), "vorrang.ledger",
					"the end was reached, and statement %d was not heard",
					i+1,
				)
				return
			}
			require.Equal(
				t, strings.TrimSpace(string(statements[i].SQL)), strings.TrimSpace(heard[at]), "statement %d", i+1,
			)
		}
	})
}
