package work

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
	"vorrang/records"
	"vorrang/target/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// TestAnErrorOfTheRecordsIsNoneOfTheTarget: a deployment that the target's ledger knows as done is
// not closed as interrupted since the records refuse to be told, however long that takes.
func TestAnErrorOfTheRecordsIsNoneOfTheTarget(t *testing.T) {
	url, target := pgtest.Database(t), pgtest.Database(t)
	store, err := records.Open(t.Context(), postgres.Engine{}, url, records.Settings{Wait: 10 * time.Second, Version: "test"})
	require.NoError(t, err)
	t.Cleanup(store.Close)
	pgtest.Exec(t, url, `INSERT INTO records.lane (name, declaration, applied_by) VALUES ('harbour', '{}', 'm.kai')`)
	pgtest.Exec(t, url, `INSERT INTO records.deployment (lane, environment, direction, outcome, actor, plan, gate, service)
		VALUES ('harbour', 'staging', 'forward', 'running', 'm.kai',
			'{"direction": "forward", "actions": [{"direction": "forward", "step": {"number": "1"}}]}', '{}', 999999)`)
	pgtest.Exec(t, url, `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF NEW.body ->> 'outcome' = 'done' THEN RAISE 'the records are ill'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON records.event FOR EACH ROW EXECUTE FUNCTION refuse()`)
	open := func(ctx context.Context, _ records.Deployment) (engine.Session, error) {
		return postgres.Engine{}.Open(ctx, target, "test")
	}
	session, err := open(t.Context(), records.Deployment{})
	require.NoError(t, err)
	require.NoError(t, session.CreateLedger(t.Context()))
	entry := ledger.NewHead().Next(ledger.Entry{Action: ledger.Applied, Step: "1", Slug: "a", Deployment: "1"}, time.Now())
	require.NoError(t, session.Append(t.Context(), entry))
	session.Close()

	var told []deploy.Outcome
	a := &Abandoned{Deployments: NewDeployments(store, slog.New(slog.DiscardHandler)), Open: open,
		Told: func(_ records.Deployment, outcome deploy.Outcome) { told = append(told, outcome) }}
	a.away = map[int64]time.Time{1: time.Now().Add(-time.Hour)}
	require.ErrorContains(t, a.Close(t.Context()), "the records are ill")
	require.ErrorContains(t, a.Close(t.Context()), "the records are ill")
	outcome, err := store.Outcome(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, deploy.Running, outcome)
	assert.Empty(t, told)

	pgtest.Exec(t, url, "DROP TRIGGER refuse ON records.event")
	require.NoError(t, a.Close(t.Context()))
	assert.Equal(t, []deploy.Outcome{deploy.Done}, told, "as the ledger says")
}
