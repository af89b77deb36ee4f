package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// TestDeploymentsAreSearchedPageByPage: also where the caller may not read all of them.
func TestDeploymentsAreSearchedPageByPage(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE public.berth (id int)", "1-a.back.sql": "DROP TABLE public.berth",
		"2-b.sql": "SELECT 1/0",
	})
	through := client.Promotion{Through: "1"}
	for range 3 { // 1 to 6
		w.Ended(must(w.Promote(t.Context(), "harbour", "development", through)))
		w.Ended(must(w.Rollback(t.Context(), "harbour", "development", client.Way{Last: 1}, "")))
	}
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", through)))                        // 7
	w.Ended(must(w.Promote(t.Context(), "harbour", "development", client.Promotion{})))         // 8 fails
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "2"}))) // 9 fails

	ids := func(c *client.Client, q client.DeploymentQuery) (list []int64, next int64) {
		t.Helper()
		found, err := c.Deployments(t.Context(), q)
		require.NoError(t, err)
		for _, d := range found.Deployments {
			list = append(list, d.ID)
		}
		return list, found.Next
	}
	all := func(c *client.Client, q client.DeploymentQuery) (list []int64) {
		t.Helper()
		for {
			page, next := ids(c, q)
			list, q.Before = append(list, page...), next
			if next == 0 {
				return list
			}
			assert.Len(t, page, q.Limit, "a page that is not the last is full")
		}
	}
	assert.Equal(t, []int64{9, 8, 7, 6, 5, 4, 3, 2, 1}, all(w.Client, client.DeploymentQuery{Limit: 2}))
	assert.Equal(t, []int64{9, 8, 7, 6, 5, 4, 3, 2, 1}, all(w.Client, client.DeploymentQuery{Limit: 9}))
	assert.Equal(t, []int64{9, 8}, all(w.Client, client.DeploymentQuery{Limit: 1, Outcome: "failed"}))
	assert.Equal(t, []int64{9, 8}, all(w.Client, client.DeploymentQuery{Limit: 5, Step: "2"}), "step 2 was to run")
	assert.Equal(t, []int64{9, 7}, all(w.Client, client.DeploymentQuery{Limit: 5, Environment: "staging"}))
	assert.Empty(t, all(w.Client, client.DeploymentQuery{Limit: 5, Actor: "nobody"}))
	assert.Empty(t, all(w.Client, client.DeploymentQuery{Limit: 5, Release: "2026.11"}))
	pilot := w.As("m.kai", "reader@harbour/staging")
	assert.Equal(t, []int64{9, 7}, all(pilot, client.DeploymentQuery{Limit: 1}))

	for _, wrong := range []client.DeploymentQuery{{Outcome: "perhaps"}, {Step: "x y"}, {Before: -1}} {
		_, err := w.Deployments(t.Context(), wrong)
		assert.Equal(t, 400, problem(t, err).Status, "%+v", wrong)
	}
	first := must(w.Deployments(t.Context(), client.DeploymentQuery{Limit: 1}))
	assert.Equal(t, api.Deployments{Deployments: first.Deployments, Next: 9}, *first)
	assert.Equal(t, 1, first.Deployments[0].Planned)
}

// TestRehearsalsAreReadPageByPage: with what the next page is asked for by.
func TestRehearsalsAreReadPageByPage(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)", "1-a.back.sql": "DROP TABLE public.berth"})
	for range 3 {
		must(w.Rehearse(t.Context(), "harbour", "development", client.Rehearsal{}, nil))
	}
	page := func(before int64) (ids []int64, next int64) {
		found := must(w.Rehearsals(t.Context(), "harbour", "development", client.ListQuery{Before: before, Limit: 2}))
		for _, one := range found.Rehearsals {
			ids = append(ids, one.ID)
		}
		return ids, found.Next
	}
	ids, next := page(0)
	assert.Equal(t, []int64{3, 2}, ids)
	assert.EqualValues(t, 2, next)
	ids, next = page(next)
	assert.Equal(t, []int64{1}, ids)
	assert.Zero(t, next)

	w.Submitted(map[string]string{"2-b.sql": "SELECT 1 / 0"})
	must(w.Rehearse(t.Context(), "harbour", "development", client.Rehearsal{}, nil))
	for search, found := range map[string]int{"did not pass": 1, "passed": 3, "LOOSE": 4, "nobody": 0, "%": 0} {
		list := must(w.Rehearsals(t.Context(), "harbour", "development", client.ListQuery{Search: search}))
		assert.Len(t, list.Rehearsals, found, search)
	}
}
