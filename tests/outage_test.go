package tests

import (
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
	"vorrang/service/api"
)

const oneLane = "lane: harbour\nenvironments: [{name: staging, target: env:TARGET}]\n"

// gateKeeper holds an advisory lock that a step waits for, so that a test
// decides when the step goes on.
func gateKeeper(t *testing.T, url string) *pgx.Conn {
	keeper := pgtest.Connect(t, url)
	_, err := keeper.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	return keeper
}

const waits = "/*---\nlock-timeout: none\n---*/\nCREATE TABLE slow (id int);\nSELECT pg_advisory_xact_lock(7);\n" +
	"INSERT INTO slow VALUES (1);"

func TestADeploymentOutlivesItsRecords(t *testing.T) {
	recordsServer, target := pgtest.Own(t), pgtest.Database(t)
	p := startProcess(t, "TARGET="+target, "RECORDS="+recordsServer.Database(t))
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(map[string]string{"1-slow.sql": waits, "2-b.sql": "CREATE TABLE b (id int)"})
	keeper := gateKeeper(t, target)
	promoted, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	p.until(promoted.Deployment.ID, second)

	require.NoError(t, recordsServer.Stop("immediate"))
	_, err = p.Lanes(t.Context())
	assert.Error(t, err)
	_, err = keeper.Exec(t.Context(), "SELECT pg_advisory_unlock(7)")
	require.NoError(t, err)
	require.Eventually(
		t,
		func() bool { return pgtest.Query(t, target, "SELECT to_regclass('b')") == "b" },
		20*time.Second, 50*time.Millisecond,
	)
	require.NoError(t, recordsServer.Start())

	var kinds []deploy.Kind
	require.NoError(t, p.Follow(t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
		assert.Equal(t, int64(len(kinds)+1), e.Seq, "no event is lost")
		kinds = append(kinds, e.Kind)
		return nil
	}))
	assert.Equal(t, deploy.Ended, kinds[len(kinds)-1])
	ended, err := p.Deployment(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, ended.Outcome)
	answer, err := p.Gate(t.Context(), "harbour", "staging", "")
	require.NoError(t, err)
	assert.Equal(t, "clear", answer.Gate)
}

func TestATargetThatStopsInMidStep(t *testing.T) {
	server := pgtest.Own(t)
	target := server.Database(t)
	p := startProcess(t, "TARGET="+target)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-slow.sql": waits})
	gateKeeper(t, target)
	promoted, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	p.until(promoted.Deployment.ID, second)
	require.NoError(t, server.Stop("immediate"))
	require.NoError(t, p.Follow(t.Context(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }))
	ended, err := p.Deployment(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.True(t, ended.Failure.Lost)
	status, err := p.Status(t.Context(), "harbour", "staging", "none")
	require.NoError(t, err)
	assert.False(t, status.Reached)
	assert.Contains(t, status.Trouble[0].Message, "nobody listens at 127.0.0.1")

	require.NoError(t, server.Start())
	again, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	assert.Equal(t, 1, again.Deployment.Planned)
	require.NoError(t, p.Follow(t.Context(), again.Deployment.ID, 0, func(deploy.Event) error { return nil }))
	assert.Equal(t, "1", pgtest.Query(t, target, "SELECT count(*) FROM slow"))
	verified, err := p.Verify(t.Context(), "harbour", "")
	require.NoError(t, err)
	assert.Empty(t, verified.Deviations)
}

func TestAKilledServiceLeavesAnAutocommitStepInDoubt(t *testing.T) {
	target := pgtest.Database(t)
	p := startProcess(t, "TARGET="+target)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(
		map[string]string{
			"1-slow.sql": "/*---\nmode: autocommit\nlock-timeout: none\n---*/\nCREATE TABLE slow (id int);\n" +
				"SELECT pg_sleep(60);\nINSERT INTO slow VALUES (1);",
		},
	)
	promoted, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	p.until(promoted.Deployment.ID, second)
	p.kill()
	p.start()

	status, err := p.Status(t.Context(), "harbour", "staging", "all")
	require.NoError(t, err)
	assert.Equal(t, ledger.StatusInDoubt, status.Steps[0].State)
	assert.Equal(t, string(gate.NothingInDoubt), status.Trouble[0].Kind)
	_, err = p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.ErrorContains(t, err, "step 1 is in doubt: its statement 2 of 3 began")
	_, err = p.Settle(
		t.Context(), "harbour", "staging",
		client.Settlement{Step: "1", As: "not-applied", Reason: "a sleep leaves nothing"},
	)
	require.NoError(t, err)
	p.submit(
		map[string]string{
			"1-slow.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE slow (id int);\nSELECT 2;\nINSERT INTO slow VALUES (1);",
		},
	)
	again, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	require.NoError(t, p.Follow(t.Context(), again.Deployment.ID, 0, func(deploy.Event) error { return nil }))
	ended, err := p.Deployment(t.Context(), again.Deployment.ID)
	require.NoError(t, err)
	require.Nil(t, ended.Failure, "%v", ended.Failure)
	assert.Equal(t, "1", pgtest.Query(t, target, "SELECT count(*) FROM slow"), "it went on at the statement in doubt")
}

// A disk that is full is a small file system in memory, in which the target's
// tables lie.
func TestAFullDiskFailsTheStepAndNothingElse(t *testing.T) {
	server := pgtest.Own(t)
	disk := smallDisk(t, server.Folder)
	space := filepath.Join(disk, "space")
	require.NoError(t, exec.Command("install", "-d", "-o", "postgres", "-m", "700", space).Run())
	target := server.Database(t)
	pgtest.Exec(t, server.URL("postgres"), "CREATE TABLESPACE small LOCATION '"+space+"'")
	pgtest.Exec(
		t, target,
		"SET search_path = public; CREATE TABLE reading (at int, level text); CREATE TABLE level (at int PRIMARY KEY, "+
			"level text) TABLESPACE small; "+
			"INSERT INTO reading SELECT n, repeat('x', 100) FROM generate_series(1, 200000) n",
	)

	p := startProcess(t, "TARGET="+target)
	_, err := p.Declare(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(map[string]string{"1-copy.sql": "CREATE TABLE copy TABLESPACE small AS SELECT * FROM reading"})
	_, err = p.Baseline(t.Context(), "harbour", "staging", "0", false)
	require.NoError(t, err)
	promote := func() *api.Deployment {
		promoted, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		require.NoError(t, err)
		require.NoError(t, p.Follow(t.Context(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }))
		ended, err := p.Deployment(t.Context(), promoted.Deployment.ID)
		require.NoError(t, err)
		return ended
	}
	ended := promote()
	require.Equal(t, deploy.Failed, ended.Outcome)
	assert.Equal(t, "53100", ended.Failure.SQLState)
	assert.Contains(t, ended.Failure.Message, "No space left on device")
	assert.Equal(t, "null", pgtest.Query(t, target, "SELECT to_regclass('copy')"), "nothing of it is there")

	p.submit(
		map[string]string{
			"1-copy.sql": "SELECT 1",
			"2-fill.sql": "/*---\nmode: batches\nbatch-size: 20000\npause: 0\n---*/\n" +
				"INSERT INTO level SELECT * FROM reading WHERE at > (SELECT coalesce(max(at), 0) FROM level) ORDER BY at " +
				"LIMIT :batch",
		},
	)
	ended = promote()
	require.Equal(t, deploy.Failed, ended.Outcome)
	assert.Equal(t, "53100", ended.Failure.SQLState)
	assert.Contains(t, ended.Failure.Left, "rows so far; the next promotion goes on from there")
	assert.NotEqual(t, "0", pgtest.Query(t, target, "SELECT count(*) FROM level"), "the batches before it stay")

	require.NoError(t, exec.Command("mount", "-o", "remount,size=256m", disk).Run())
	require.Equal(t, deploy.Done, promote().Outcome)
	assert.Equal(t, "200000", pgtest.Query(t, target, "SELECT count(*) FROM level"))
}
