package service_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

const ledgerKey = "a-key-of-the-tests-0123456789-0123456789"

// owned is a lane with one environment, whose ledger has an owner of its own and
// whose user is no superuser.
type owned struct {
	*servicetest.World
	t         *testing.T
	superuser string // the URL of one
	owner     string
	key       string // the file that holds it
}

func ownedLedger(t *testing.T) owned {
	w := servicetest.Start(t)
	url := w.URLs["staging"]
	database := url[strings.LastIndexByte(url, '/')+1:]
	o := owned{World: w, t: t, superuser: url, owner: "ledger_of_" + database, key: filepath.Join(t.TempDir(), "key")}
	user := "user_of_" + database
	pgtest.Exec(t, url, fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD 'p'", user))
	pgtest.Exec(t, url, fmt.Sprintf("ALTER DATABASE %s OWNER TO %s", database, user))
	pgtest.Exec(t, url, fmt.Sprintf("GRANT CREATE ON SCHEMA public TO %s", user))
	w.URLs["staging"] = fmt.Sprintf("postgres://%s:p@127.0.0.1:%d/%s", user, pgtest.Shared(t).Port, database)
	require.NoError(t, os.WriteFile(w.Files["staging"], []byte(w.URLs["staging"]), 0o600))
	o.setKey(ledgerKey)
	o.declare(o.owner)
	return o
}

func (o owned) setKey(key string) { require.NoError(o.t, os.WriteFile(o.key, []byte(key), 0o600)) }

func (o owned) declare(owner string) {
	lane := fmt.Sprintf(
		"lane: harbour\nsteps-may: [session-user, roles]\nenvironments:\n"+
			"  - {name: staging, target: 'file:%s', ledger-role: %s, ledger-key: 'file:%s', gate: {release: not-asked, "+
			"previous-environment: not-asked}}\n",
		o.Files["staging"],
		owner, o.key,
	)
	_, err := o.Declare(o.t.Context(), "lane.yaml", []byte(lane), "harbour")
	require.NoError(o.t, err)
}

func (o owned) setUp(key string) (string, error) {
	script := must(o.LedgerSetup(o.t.Context(), "harbour", "staging")).SQL
	run := exec.Command("/usr/lib/postgresql/15/bin/psql", "-Xq", o.superuser)
	run.Env, run.Stdin = append(os.Environ(), "VORRANG_LEDGER_KEY="+key), strings.NewReader(script)
	output, err := run.CombinedOutput()
	return string(output), err
}

func (o owned) intact() gate.Check {
	return gate.Result{Checks: must(o.Gate(o.t.Context(), "harbour", "staging", "")).Checks}.Find(gate.LedgerIntact)
}

func TestALedgerWithAnOwnerOfItsOwnIsWrittenByProofOnly(t *testing.T) {
	o := ownedLedger(t)
	ctx := t.Context()
	o.Submitted(
		map[string]string{
			"1-berth.sql":      "CREATE TABLE public.berth (id int);",
			"1-berth.back.sql": "DROP TABLE public.berth;",
		},
	)
	check := o.intact()
	assert.Equal(t, gate.Hold, check.Verdict)
	assert.Contains(t, check.Evidence, "is not as its owner "+o.owner+" is to make it: it is not there yet")
	assert.Contains(t, advice.Text(check.Remedies), "vorrang ledger -lane harbour -env staging -setup")

	output, err := o.setUp("short")
	require.Error(t, err)
	assert.Contains(t, output, "the key has 5 characters; it needs 32 or more")
	output, err = o.setUp(ledgerKey)
	require.NoError(t, err, output)
	assert.Equal(t, gate.Pass, o.intact().Verdict)
	probe := must(o.Probe(ctx, "harbour", "staging"))
	assert.True(t, probe.Usable, "%v", probe.Looks)
	assert.Contains(t, fmt.Sprint(probe.Looks), "belongs to "+o.owner)

	o.Write(map[string]string{
		"2-tide.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE public.tide (id int);\n" +
			"CREATE INDEX CONCURRENTLY tide_id ON public.tide (id);",
		"3-dues.sql": "/*---\nmode: batches\nbatch-size: 2\npause: 0s\n---*/\n" +
			"UPDATE public.berth SET id = 0 WHERE ctid IN (SELECT ctid FROM public.berth WHERE id > 0 LIMIT :batch);",
		"4-pilot.sql": "SET DateStyle = 'German'; SET TimeZone = 'Asia/Tokyo'; SET search_path = pg_temp; CREATE " +
			"TABLE public.pilot (name text); INSERT INTO public.pilot VALUES ('é');",
		"4-pilot.back.sql": "DROP TABLE public.pilot;"})
	_, err = o.Submit(ctx, "harbour", os.DirFS(o.Steps))
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, o.Promoted("staging").Outcome)
	o.Ended(must(o.Rollback(ctx, "harbour", "staging", client.Way{Last: 1}, "staging")))
	history := must(o.Ledger(ctx, "harbour", "staging", 0))
	assert.Empty(t, history.Chain)
	assert.Equal(
		t, o.owner,
		pgtest.Query(
			t, o.superuser,
			"SELECT tableowner FROM pg_tables WHERE schemaname = 'vorrang' AND tablename = 'ledger'",
		),
	)

	o.setKey("another-key-0123456789-0123456789-0123456789")
	o.Submitted(map[string]string{"5-crane.sql": "CREATE TABLE public.crane (id int);"})
	deployment := o.Promoted("staging")
	assert.Equal(t, deploy.Failed, deployment.Outcome)
	assert.Contains(t, deployment.Failure.Message, "the ledger takes entries of Vorrang only")
	assert.Empty(
		t,
		pgtest.Query(t, o.superuser, "SELECT coalesce(to_regclass('public.crane')::text, '')"),
		"nothing without its entry",
	)
	output, err = o.setUp("another-key-0123456789-0123456789-0123456789")
	require.NoError(t, err, output)
	assert.Equal(t, deploy.Done, o.Promoted("staging").Outcome, "the key was changed on both sides")
}

// Whatever a step tries on the ledger, nothing of it is written, and what it does
// not hide fails the step.
func TestAHostileStepCannotWriteALedgerThatItDoesNotOwn(t *testing.T) {
	o := ownedLedger(t)
	o.Submitted(map[string]string{"1-berth.sql": "CREATE TABLE public.berth (id int);"})
	output, err := o.setUp(ledgerKey)
	require.NoError(t, err, output)
	require.Equal(t, deploy.Done, o.Promoted("staging").Outcome)
	newest := must(o.Ledger(t.Context(), "harbour", "staging", 1)).Entries[0]
	forged := newest.Head().Next(ledger.Entry{Action: ledger.Attested, Step: "9", Slug: "theft"}, newest.At)
	forgery := fmt.Sprintf(
		"%d, '%s', '%s', '9', 'theft', '', '', '', 0, '{}', '%s', '%s'",
		forged.Seq, forged.At.Format(ledger.AtLayout), forged.Action, forged.PrevHash, forged.Hash,
	)
	entries := "SELECT string_agg(action, ' ' ORDER BY seq) FROM vorrang.ledger"
	tried := 0
	for sql, message := range map[string]string{
		"INSERT INTO vorrang.ledger VALUES (" + forgery + ")":    "permission denied for table ledger",
		"SELECT vorrang.append(" + forgery + ", '\\x00')":        "the ledger takes entries of Vorrang only",
		"SELECT vorrang.append(" + forgery + ", NULL)":           "the ledger takes entries of Vorrang only",
		"SELECT * FROM vorrang.ledger_key":                       "permission denied for table ledger_key",
		"DELETE FROM vorrang.ledger":                             "permission denied for table ledger",
		"ALTER TABLE vorrang.ledger DISABLE TRIGGER append_only": "must be owner of table ledger",
		"ALTER TABLE vorrang.ledger OWNER TO CURRENT_USER":       "must be owner of table ledger",
		"CREATE TRIGGER t BEFORE INSERT ON vorrang.ledger FOR EACH ROW EXECUTE FUNCTION " +
			"vorrang.refuse_change()": "permission denied",
		"CREATE FUNCTION vorrang.append() RETURNS int LANGUAGE sql AS 'SELECT 1'": "permission denied for schema vorrang",
		"DROP SCHEMA vorrang CASCADE":           "must be owner of schema vorrang",
		"ALTER SCHEMA vorrang RENAME TO other":  "must be owner of schema vorrang",
		"SET ROLE " + o.owner:                   "permission denied to set role",
		"SET SESSION AUTHORIZATION " + o.owner:  "permission denied to set session authorization",
		"GRANT " + o.owner + " TO CURRENT_USER": "must have admin option",
	} {
		tried++
		hidden := fmt.Sprintf("EXECUTE convert_from(decode('%x', 'hex'), 'UTF8')", sql)
		for _, body := range []string{hidden, "BEGIN " + hidden + "; EXCEPTION WHEN OTHERS THEN NULL; END"} {
			o.Write(
				map[string]string{
					"2-hostile.sql":      "CREATE TABLE public.hostile (id int);\nDO $do$ BEGIN " + body + "; END $do$;",
					"2-hostile.back.sql": "DROP TABLE public.hostile;",
				},
			)
			must(o.Submit(t.Context(), "harbour", os.DirFS(o.Steps)))
			deployment := o.Promoted("staging")
			if body == hidden {
				require.Equal(t, deploy.Failed, deployment.Outcome, sql)
				assert.Contains(t, deployment.Failure.Message, message, sql)
				continue
			}
			require.Equal(t, deploy.Done, deployment.Outcome, sql)
			o.Ended(must(o.World.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")))
		}
	}
	written := pgtest.Query(t, o.superuser, entries)
	assert.Equal(
		t,
		"applied"+strings.Repeat(" failed applied rolled-back", tried),
		written,
		"what the deployments did, and nothing else",
	)
	assert.Equal(t, gate.Pass, o.intact().Verdict)
}

// The owner's side is checked too: what would let somebody write past the proof
// holds the gate.
func TestAnOwnerWhomTheUserMayBecomeHoldsTheGate(t *testing.T) {
	o := ownedLedger(t)
	o.Submitted(map[string]string{"1-berth.sql": "CREATE TABLE public.berth (id int);"})
	output, err := o.setUp(ledgerKey)
	require.NoError(t, err, output)
	user := strings.SplitN(strings.TrimPrefix(o.URLs["staging"], "postgres://"), ":", 2)[0]
	for message, c := range map[string]struct{ do, undo string }{
		"user " + user + " is a superuser, or a member of " +
			o.owner: {"GRANT " + o.owner + " TO " + user, "REVOKE " + o.owner + " FROM " + user},
		user + " may write to it": {"GRANT INSERT ON vorrang.ledger TO " + user,
			"REVOKE INSERT ON vorrang.ledger FROM " + user},
		user + " may make objects in its schema": {"GRANT CREATE ON SCHEMA vorrang TO " + user,
			"REVOKE CREATE ON SCHEMA vorrang FROM " + user},
		"everybody may read its key": {"GRANT SELECT ON vorrang.ledger_key TO PUBLIC",
			"REVOKE SELECT ON vorrang.ledger_key FROM PUBLIC"},
		"its function append is gone or another": {"CREATE FUNCTION vorrang.append() " +
			"RETURNS int LANGUAGE sql AS 'SELECT 1'", "DROP FUNCTION vorrang.append()"},
		"user " + user + " can get round its owner as pg_write_all_data": {"GRANT pg_write_all_data TO " + user,
			"REVOKE pg_write_all_data FROM " + user},
		"user " + user + " can get round its owner as pg_read_all_data": {"GRANT pg_read_all_data TO " + user,
			"REVOKE pg_read_all_data FROM " + user},
		"user " + user + " can get round its owner as pg_execute_server_program": {"GRANT pg_execute_server_program TO " +
			user, "REVOKE pg_execute_server_program FROM " + user},
		"user " + user + " can get round its owner as " +
			user: {"ALTER ROLE " + user + " CREATEROLE", "ALTER ROLE " + user + " NOCREATEROLE"},
		"it belongs to " + user + ", and not to " +
			o.owner: {"ALTER TABLE vorrang.ledger OWNER TO " + user,
			"ALTER TABLE vorrang.ledger OWNER TO " + o.owner + "; GRANT SELECT ON vorrang.ledger TO " + user},
	} {
		pgtest.Exec(t, o.superuser, c.do)
		assert.Contains(t, o.intact().Evidence, message)
		pgtest.Exec(t, o.superuser, c.undo)
		require.Equal(t, gate.Pass, o.intact().Verdict, message)
	}
	o.setKey("short")
	status := must(o.Status(t.Context(), "harbour", "staging", "none"))
	assert.Contains(t, fmt.Sprint(status.Trouble), "has fewer than 32 characters")
	pgtest.Exec(t, o.superuser, "CREATE FUNCTION vorrang.left_behind() RETURNS int LANGUAGE sql AS 'SELECT 1'")
	o.setKey(ledgerKey)
	output, err = o.setUp(ledgerKey)
	require.Error(t, err)
	assert.Contains(t, output, "in schema vorrang there is more than the ledger: function vorrang.left_behind()")
}
