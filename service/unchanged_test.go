package service_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestWhoMayChangeNothingHasNoTargetRead again: what a page is told stays as it is, whatever is
// asked for without the right to it, or in a form that is refused.
func TestWhoMayChangeNothingHasNoTargetRead(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.Promoted("staging")
	heardAll(t, w)
	w.HoldClock()
	first := statusAsAPage(t, w)
	w.Pass(time.Millisecond)
	const promotions = "/api/v1/lanes/harbour/environments/staging/promotions"
	for _, request := range []struct {
		method, path string
		headers      map[string]string
		status       int
	}{
		{http.MethodPost, promotions, map[string]string{"Authorization": ""}, http.StatusUnauthorized},
		{http.MethodPost, promotions, map[string]string{"Authorization": "Bearer wrong"}, http.StatusUnauthorized},
		{http.MethodDelete, "/api/v1/nothing", nil, http.StatusNotFound},
		{http.MethodPost, promotions + "?relase=R", nil, http.StatusBadRequest},
	} {
		answer := w.Ask(t, request.method, request.path, nil, request.headers)
		require.Equal(t, request.status, answer.StatusCode, "%s %s", request.method, request.path)
		assert.Equal(t, first.ReadAt, statusAsAPage(t, w).ReadAt, "%s %s", request.method, request.path)
	}
	must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	assert.NotEqual(t, first.ReadAt, statusAsAPage(t, w).ReadAt, "what may have changed something has")
}

// TestTargetsThatDriftedDifferentlyDoNotAgree, though one object differs on each.
func TestTargetsThatDriftedDifferentlyDoNotAgree(t *testing.T) {
	w := servicetest.Start(t)
	w.Fleet("staging", 4, "canary: 1")
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)"})
	w.FleetEnded(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})))
	for target, change := range map[string]string{"g1": "a", "g2": "b", "g3": "b"} {
		pgtest.Exec(t, w.URLs["staging."+target], "ALTER TABLE public.berth ADD COLUMN "+change+" int")
		must(w.Drift(t.Context(), "harbour", "staging."+target))
	}
	status := must(w.Status(t.Context(), "harbour", "staging", "none"))
	var groups [][]string
	for _, group := range status.Fleet.Groups {
		groups = append(groups, group.Targets)
	}
	assert.ElementsMatch(t, [][]string{{"g1"}, {"g2", "g3"}, {"g4"}}, groups)
}
