package records_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/access"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/internal/pgtest"
	"vorrang/records"
)

func TestTheAuditIsOnlyEverAddedTo(t *testing.T) {
	url := pgtest.Database(t)
	r := open(t, url)
	t.Cleanup(r.Close)
	ctx := t.Context()
	id, err := r.AddAct(ctx, access.Act{Actor: "m.kai", Operation: "promote"})
	require.NoError(t, err)
	require.NoError(t, r.AnswerAct(ctx, id, json.RawMessage(`{"release": "2026.11"}`), 202, "done"))
	assert.ErrorContains(t, r.AnswerAct(ctx, id, nil, 500, "no, it failed"), "only ever added to")
	conn := pgtest.Connect(t, url)
	for _, sql := range []string{"DELETE FROM records.audit", "TRUNCATE records.audit", "UPDATE records.audit SET actor = 'eve'"} {
		_, err := conn.Exec(ctx, sql)
		assert.ErrorContains(t, err, "only ever added to", sql)
	}
	acts, err := r.Acts(ctx, records.Search{Limit: 5})
	require.NoError(t, err)
	require.Len(t, acts, 1)
	assert.Equal(t, "done", acts[0].Result)
}

func TestSessionsAndTokensEnd(t *testing.T) {
	r := harbour(t)
	ctx := t.Context()
	person := access.Person{Name: "m.kai", Grants: access.Grants{{Role: access.Reader}}, CreatedBy: "pilot"}
	require.NoError(t, r.PutPerson(ctx, person, false))
	require.NoError(t, r.AddSession(ctx, "late", records.Session{Person: &person, Name: "m.kai"}, time.Now().Add(-time.Second)))
	_, err := r.Session(ctx, "late")
	assert.ErrorIs(t, err, records.ErrNotFound)
	require.NoError(t, r.AddSession(ctx, "open", records.Session{Person: &person, Name: "m.kai"}, time.Now().Add(time.Hour)))
	_, err = r.AddToken(ctx, "expired", access.Token{Name: "x", Owner: "m.kai", MadeBy: "m.kai", ExpiresAt: time.Now().Add(-time.Second)})
	require.NoError(t, err)
	_, err = r.Token(ctx, "expired")
	assert.ErrorIs(t, err, records.ErrNotFound)
	_, err = r.AddToken(ctx, "good", access.Token{Name: "x", Owner: "m.kai", MadeBy: "m.kai", ExpiresAt: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	token, err := r.Token(ctx, "good")
	require.NoError(t, err)
	assert.Equal(t, person.Grants, token.Person.All())
	require.NoError(t, r.PutPerson(ctx, person, true))
	_, err = r.Session(ctx, "open")
	assert.ErrorIs(t, err, records.ErrNotFound, "they end with a change of password")
	_, err = r.Token(ctx, "good")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestAWaiverIsUsedUpByTheDeploymentThatItLetsIn(t *testing.T) {
	r := harbour(t)
	ctx := t.Context()
	w, err := r.AddWaiver(ctx, "harbour", "production", gate.Waiver{Check: gate.Soak, Reason: "x", By: "k.brandt", At: time.Now(), Until: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	begin := func() (records.Deployment, error) {
		return r.Begin(ctx, records.Deployment{Lane: "harbour", Environment: "production", Direction: ledger.Forward, Plan: plan.Plan{}, Gate: gate.Result{Waivers: []gate.Waiver{w}}})
	}
	d, err := begin()
	require.NoError(t, err)
	open, err := r.Waivers(ctx, "harbour", "production", time.Now(), 0)
	require.NoError(t, err)
	assert.Empty(t, open)
	own, err := r.Waivers(ctx, "harbour", "production", time.Now(), d.ID)
	require.NoError(t, err)
	assert.Len(t, own, 1, "it still counts for that one")
	require.NoError(t, r.End(ctx, d.ID, deploy.Done, nil))
	_, err = begin()
	assert.ErrorContains(t, err, "has just used the waiver")
	running, err := r.Running(ctx, "harbour", "production")
	require.NoError(t, err)
	assert.Nil(t, running, "and nothing was begun")
}
