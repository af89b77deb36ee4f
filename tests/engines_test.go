package tests

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	_ "github.com/mattn/go-sqlite3" // the library of other programs
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/mariatest"
	"vorrang/internal/pgtest"
)

// server is a kind of database in the story.
type server struct {
	lane  string // what the lane file says beside targets
	fresh func(t testing.TB) string
	exec  func(t testing.TB, url, sql string)
	table string // how the schema names a table
	whole bool   // steps can run in one transaction
}

// servers are all engines. folder holds SQLite's files.
func servers(folder string) map[string]server {
	file := func(url string) string { return filepath.Join(folder, strings.TrimPrefix(url, "sqlite:")) }
	return map[string]server{
		"postgresql": {
			fresh: pgtest.Database,
			table: "public.",
			whole: true,
			exec: func(t testing.TB, url, sql string) {
				_, err := pgtest.Connect(t, url).
					Exec(t.Context(), "SET search_path = public; "+sql, pgx.QueryExecModeSimpleProtocol)
				require.NoError(t, err, sql)
			},
		},
		"mariadb": {
			fresh: mariatest.Database,
			exec:  func(t testing.TB, url, sql string) { require.NoError(t, mariatest.Exec(t, url, sql), sql) },
		},
		"sqlite": {whole: true, fresh: func(t testing.TB) string {
			made, err := os.CreateTemp(folder, "*.db")
			require.NoError(t, err)
			require.NoError(t, made.Close())
			return "sqlite:" + filepath.Base(made.Name())
		}, exec: func(t testing.TB, url, statement string) {
			db, err := sql.Open("sqlite3", "file:"+file(url)+"?_busy_timeout=5000")
			require.NoError(t, err)
			defer db.Close()
			_, err = db.ExecContext(t.Context(), statement)
			require.NoError(t, err, statement)
		}},
	}
}

// tale is the story's folder.
var tale = map[string]string{
	"1-create-berth.sql": "CREATE TABLE berth (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40) NOT NULL);\n" +
		"CREATE INDEX berth_name ON berth (name);",
	"1-create-berth.back.sql": "DROP TABLE berth;",
	"2-create-call.sql": "CREATE TABLE port_call (id INTEGER NOT NULL PRIMARY KEY, berth_id INTEGER NOT NULL, vessel " +
		"VARCHAR(40) NOT NULL, " +
		"CONSTRAINT call_berth FOREIGN KEY (berth_id) REFERENCES berth (id));",
	"2-create-call.back.sql":  "DROP TABLE port_call;",
	"3-load-berths.sql":       "INSERT INTO berth (id, name) VALUES (11, 'Lock quay'), (12, 'North quay');",
	"3-load-berths.check.sql": "SELECT count(*) = 2 FROM berth WHERE id > 10;",
	"3-load-berths.back.sql":  "DELETE FROM berth WHERE id > 10;",
	"4-one-name.sql":          "CREATE UNIQUE INDEX berth_one_name ON berth (name);",
	"5-calls-view.sql": "CREATE VIEW calls AS SELECT port_call.id, berth.name FROM port_call JOIN berth ON " +
		"berth.id = port_call.berth_id;",
	"5-calls-view.back.sql": "DROP VIEW calls;",
}

// TestTheStoryOnEveryEngine tells one story through the client: an existing database, a
// step that its rows do not meet, a way back, work done by hand, a copy from an older
// day, and a rebuild.
func TestTheStoryOnEveryEngine(t *testing.T) {
	folder := t.TempDir()
	for name, kind := range servers(folder) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tell(t, name, kind, folder)
		})
	}
}

func tell(t *testing.T, name string, kind server, folder string) {
	urls := map[string]string{}
	env := []string{"VORRANG_SQLITE=" + folder}
	lane := "lane: port\nengine: " + name + "\nenvironments:\n"
	for _, environment := range []string{"development", "staging", "production"} {
		urls[environment] = kind.fresh(t)
		variable := "TARGET_" + strings.ToUpper(environment)
		env = append(env, variable+"="+urls[environment])
		lane += fmt.Sprintf("  - {name: %s, target: env:%s, gate: {release: not-asked}", environment, variable)
		if environment == "development" {
			lane += ", disposable: true, scratch: env:" + variable
		}
		lane += "}\n"
	}
	p := startProcess(t, env...)
	steps := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(steps, name), []byte(text+"\n"), 0o600))
	}
	for name, text := range tale {
		put(name, text)
	}
	laneFile := filepath.Join(t.TempDir(), "lane.yaml")
	require.NoError(t, os.WriteFile(laneFile, []byte(lane), 0o600))
	run := func(code int, words string, patterns ...string) string {
		t.Helper()
		args := strings.Fields(words)
		for i, arg := range args {
			args[i] = strings.ReplaceAll(arg, "_", " ") // a reason
			if strings.HasPrefix(arg, "/") {
				args[i] = arg
			}
		}
		command := exec.CommandContext(t.Context(), filepath.Join(built(t), "vorrang"), args...)
		command.Env = append(
			os.Environ(),
			"VORRANG_SERVER="+p.Server,
			"VORRANG_TOKEN="+token,
			"VORRANG_LANE=port", "VORRANG_ACTOR=pilot",
		)
		output, _ := command.CombinedOutput()
		require.Equal(t, code, command.ProcessState.ExitCode(), "vorrang %s\n%s", words, output)
		for _, pattern := range patterns {
			assert.Regexp(t, regexp.MustCompile(pattern), string(output), "vorrang %s", words)
		}
		return string(output)
	}

	run(0, "declare -file "+laneFile, "lane port is declared")
	run(0, "submit -dir "+steps, "new +1 +create-berth", "5 steps in the catalogue")
	run(0, "probe -env production", "can be used", "ledger +ok")
	run(0, "promote -to development", "done: 5 of 5 steps")
	run(
		0, "rehearse -to staging",
		"the rehearsal passed: 5 steps",
		"5 +calls-view .*complete", "4 +one-name .*missing", "step 4 has no way back",
	)
	run(0, "promote -to staging", "done: 5 of 5 steps")
	run(1, "rehearse -to staging", "there is nothing to apply to staging")
	run(0, "promote -to staging", "nothing to do")

	// an existing database
	for _, text := range []string{tale["1-create-berth.sql"], tale["2-create-call.sql"]} {
		for statement := range strings.SplitSeq(strings.TrimSuffix(text, ";"), ";\n") {
			kind.exec(t, urls["production"], statement)
		}
	}
	kind.exec(t, urls["production"], "INSERT INTO berth (id, name) VALUES (1, 'East quay'), (2, 'East quay')")
	run(3, "promote -to production", "known-database +this is an existing database: it has 2 tables")
	run(
		1,
		"baseline -env production -at 1 -check",
		"does not look as it does after step 1",
		"table "+kind.table+"port_call",
	)
	run(0, "baseline -env production -at 2 -check", "production begins at step 2")

	// rows that a step does not meet, first on a copy of them
	run(3, "rehearse -to production -rows 5", `copied +\d+ rows? of 1 table`, "step 4 fails: ")
	run(4, "promote -to production", "4-one-name.sql:1:1", "failed: 1 of 3 steps")
	run(3, "status -env production", "TROUBLE: failed", "at 3 load-berths")
	kind.exec(t, urls["production"], "UPDATE berth SET name = 'West quay' WHERE id = 2")
	run(0, "promote -to production", "done: 2 of 2 steps")
	run(0, "verify", "consistent in 3 environments")
	run(0, "compare -from staging -with production", "no difference")
	run(0, "rollback -env production -last 1 -confirm production", "rolled back")
	run(0, "status -env production", "5 +calls-view +rolled back")
	run(0, "promote -to production", "done: 1 of 1 step")
	run(0, "ledger -env production", "rolled-back +5", "baselined +2", "the chain of all [0-9]+ entries holds")

	// work done by hand
	kind.exec(t, urls["production"], "ALTER TABLE berth ADD COLUMN hotfix VARCHAR(10)")
	run(3, "drift -env production", "added +column "+kind.table+"berth.hotfix")
	run(3, "status -env production", "TROUBLE: drift")
	run(3, "compare -from production -with staging", "only in production: column "+kind.table+"berth.hotfix")
	undo := filepath.Join(t.TempDir(), "undo")
	run(0, "draft -env production -drift undo -dir "+undo, "proved in a scratch database: forward and back")
	drafted, err := filepath.Glob(filepath.Join(undo, "*.sql"))
	require.NoError(t, err)
	require.NotEmpty(t, drafted)
	text, err := os.ReadFile(drafted[len(drafted)-1])
	require.NoError(t, err)
	assert.Contains(t, string(text), "hotfix")
	run(0, "accept -env production -reason until_the_next_release", "right as it is")
	run(0, "drift -env production", "no drift")
	first := filepath.Join(t.TempDir(), "first")
	run(0, "draft -env production -dir "+first, "makes the schema of port/production from nothing", "proved")

	// an applied step is edited, and another is drafted and attested
	put("6-add-depth.sql", "ALTER TABLE berth ADD COLUMN depth INTEGER;")
	put("6-add-depth.back.sql", "ALTER TABLE berth DROP COLUMN depth;")
	run(0, "submit -dir "+steps, "new +6")
	run(1, "attest -env staging -step 6 -reason made_by_hand", "column berth.depth is not there")
	kind.exec(t, urls["staging"], "ALTER TABLE berth ADD COLUMN depth INTEGER")
	run(0, "attest -env staging -step 6 -reason made_by_hand", "1 step is attested")
	put("3-load-berths.sql", "INSERT INTO berth (id, name) VALUES (11, 'Lock quay'), (12, 'South quay');")
	run(0, "submit -dir "+steps, "edited +3")
	run(3, "promote -to development", "checksums +1 step was edited")
	put("3-load-berths.sql", tale["3-load-berths.sql"])
	run(0, "submit -dir "+steps)
	run(0, "promote -to development", "done: 1 of 1 step")

	// all or nothing, and whatever the deployment did goes back
	put("7-create-tug.sql", "CREATE TABLE tug (id INTEGER NOT NULL PRIMARY KEY);")
	put("7-create-tug.back.sql", "DROP TABLE tug;")
	put("8-twice.sql", "INSERT INTO tug VALUES (1);\nINSERT INTO tug VALUES (1);")
	put("8-twice.back.sql", "DELETE FROM tug;")
	run(0, "submit -dir "+steps, "new +7", "new +8")
	run(4, "promote -to development -on-failure back-out", "backing out 1 step", "backed out")
	if kind.whole {
		run(4, "promote -to development -whole", "the whole deployment was rolled back")
	} else {
		run(1, "promote -to development -whole", "cannot run in one transaction with others: 7")
	}
	run(0, "withdraw 8")
	require.NoError(t, os.Remove(filepath.Join(steps, "8-twice.sql")))
	require.NoError(t, os.Remove(filepath.Join(steps, "8-twice.back.sql")))
	run(0, "promote -to development", "done: 1 of 1 step")
	run(0, "rebuild -env development -confirm development", "done: 7 of 7 steps")
	run(1, "rebuild -env production -confirm production", "production is not disposable")
	run(0, "verify", "consistent")

	// what the engine has not is said where it is written
	if name != "postgresql" {
		require.NoError(
			t,
			os.WriteFile(
				laneFile,
				[]byte(strings.Replace(lane, "gate: {release", "schemas: [harbour], gate: {release", 1)),
				0o600,
			),
		)
		run(1, "declare -file "+laneFile, "lane.yaml:4:[0-9]+: .* has no use for schemas: take it out")
		run(1, "preview -to staging -standalone", "no file can be written for")
	}

	// the API, and the metrics of whoever asks
	status, err := p.Status(context.Background(), "port", "production", "all")
	require.NoError(t, err)
	assert.Equal(t, "5", string(status.At))
}
