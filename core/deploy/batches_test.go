package deploy_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
)

const batched = "/*---\nmode: batches\nbatch-size: 100\npause: 0\n---*/\n"

const backfill = batched + "UPDATE vessel SET draught_m = draught_cm / 100.0 -- not :batch\n" +
	"WHERE id IN (SELECT id FROM vessel WHERE draught_m IS NULL ORDER BY id LIMIT :batch)"

// fleet is a yard with a thousand vessels whose draught is to be rewritten.
func fleet(t *testing.T) *yard {
	y := newYard(t, map[string]string{"1-fill.sql": backfill,
		"1-fill.check.sql": "SELECT count(*) = 0 FROM vessel WHERE draught_m IS NULL",
		"1-fill.back.sql":  "UPDATE vessel SET draught_m = NULL"})
	pgtest.Exec(
		t,
		y.url,
		`SET search_path = public; CREATE TABLE vessel (id int PRIMARY KEY, draught_cm int NOT NULL, draught_m numeric,
			writes int DEFAULT 0);
		INSERT INTO vessel SELECT n, 400 + n FROM generate_series(1, 1000) n; ANALYZE vessel;
		CREATE FUNCTION counted() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.writes := NEW.writes + 1; RETURN NEW; END';
		CREATE TRIGGER counted BEFORE UPDATE ON vessel FOR EACH ROW
			WHEN (NEW.draught_m IS NOT NULL) EXECUTE FUNCTION public.counted()`,
	)
	return y
}

const writes = "SELECT count(*) || ' ' || min(writes) || ' ' || max(writes) FROM vessel"

func (y *yard) batchEvents() []deploy.Event {
	var list []deploy.Event
	for _, e := range y.events {
		if e.Kind == deploy.Batch {
			list = append(list, e)
		}
	}
	return list
}

func TestABackfillRunsInBatchesUntilNothingIsLeft(t *testing.T) {
	y := fleet(t)
	result := y.promote()
	require.Equal(t, deploy.Done, result.Outcome, "%v", result.Failure)
	assert.Equal(t, "1000 1 1", y.query(writes), "every row was written once")
	assert.Equal(t, "10", y.query("SELECT count(DISTINCT xmin::text) FROM vessel"), "in ten transactions")
	assert.Equal(t, "begun applied", y.query("SELECT string_agg(action, ' ' ORDER BY seq) FROM vorrang.ledger"))
	assert.Equal(t, "1000", y.query("SELECT detail ->> 'rows' FROM vorrang.ledger WHERE action = 'applied'"))

	news := y.batchEvents()
	require.NotEmpty(t, news)
	assert.Equal(t, int64(100), news[0].Rows)
	assert.Equal(t, int64(900), news[0].Rest, "the planner's estimate, without the first batch")
	last := news[len(news)-1]
	assert.Equal(t, int64(1000), last.Rows)
	assert.Positive(t, last.Rate)

	require.Equal(t, deploy.Done, y.rollback(1).Outcome, "a way back without :batch runs once")
	assert.Equal(t, "1", y.query("SELECT count(DISTINCT xmin::text) FROM vessel"))
	y.files["1-fill.back.sql"] = "UPDATE vessel SET draught_m = NULL WHERE id IN (SELECT id FROM vessel WHERE " +
		"draught_m IS NOT NULL LIMIT :batch)"
	require.Equal(t, deploy.Done, y.promote().Outcome)
	require.Equal(t, deploy.Done, y.rollback(1).Outcome)
	assert.Equal(t, "10", y.query("SELECT count(DISTINCT xmin::text) FROM vessel"), "one with it, in batches")
}

func TestABackfillGoesOnWhereItStopped(t *testing.T) {
	stops := map[string]struct {
		stop    func(*yard, context.CancelCauseFunc)
		outcome deploy.Outcome
		status  ledger.Status
	}{
		"somebody cancels it": {
			func(_ *yard, cancel context.CancelCauseFunc) { cancel(deploy.ErrCancelled) },
			deploy.Cancelled, ledger.StatusFailed,
		},
		"the service stops": {
			func(y *yard, _ context.CancelCauseFunc) { close(y.stop) },
			deploy.Interrupted, ledger.StatusFailed,
		},
		"the connection breaks": {
			func(y *yard, _ context.CancelCauseFunc) { y.terminate() },
			deploy.Failed, ledger.StatusInDoubt,
		},
		"a row refuses (and is fixed)": {func(y *yard, _ context.CancelCauseFunc) {
			pgtest.Exec(y.t, y.url, "UPDATE public.vessel SET draught_cm = -1 WHERE id = 950")
		}, deploy.Failed, ledger.StatusFailed},
	}
	for name, c := range stops {
		t.Run(name, func(t *testing.T) {
			y := fleet(t)
			pgtest.Exec(t, y.url, "ALTER TABLE public.vessel ADD CHECK (draught_m > 0)")
			ctx, cancel := context.WithCancelCause(t.Context())
			y.onEvent = func(e deploy.Event) {
				if e.Kind == deploy.Batch {
					y.onEvent = nil
					c.stop(y, cancel)
				}
			}
			p, err := plan.Forward(y.view(), "")
			require.NoError(t, err)
			assert.Equal(t, c.outcome, y.run(ctx, p).Outcome)
			y.open()
			y.stop = make(chan struct{})
			st := y.view().State.Of("1")
			require.Equal(t, c.status, st.Status)
			if st.Status == ledger.StatusFailed {
				assert.GreaterOrEqual(t, st.Progress().Rows, int64(100))
				pgtest.Exec(t, y.url, "UPDATE public.vessel SET draught_cm = 400 WHERE draught_cm < 0")
				require.Equal(t, deploy.Done, y.promote().Outcome)
				assert.Equal(
					t, "1000",
					y.query("SELECT detail ->> 'rows' FROM vorrang.ledger WHERE action = 'applied'"),
					"rows of both tries",
				)
				assert.Equal(t, "1000 1 1", y.query(writes), "no row was written twice")
			}
		})
	}
}

// terminate ends the deployment's session from outside.
func (y *yard) terminate() {
	pgtest.Exec(
		y.t, y.url,
		"SELECT pg_terminate_backend(pid, 60000) FROM pg_stat_activity WHERE application_name = 'deploy test' AND datname = "+
			"current_database()",
	)
}
