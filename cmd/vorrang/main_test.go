package main

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// say runs a command line, and returns its exit code and what it said.
func say(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = report(&e, run(t.Context(), args, &o, &e))
	return code, o.String(), e.String()
}

// world starts a service that the commands find.
func world(t *testing.T, files map[string]string) *servicetest.World {
	w := servicetest.Start(t)
	t.Setenv("VORRANG_SERVER", w.Server)
	t.Setenv("VORRANG_TOKEN", servicetest.Token)
	t.Setenv("VORRANG_ACTOR", "pilot")
	t.Setenv("VORRANG_LANE", "")
	t.Chdir(t.TempDir())
	if files != nil {
		w.Write(files)
		code, out, errs := say(t, "submit", "-dir", w.Steps)
		require.Equal(t, 0, code, out+errs)
	}
	return w
}

// What a step makes the server say must not act on the terminal.
func TestNothingActsOnTheTerminal(t *testing.T) {
	w := world(t, nil)
	w.Write(
		map[string]string{
			"1-say.sql": "/* \u202e */ DO $$ BEGIN RAISE NOTICE E'\\x1b]0;owned\\x07'; RAISE EXCEPTION " +
				"E'\\x1b[2J\\x1b[31mdone\\n  2    b  applied'; END $$;",
		},
	)
	code, out, errs := say(t, "submit", "-dir", w.Steps)
	require.Equal(t, 0, code)
	assert.Contains(t, out+errs, "U+202E stands here")
	for _, args := range []string{"promote -to development", "watch 1", "status -env development",
		"preview -to development", "deployments", "audit"} {
		_, out, errs = say(t, strings.Fields(args)...)
		assert.NotRegexp(t, "[\\x00-\\x08\\x0b-\\x1f\\x7f\\x{202e}]", out+errs, args)
	}
	_, out, errs = say(t, "watch", "1")
	assert.Contains(t, out+errs, "^[]0;owned^G")
	assert.Contains(t, out+errs, "^[[2J^[[31mdone")
}

func TestOnlyThePlanThatWasShownRuns(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "1-a.back.sql": "DROP TABLE a"})
	shown := func(args ...string) string {
		_, out, errs := say(t, append([]string{"preview"}, args...)...)
		found := regexp.MustCompile(`-- this plan, and no other: -shown ([0-9a-f]{12})\n`).FindStringSubmatch(out)
		require.NotNil(t, found, out+errs)
		return found[1]
	}
	before := shown("-to", "development")
	w.Write(map[string]string{"2-b.sql": "CREATE TABLE b (id int)"})
	code, out, errs := say(t, "submit", "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	for _, digest := range []string{before, before[:3], "zzzzzzzzzzzz"} {
		code, _, errs = say(t, "promote", "-to", "development", "-shown", digest)
		assert.Equal(t, 1, code)
		assert.Contains(t, errs, "the plan is not the one that was shown")
	}
	code, out, errs = say(t, "promote", "-to", "development", "-shown", shown("-to", "development", "-through", "1"))
	assert.Equal(t, 1, code, out+errs)
	code, out, errs = say(t, "promote", "-to", "development", "-through", "1", "-shown", before)
	assert.Equal(t, 0, code, out+errs)
	back := shown("-env", "development", "-last", "1")
	code, _, _ = say(t, "rollback", "-env", "development", "-last", "1", "-shown", before)
	assert.Equal(t, 1, code)
	code, out, errs = say(t, "rollback", "-env", "development", "-last", "1", "-shown", back)
	assert.Equal(t, 0, code, out+errs)
}

func TestExitCodesTellWhatHappened(t *testing.T) {
	w := world(
		t,
		map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-b.sql": "SELECT 1/0", "3-c.sql": "SELECT 3"},
	)
	pgtest.Exec(t, w.URLs["production"], "CREATE VIEW v AS SELECT 1")
	cases := []struct {
		code int
		out  string
		errs string
		args string
	}{
		{
			0,
			`harbour/development  pending\nat nothing applied · 0 applied · 3 pending · last deployment: none`,
			"", "status -env development",
		},
		{3, `TROUBLE: known-database`, "", "status"},
		{3, `the gate of harbour/production is held\n +hold +known-database`, "", "gate -to production"},
		{
			3, "",
			`The gate of production is held\n +hold +known-database .*1 object and no history.*\n +→ find the last step`,
			"promote -to production",
		},
		{
			0,
			`promoting 1 step on harbour/staging, deployment 1\n  1    a  applied  \d+ ms\n +added  table public.a\n +added    column id +integer\ndeployment 1 done: 1 of 1 step`,
			"",
			"promote -to staging -through 1",
		},
		{
			4,
			`2    b  failed  \d+ ms\n\n2-b.sql:1:1: division by zero \(SQLSTATE 22012\)\n  1 \| SELECT 1/0\n    \| \^`,
			"", "promote -to staging",
		},
		{4, `deployment 2 failed: 0 of 2 steps`, "", "watch 2"},
		{0, `(?s)"kind":"started".*"kind":"ended"`, "", "watch 1 -json"},
		{3, `TROUBLE: failed(?s).*2 +b +failed +transaction +none`, "", "status -env staging"},
		{1, "", `there is no way back for step 1`, "rollback -env staging -last 1 -confirm staging"},
		{
			1, "",
			`a rollback on staging, which is not disposable, needs its name typed as confirmation\nnext: .* -confirm staging`,
			"rollback -env staging -last 1",
		},
		{0, `nothing to do; every step is there`, "", "promote -to staging -through 1"},
		{
			0,
			`SEQ +AT .*\n2 .*failed +2 +b .*\n1 .*applied +1 +a .*\nthe chain of all 2 entries holds`,
			"", "ledger -env staging",
		},
		{0, `ID +LANE.*\n2 +harbour +staging +forward +2 +failed`, "", "deployments"},
		{0, `-- 1 of 2: step 2, forward \(2-b.sql\), mode transaction\nSELECT 1/0\n`, "", "preview -to staging"},
		{0, `harbour/staging can be used`, "", "probe -env staging"},
		{0, `production begins at step 0: 0 steps are covered`, "", "baseline -env production -at 0"},
		{1, "", `there is no environment moon in the lane harbour\nnext: its environments are`, "status -env moon"},
		{2, "", `say which environment: -to NAME`, "promote"},
		{2, "", `flag provided but not defined: -fast`, "promote -fast"},
		{2, "", `say how far, in one way`, "rollback -env staging"},
		{2, "", `say how far, in one way`, "rollback -env staging -last 1 -to 0"},
		{2, "", `say -at STEP`, "baseline -env staging"},
		{2, "", `"extra" is not expected`, "status extra"},
		{2, "", `say of what: -env ENVIRONMENT, alone or with -rows or -drift; or -from and -with`, "draft"},
		{2, "", `say of what: -env ENVIRONMENT`, "draft -from development"},
		{2, "", `say of what: -env ENVIRONMENT`, "draft -from development -with staging -drift keep"},
		{2, "", `"staging" is not expected here; -to names the environment, as in -to staging`, "promote staging"},
		{2, "", `"staging" is not expected here; -env names the environment, as in -env staging`, "drift staging"},
		{2, "", `name one deployment`, "watch"},
		{2, "", `say which step: -step N`, "settle -env staging -as applied"},
		{2, "", `-reason is needed`, "settle -env staging -step 1 -as applied"},
		{
			0,
			`step 1 \(a\) is applied on harbour/staging\nwhat the target shows:\n  column a.id is there`,
			``,
			"settle -env staging -step 1",
		},
		{2, "", `-reason is needed, and one of -step and -through`, "attest -env staging -step 1 -through 2 -reason x"},
		{1, "", `step 1 does not wait on staging: it is applied`, "attest -env staging -step 1 -reason x"},
		{1, "", `staging is not disposable: nothing may empty it`, "rebuild -env staging -confirm staging"},
		{1, "", `step 1 is not the newest of harbour: step 3 \(c\) is`, "withdraw 1"},
		{0, `release 1.0 of harbour is cut: 1 step, through 1\ndigest [0-9a-f]{64}`, "", "cut 1.0 -through 1"},
		{1, "", `release 1.0 has the digest [0-9a-f]{12}, and was cut by`, "cut 1.0"},
		{2, "", `name the release`, "cut"},
		{1, "", `name: "-" is not a valid release name`, "cut - -through 1"},
		{0, `RELEASE +THROUGH.*\n1.0 +1 +1 `, "", "releases"},
		{0, `against staging|it brings nothing new to staging`, "", "releases 1.0 -env staging"},
		{
			1, "",
			`there is no release 2.0 in the lane harbour\nnext: see which there are: vorrang releases`,
			"promote -to staging -release 2.0",
		},
		{
			0,
			`harbour/staging is frozen from .* to 2099-01-01`,
			"",
			"freeze -env staging -until 2099-01-01T12:00:00Z -reason closed",
		},
		{3, "", `hold +freeze +staging is frozen until 2099-01-01`, "promote -to staging"},
		{2, "", `-until: "soon" is not a time`, "freeze -env staging -until soon -reason closed"},
		{0, `1 freeze ended`, "", "thaw -env staging -reason opened"},
		{
			0,
			`backup nightly of harbour/staging is known, taken at 2026-11-23 03:00:00 UTC`,
			"",
			"backup -env staging -label nightly -taken-at 2026-11-23T03:00:00Z",
		},
		{
			0,
			`step 3 \(c\) is withdrawn; 2 steps in the catalogue\n→ take its files out of the folder: 3-c.sql`,
			"", "withdraw 3",
		},
		{1, "", `-on-failure: it is stop or back-out, not "pray"`, "promote -to staging -on-failure pray"},
		{1, "", `step 1 is not in doubt on staging`, "settle -env staging -step 1 -as applied -reason x"},
		{1, "", `step 1 is not edited on staging`, "amend -env staging -step 1 -reason x"},
		{2, "", `there is no command "promot"; did you mean  vorrang promote \?`, "promot -to staging"},
		{2, "", `did you mean  vorrang status \?`, "stauts"},
		{2, "", `there is no command "quay"\n`, "quay"},
		{1, "", `there is no step folder nowhere`, "submit -dir nowhere"},
	}
	for _, c := range cases {
		code, out, errs := say(t, strings.Fields(c.args)...)
		assert.Equal(t, c.code, code, "%s\n%s%s", c.args, out, errs)
		assert.Regexp(t, c.out, out, c.args)
		assert.Regexp(t, c.errs, errs, c.args)
		assert.NotContains(t, out+errs, "\x1b", "%s: no colour where there is no terminal", c.args)
	}
}

func TestAServiceThatDoesNotAnswer(t *testing.T) {
	t.Chdir(t.TempDir())
	t.Setenv("VORRANG_SERVER", "http://127.0.0.1:1")
	code, _, errs := say(t, "lanes")
	assert.Equal(t, 1, code)
	assert.Contains(
		t, errs,
		"the service at http://127.0.0.1:1 does not answer (connection refused); is vorrangd running there?",
	)

	world(t, nil)
	t.Setenv("VORRANG_TOKEN", "planted-wrong-token")
	code, _, errs = say(t, "lanes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "VORRANG_TOKEN")
	assert.NotContains(t, errs, "planted")
}

func TestJSONCanBeRead(t *testing.T) {
	world(t, map[string]string{"1-a.sql": "SELECT 1", "1-a.back.sql": "SELECT 1"})
	for _, c := range []struct {
		args string
		into any
	}{
		{"lanes", &api.Lanes{}}, {"status", &api.Lanes{}}, {"status -env staging", &api.EnvironmentStatus{}},
		{"gate -to staging", &api.GateAnswer{}},
		{"preview -to staging", &api.Preview{}}, {"promote -to staging", &api.Deployment{}},
		{"promote -to staging", &api.Promoted{}},
		{"preview -env staging -last 1", &api.Preview{}}, {"rollback -env staging -last 1 " +
			"-confirm staging", &api.Deployment{}},
		{"ledger -env staging", &api.Ledger{}}, {"deployments", &api.Deployments{}}, {"probe -env staging", &api.Probe{}},
		{"watch 1", &deploy.Event{}},
	} {
		code, out, errs := say(t, append(strings.Fields(c.args), "-json")...)
		require.Equal(t, 0, code, c.args+errs)
		decoder := json.NewDecoder(strings.NewReader(out))
		decoder.DisallowUnknownFields()
		require.NoError(t, decoder.Decode(c.into), "%s: %s", c.args, out)
	}
}

func TestNewWritesTheNextStep(t *testing.T) {
	t.Chdir(t.TempDir())
	code, out, _ := say(t, "new", "Create Berth, at last!")
	require.Equal(t, 0, code)
	assert.Equal(t, "steps/0001-create-berth-at-last.sql\nsteps/0001-create-berth-at-last.back.sql\n", out)
	require.NoError(t, os.WriteFile("steps/0009.3-hotfix.sql", nil, 0o600))
	_, out, _ = say(t, "new", "-check", "add index")
	assert.Equal(t, "steps/0010-add-index.sql\nsteps/0010-add-index.back.sql\nsteps/0010-add-index.check.sql\n", out)
	_, out, _ = say(t, "new", "between", "-number", "9.4")
	assert.Contains(t, out, "steps/0009.4-between.sql")
	code, _, errs := say(t, "new", "again", "-number", "10")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "the number 10 is taken by 0010-add-index")
	code, _, _ = say(t, "new", "!!!")
	assert.Equal(t, 2, code)
	code, _, _ = say(t, "new")
	assert.Equal(t, 2, code)

	require.NoError(t, os.Mkdir("stamps", 0o755))
	require.NoError(t, os.WriteFile("stamps/20261123055721-a.sql", nil, 0o600))
	_, out, _ = say(t, "new", "-dir", "stamps", "b")
	assert.Contains(t, out, "stamps/20261123055722-b.sql")
}

func TestWhichLaneIsMeant(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "SELECT 1"})
	code, _, _ := say(t, "status", "-env", "staging")
	assert.Equal(t, 0, code, "the only lane there is")
	lane := "lane: moon\nenvironments: [{name: dark, target: env:MOON}]\n"
	require.NoError(t, os.WriteFile("lane.yaml", []byte(lane), 0o600))
	code, out, _ := say(t, "declare")
	require.Equal(t, 0, code)
	assert.Equal(t, "lane moon is declared: dark\n  dark  asks for nothing beyond what every gate asks\n", out)
	_, out, _ = say(t, "declare", "-file", "lane.yaml")
	assert.Equal(t, "lane moon stands as it was: dark\n  dark  asks for nothing beyond what every gate asks\n", out)
	code, _, errs := say(t, "status", "-env", "staging")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "there is no environment staging in the lane moon", "lane.yaml in this folder says which")
	require.NoError(t, os.Remove("lane.yaml"))
	code, _, errs = say(t, "status", "-env", "staging")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "say which lane: -lane harbour or -lane moon")
	require.NoError(t, os.WriteFile(filepath.Join(w.Steps, "bad_name.sql"), nil, 0o600))
	code, _, errs = say(t, "submit", "-lane", "harbour", "-dir", w.Steps)
	assert.Equal(t, 1, code)
	assert.Regexp(t, `^bad_name.sql: the name fits no step file: .*\nvorrang: 1 problem; nothing was changed\n$`, errs)
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	_, overview, _ := say(t, "help")
	for _, c := range commands() {
		assert.Contains(t, overview, "  "+c.verb)
		code, out, _ := say(t, append(strings.Fields(c.verb), "-h")...)
		assert.Equal(t, 0, code)
		assert.Regexp(t, `^vorrang `+c.verb, out)
		assert.Regexp(t, `Example:\n  vorrang `+c.verb, out)
		assert.NotRegexp(t, regexp.MustCompile(`(?m)^  -\S+ +$`), out, "every flag is explained")
	}
	code, _, errs := say(t)
	assert.Equal(t, 2, code)
	assert.Contains(
		t, errs,
		"Exit codes: 0 done, or clear · 1 error · 2 usage · 3 held, or not there yet · 4 a deployment failed · "+
			"5 in doubt",
	)
}

// shared is a buffer that can be read while somebody writes to it.
type shared struct {
	mu sync.Mutex
	bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Buffer.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Buffer.String()
}

func TestAClientThatGoesAwayLeavesTheDeploymentRunning(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "SELECT pg_sleep(1); SELECT 1"})
	ctx, cancel := context.WithCancel(t.Context())
	var out, errs shared
	code := make(chan int)
	go func() { code <- report(&errs, run(ctx, []string{"promote", "-to", "staging"}, &out, &errs)) }()
	require.Eventually(t, func() bool {
		d, err := w.Deployment(context.Background(), 1)
		return err == nil && d.Outcome == deploy.Running &&
			strings.Contains(out.String(), "deployment 1") // the client has heard of it
	}, 20*time.Second, 20*time.Millisecond)
	cancel()
	assert.Equal(t, 1, <-code)
	assert.Contains(t, errs.String(), "deployment 1 goes on in the service; vorrang watch 1 shows it")
	done, _, _ := say(t, "watch", "1")
	assert.Equal(t, 0, done)
}

func TestVerifySaysWhatDeviates(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2"})
	for _, environment := range []string{"development", "production"} {
		require.Equal(t, deploy.Done, w.Promoted(environment).Outcome)
	}
	code, out, _ := say(t, "verify", "-env", "development")
	assert.Equal(t, 0, code)
	assert.Equal(t, "the history is consistent in 1 environment of harbour\n", out)

	w.Submitted(map[string]string{"1-a.sql": "SELECT 'edited'"})
	code, out, errs := say(t, "verify", "-junit", "verify.xml")
	assert.Equal(t, 3, code, errs)
	assert.Regexp(
		t,
		`harbour/development checksum: step 1 \(a\) was applied with the checksum \w{12}, and the catalogue's text has \w{12} since 20.* UTC\n  → put the applied text back`,
		out,
	)
	assert.Contains(
		t, out,
		"harbour/production history: step 2 (b) is applied here, and pending in staging",
		"production skipped staging",
	)
	written, err := os.ReadFile("verify.xml")
	require.NoError(t, err)
	assert.Contains(t, string(written), `<testsuite name="harbour/production" tests="8" failures="2" errors="0">`)
	assert.Contains(t, string(written), `<skipped message="it has no history yet"></skipped>`)

	_, out, _ = say(t, "verify", "-env", "staging")
	assert.Equal(t, "1 environment of harbour without a history yet: staging\n", out)
	takeAway(t, w.URLs["staging"])
	code, out, _ = say(t, "verify", "-env", "staging")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "harbour/staging was not reached:")
	code, out, _ = say(t, "verify", "-env", "production", "-junit", "verify.xml")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "harbour/production was not compared with the environment before: staging was not reached\n")
	assert.NotContains(t, out, "consistent")
	written, err = os.ReadFile("verify.xml")
	require.NoError(t, err)
	assert.Contains(t, string(written), `<error message="not compared: staging was not reached"></error>`)
}

// TestADryRunNamesEveryPlace that an edit would trouble, and changes nothing.
func TestADryRunNamesEveryPlace(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2"})
	w.Fleet("production", 3, "canary: 0")
	for _, environment := range []string{"development", "staging"} {
		require.Equal(t, deploy.Done, w.Promoted(environment).Outcome)
	}
	code, _, errs := say(t, "promote", "-to", "production")
	require.Equal(t, 0, code, errs)
	_, before, _ := say(t, "ledger", "-env", "staging")
	w.Write(map[string]string{"1-a.sql": "SELECT 'edited'", "2-b.sql": "SELECT 2 -- words"})
	var out string
	code, out, errs = say(t, "submit", "-dry-run", "-dir", w.Steps, "-junit", "submit.xml")
	require.Equal(t, 3, code, errs)
	assert.Contains(t, out, "  edited  1  a  holds development, staging, production (3 targets: g1, g2, g3), where it is applied\n")
	assert.Contains(t, out, "warning: step 1 is applied on production (3 targets: g1, g2, g3), and was edited (what it runs differs)\n")
	assert.Contains(t, out, "warning: step 2 is applied on staging, and was edited (only comments and white space differ)\n")
	written, err := os.ReadFile("submit.xml")
	require.NoError(t, err)
	assert.Contains(t, string(written), "step 1 is applied on development, and would be changed; step 1 is applied on staging, and would be "+
		"changed; step 1 is applied on production (3 targets: g1, g2, g3), and would be changed")
	_, now, _ := say(t, "ledger", "-env", "staging")
	assert.Equal(t, before, now)
	_, out, _ = say(t, "status", "-env", "staging")
	assert.NotContains(t, out, "TROUBLE", "nothing was changed")

	code, _, errs = say(t, "submit", "-dir", w.Steps)
	require.Equal(t, 0, code, errs)
	code, out, _ = say(t, "verify", "-env", "production")
	assert.Equal(t, 3, code)
	assert.Regexp(t, `harbour/production \(3 targets: g1, g2, g3\) checksum: step 1 \(a\) was applied with the checksum \w+, and the catalogue's `+
		`text has \w+\n`, out)
	assert.Equal(t, 2, strings.Count(out, "checksum:"), "each deviation once")
	w.Away("production.g1")
	w.Away("production.g3")
	_, out, _ = say(t, "verify", "-env", "production")
	assert.Contains(t, out, "harbour/production (2 targets: g1, g3) were not reached: ")
	assert.Contains(t, out, "harbour/production.g2 checksum: step 1")
}

// TestWhatIsGoneFromAListIsSetAsideAtOnce, and nothing else is.
func TestWhatIsGoneFromAListIsSetAsideAtOnce(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "SELECT 1"})
	list := filepath.Join(t.TempDir(), "gauges")
	lines := ""
	for _, name := range []string{"g1", "g2", "g3"} {
		lines += name + " " + pgtest.Database(t) + "\n"
	}
	require.NoError(t, os.WriteFile(list, []byte(lines), 0o600))
	_, err := w.Declare(t.Context(), "lane.yaml", []byte("lane: gauges\nenvironments: [{name: all, targets: \"file:"+list+"\"}]\n"))
	require.NoError(t, err)
	setAside := func(args ...string) (int, string, string) {
		return say(t, append([]string{"set-aside", "-lane", "gauges", "-env", "all"}, args...)...)
	}
	for _, args := range [][]string{{"submit", "-lane", "gauges", "-dir", w.Steps}, {"promote", "-lane", "gauges", "-to", "all"}} {
		code, _, errs := say(t, args...)
		require.Equal(t, 0, code, errs)
	}
	code, out, _ := setAside("-gone", "-reason", "sold")
	assert.Equal(t, 0, code)
	assert.Equal(t, "gauges/all: no target with a history has lost its line\n", out)
	first, _, _ := strings.Cut(lines, "\n")
	require.NoError(t, os.WriteFile(list, []byte(first), 0o600))
	code, out, _ = say(t, "status", "-lane", "gauges", "-env", "all")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "2 of 3 targets (g2, g3): it no longer stands in the list of targets in file:"+list)
	code, _, errs := setAside("-gone")
	assert.Equal(t, 2, code, "without a reason: %s", errs)
	code, out, errs = setAside("-gone", "-reason", "sold")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, "2 targets of gauges/all, whose lines are gone, set aside: g2, g3\n", out)
	_, out, _ = say(t, "status", "-lane", "gauges", "-env", "all")
	assert.Contains(t, out, "gauges/all  in order\n1 target · all agree\n")
	code, _, errs = setAside("-gone", "-target", "g1", "-reason", "x")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "-gone is about the fleet")
}

// takeAway takes a database away from under its URL.
func takeAway(t *testing.T, url string) {
	name := url[strings.LastIndex(url, "/")+1:]
	pgtest.Exec(t, pgtest.Shared(t).URL("postgres"), "ALTER DATABASE "+name+" RENAME TO "+name+"_gone")
}

func TestTheEnginesSayWhatTheyCan(t *testing.T) {
	world(t, map[string]string{"1-a.sql": "SELECT 1"})
	code, out, errs := say(t, "engines")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "postgresql  PostgreSQL, tested with version 15\n")
	assert.NotContains(t, out, "\n\n")
	assert.Contains(
		t, out,
		"mariadb  MariaDB, tested with version 10\n  no   changes of the schema can be rolled back\n",
	)
	assert.Contains(
		t, out,
		"sqlite  SQLite, tested with version 3\n  yes  changes of the schema can be rolled back\n"+
			"  no   steps can run as another role\n",
	)
	assert.Regexp(t, `(?m)^  yes  the ledger can have an owner of its own`, out)
}
