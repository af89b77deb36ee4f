package records_test

import (
	"encoding/json"
	"fmt"
	"sync"
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
	id, err := r.AddAct(ctx, access.AuditEntry{Actor: "m.kai", Operation: "promote"})
	require.NoError(t, err)
	require.NoError(t, r.AnswerAct(ctx, id, json.RawMessage(`{"release": "2026.11"}`), 202, "done"))
	assert.ErrorContains(t, r.AnswerAct(ctx, id, nil, 500, "no, it failed"), "only ever added to")
	conn := pgtest.Connect(t, url)
	for _, sql := range []string{"DELETE FROM records.audit", "TRUNCATE records.audit", "UPDATE records.audit SET " +
		"actor = 'eve'"} {
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
	change := func(change func(p *access.Person)) access.Person {
		p, err := r.ChangePerson(ctx, "m.kai", func(p *access.Person, _ bool) error { change(p); return nil })
		require.NoError(t, err)
		return p
	}
	person := change(func(p *access.Person) {
		*p = access.Person{
			Name:      "m.kai",
			Password:  "one",
			Grants:    access.Grants{{Role: access.Reader}},
			CreatedBy: "pilot",
		}
	})
	require.NoError(
		t,
		r.AddSession(ctx, "late", records.Session{Person: &person, Name: "m.kai"}, time.Now().Add(-time.Second)),
	)
	_, err := r.Session(ctx, "late")
	assert.ErrorIs(t, err, records.ErrNotFound)
	require.NoError(
		t,
		r.AddSession(ctx, "open", records.Session{Person: &person, Name: "m.kai"}, time.Now().Add(time.Hour)),
	)
	require.NoError(t, r.AddOwnToken(ctx, "expired", person, "x", time.Now().Add(-time.Second)))
	_, err = r.Token(ctx, "expired")
	assert.ErrorIs(t, err, records.ErrNotFound)
	require.NoError(t, r.AddOwnToken(ctx, "good", person, "x", time.Now().Add(time.Hour)))
	token, err := r.Token(ctx, "good")
	require.NoError(t, err)
	assert.Equal(t, person.Grants, token.Person.All())
	change(func(p *access.Person) { p.Grants = append(p.Grants, access.Grant{Role: access.Author}) })
	_, err = r.Session(ctx, "open")
	require.NoError(t, err, "they outlive a grant")
	change(func(p *access.Person) { p.Password = "two" })
	_, err = r.Session(ctx, "open")
	assert.ErrorIs(t, err, records.ErrNotFound, "they end with a change of password")
	_, err = r.Token(ctx, "good")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// What somebody changes goes by what is there then, not by what they read before.
func TestNobodyWritesOldThingsOverNewOnes(t *testing.T) {
	r := harbour(t)
	ctx := t.Context()
	read, err := r.ChangePerson(ctx, "m.kai", func(p *access.Person, _ bool) error {
		*p = access.Person{Name: "m.kai", Password: "one", Grants: access.Grants{}, CreatedBy: "pilot"}
		return nil
	})
	require.NoError(t, err)
	now := time.Now()
	_, err = r.ChangePerson(ctx, "m.kai", func(p *access.Person, _ bool) error { p.Disabled = &now; return nil })
	require.NoError(t, err)
	changed, err := r.ChangePassword(ctx, "m.kai", "one", "two")
	require.NoError(t, err)
	assert.False(t, changed, "who was disabled meanwhile does not come back by a change of password")
	assert.ErrorIs(
		t,
		r.AddSession(ctx, "x", records.Session{Person: &read, Name: "m.kai"}, now.Add(time.Hour)),
		records.ErrNotFound, "nor by a sign-in",
	)
	assert.ErrorIs(t, r.AddOwnToken(ctx, "y", read, "x", now.Add(time.Hour)), records.ErrNotFound)
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			_, err := r.ChangePerson(ctx, "l.berg", func(p *access.Person, isNew bool) error {
				if isNew {
					*p = access.Person{Name: "l.berg", CreatedBy: "pilot"}
				}
				p.Grants = append(
					p.Grants,
					access.Grant{Role: access.Reader, Scope: access.Scope{Lane: fmt.Sprintf("lane%d", i)}},
				)
				return nil
			})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	person, err := r.Person(ctx, "l.berg")
	require.NoError(t, err)
	assert.Len(t, person.Grants, 20, "no grant is lost")
	assert.ErrorIs(
		t,
		r.AddSession(
			ctx, "x",
			records.Session{Person: &access.Person{Name: "l.berg", Password: "another"}, Name: "l.berg"},
			now.Add(time.Hour),
		),
		records.ErrNotFound,
	)
}

func TestAWaiverIsUsedUpByTheDeploymentThatItLetsIn(t *testing.T) {
	r := harbour(t)
	ctx := t.Context()
	w, err := r.AddWaiver(
		ctx, "harbour", "production",
		gate.Waiver{Check: gate.Soak, Reason: "x", By: "k.brandt", At: time.Now(), Until: time.Now().Add(time.Hour)},
	)
	require.NoError(t, err)
	begin := func() (records.Deployment, error) {
		return r.Begin(
			ctx,
			records.Deployment{
				Lane:        "harbour",
				Environment: "production",
				Direction:   ledger.Forward,
				Plan:        plan.Plan{},
				Gate:        gate.Result{Waivers: []gate.Waiver{w}},
			},
		)
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
