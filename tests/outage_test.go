package tests

import (
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

const waits = "/*---\nlock-timeout: none\n---*/\nCREATE TABLE slow (id int);\nSELECT pg_advisory_xact_lock(7);\nINSERT INTO slow VALUES (1);"

func TestADeploymentOutlivesItsRecords(t *testing.T) {
	recordsServer, target := pgtest.Own(t), pgtest.Database(t)
	p := startProcess(t, "TARGET="+target, "RECORDS="+recordsServer.Database(t))
	_, err := p.ApplyLane(t.Context(), "lane.yaml", []byte(oneLane))
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
	require.Eventually(t, func() bool { return pgtest.Query(t, target, "SELECT to_regclass('b')") == "b" }, 20*time.Second, 50*time.Millisecond)
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
	answer, err := p.Gate(t.Context(), "harbour", "staging")
	require.NoError(t, err)
	assert.Equal(t, "clear", answer.Gate)
}

func TestATargetThatStopsInMidStep(t *testing.T) {
	server := pgtest.Own(t)
	target := server.Database(t)
	p := startProcess(t, "TARGET="+target)
	_, err := p.ApplyLane(t.Context(), "lane.yaml", []byte(oneLane))
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
	_, err := p.ApplyLane(t.Context(), "lane.yaml", []byte(oneLane))
	require.NoError(t, err)
	p.submit(map[string]string{"1-slow.sql": "/*---\nmode: autocommit\nlock-timeout: none\n---*/\nCREATE TABLE slow (id int);\nSELECT pg_sleep(60);\nINSERT INTO slow VALUES (1);"})
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
	_, err = p.Settle(t.Context(), "harbour", "staging", client.Settlement{Step: "1", As: "applied", Reason: "it slept"})
	assert.ErrorContains(t, err, "as a whole it cannot have been applied", "a statement is missing")
	_, err = p.Settle(t.Context(), "harbour", "staging", client.Settlement{Step: "1", As: "not-applied", Reason: "a sleep leaves nothing"})
	require.NoError(t, err)
	p.submit(map[string]string{"1-slow.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE slow (id int);\nSELECT 2;\nINSERT INTO slow VALUES (1);"})
	again, err := p.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	require.NoError(t, p.Follow(t.Context(), again.Deployment.ID, 0, func(deploy.Event) error { return nil }))
	ended, err := p.Deployment(t.Context(), again.Deployment.ID)
	require.NoError(t, err)
	require.Nil(t, ended.Failure, "%v", ended.Failure)
	assert.Equal(t, "1", pgtest.Query(t, target, "SELECT count(*) FROM slow"), "it went on at the statement in doubt")
}
