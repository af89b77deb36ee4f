package service_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/access"
	"vorrang/core/ledger"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// pages reads a list page by page, none of them longer than limit.
func pages[T any, K comparable](t *testing.T, limit int, read func(from K) (page []T, next K)) (all []T) {
	t.Helper()
	var from, none K
	for {
		page, next := read(from)
		require.LessOrEqual(t, len(page), limit)
		all = append(all, page...)
		if next == none {
			return all
		}
		require.Len(t, page, limit, "only the last page is shorter")
		from = next
	}
}

func each[T, K any](list []T, of func(T) K) (some []K) {
	for _, one := range list {
		some = append(some, of(one))
	}
	return some
}

// TestReleasesAreSearchedAndPaged, each once.
func TestReleasesAreSearchedAndPaged(t *testing.T) {
	w := servicetest.Start(t)
	for i := range 5 {
		w.Submitted(map[string]string{fmt.Sprintf("%d-a.sql", i+1): fmt.Sprintf("SELECT %d", i)})
		cut := client.Cutting{Name: fmt.Sprintf("2026.%d", i), Notes: []string{"Spring tide", "Neap tide"}[i%2]}
		must(w.Cut(t.Context(), "harbour", cut))
	}
	names := pages(t, 2, func(before string) ([]string, string) {
		list := must(w.ReleasesPage(t.Context(), "harbour", client.ReleaseQuery{Limit: 2, Before: before}))
		return each(list.Releases, func(r release.Release) string { return r.Name }), list.Next
	})
	assert.Equal(t, []string{"2026.4", "2026.3", "2026.2", "2026.1", "2026.0"}, names)
	found := must(w.ReleasesPage(t.Context(), "harbour", client.ReleaseQuery{Search: "NEAP"}))
	assert.Len(t, found.Releases, 2)
	assert.Empty(t, found.Next)
	assert.Len(t, must(w.ReleasesPage(t.Context(), "harbour", client.ReleaseQuery{Search: "2026.3"})).Releases, 1)
	assert.Empty(t, must(w.ReleasesPage(t.Context(), "harbour", client.ReleaseQuery{Search: "100%"})).Releases)
}

// TestALedgerIsPagedAndSearchedByStep.
func TestALedgerIsPagedAndSearchedByStep(t *testing.T) {
	w := servicetest.Start(t)
	files := map[string]string{}
	for i := range 5 {
		files[fmt.Sprintf("%d-a.sql", i+1)] = "SELECT 1"
		files[fmt.Sprintf("%d-a.back.sql", i+1)] = "SELECT 1"
	}
	w.Submitted(files)
	w.Promoted("staging")
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")))
	seqs := pages(t, 4, func(before int64) ([]int64, int64) {
		list := must(w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Limit: 4, Before: before}))
		assert.Equal(t, 6, list.Total)
		return each(list.Entries, func(e ledger.Entry) int64 { return e.Seq }), list.Next
	})
	assert.Equal(t, []int64{6, 5, 4, 3, 2, 1}, seqs)
	fifth := must(w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Step: "05"}))
	assert.Len(t, fifth.Entries, 2)
	_, err := w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Step: "five"})
	require.ErrorContains(t, err, "step: ")
}

// TestPeopleTokensAndHooksAreSearchedAndPaged by names, or the newest first.
func TestPeopleTokensAndHooksAreSearchedAndPaged(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	for i, name := range []string{"wieland", "arne", "berit", "hilde", "janne"} {
		grants := []string{"reader", "approver@harbour"}[i%2 : i%2+1]
		must(w.PutPerson(ctx, name, client.PersonChange{Password: new("long enough a word"), Grant: grants}))
		must(w.MakeToken(ctx, "nightly-"+name, []string{"reader"}, time.Hour))
		must(w.PutHook(ctx, api.Hook{
			Name: "chat-" + name, URL: "http://127.0.0.1:9/" + name, Secret: "env:SECRET", Events: []string{"held"},
		}))
	}
	person := func(p access.Person) string { return p.Name }
	found := func(q client.ListQuery) []string { return each(must(w.People(ctx, q)).People, person) }
	assert.Equal(t, []string{"arne", "berit", "hilde", "janne", "wieland"}, pages(t, 2,
		func(after string) ([]string, string) {
			list := must(w.People(ctx, client.ListQuery{Limit: 2, After: after}))
			return each(list.People, person), list.Next
		}))
	assert.Equal(t, []string{"arne", "hilde"}, found(client.ListQuery{Search: "APPROVER@"}))
	assert.Empty(t, found(client.ListQuery{Search: "%"}), "it is a text, not a pattern")

	token := func(k access.Token) string { return k.Name }
	assert.Equal(t, []string{"nightly-janne", "nightly-hilde", "nightly-berit", "nightly-arne", "nightly-wieland"}, pages(t, 3,
		func(before int64) ([]string, int64) {
			list := must(w.Tokens(ctx, client.ListQuery{Limit: 3, Before: before}))
			return each(list.Tokens, token), list.Next
		}))
	assert.Equal(t, []string{"nightly-berit"}, each(must(w.Tokens(ctx, client.ListQuery{Search: "berit"})).Tokens, token))

	hook := func(h api.Hook) string { return h.Name }
	assert.Len(t, pages(t, 4, func(after string) ([]string, string) {
		list := must(w.Hooks(ctx, client.ListQuery{Limit: 4, After: after}))
		return each(list.Hooks, hook), list.Next
	}), 5)
	assert.Equal(t, []string{"chat-arne"}, each(must(w.Hooks(ctx, client.ListQuery{Search: "9/arne"})).Hooks, hook))
}

// TestScheduledPromotionsArePaged: those that wait are all on the first page.
func TestScheduledPromotionsArePaged(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	for i := range 8 {
		place := []string{"staging", "production"}[i/7]
		kept := must(w.Promote(ctx, "harbour", place, client.Promotion{At: time.Now().Add(time.Duration(i+1) * time.Hour)}))
		if i < 5 {
			require.NoError(t, w.DropScheduled(ctx, "harbour", place, kept.Scheduled.ID))
		}
	}
	list := func(environment string, q client.ListQuery) *api.ScheduledList {
		return must(w.Scheduled(ctx, "harbour", environment, q))
	}
	state := func(k api.Scheduled) string { return k.State }
	id := func(k api.Scheduled) int64 { return k.ID }
	first := list("staging", client.ListQuery{Limit: 2})
	assert.Equal(t, []string{"waiting", "waiting", "dropped", "dropped"}, each(first.Scheduled, state))
	assert.Equal(t, []int64{6, 7, 5, 4}, each(first.Scheduled, id), "those that wait by their time, the others by age")
	second := list("staging", client.ListQuery{Limit: 2, Before: first.Next})
	assert.Equal(t, []int64{3, 2}, each(second.Scheduled, id))
	last := list("staging", client.ListQuery{Limit: 2, Before: second.Next})
	assert.Equal(t, []int64{1}, each(last.Scheduled, id))
	assert.Zero(t, last.Next)
	assert.Len(t, list("", client.ListQuery{}).Scheduled, 8)
	assert.Equal(t, []int64{8}, each(list("production", client.ListQuery{}).Scheduled, id))
	assert.Len(t, list("", client.ListQuery{Search: "waiting"}).Scheduled, 3)
	assert.Len(t, list("", client.ListQuery{Search: "dropped"}).Scheduled, 5)
}

// TestEffectsArePagedByDeployment, and found by the object that they are about.
func TestEffectsArePagedByDeployment(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	for i, name := range []string{"berth", "quay", "pilot"} {
		w.Submitted(map[string]string{
			fmt.Sprintf("%d-a.sql", 2*i+1): "CREATE TABLE public." + name + " (id bigint)",
			fmt.Sprintf("%d-b.sql", 2*i+2): "ALTER TABLE public." + name + " ADD COLUMN remark text",
		})
		w.Promoted("staging")
	}
	read := func(q client.ListQuery) (steps []string, next int64) {
		list := must(w.Effects(ctx, "harbour", "staging", q))
		return each(list.Effects, func(e api.StepEffect) string { return string(e.Step) }), list.Next
	}
	assert.Equal(t, []string{"6", "5", "4", "3", "2", "1"}, pages(t, 2, func(before int64) ([]string, int64) {
		return read(client.ListQuery{Limit: 1, Before: before})
	}))
	about, _ := read(client.ListQuery{Search: "public.quay"})
	assert.Equal(t, []string{"4", "3"}, about)
	about, _ = read(client.ListQuery{Search: "quay"})
	assert.Empty(t, about, "a name is searched for in full")
}

// TestStepsAreSearchedAndPaged, the newest first, and in the order of numbers.
func TestStepsAreSearchedAndPaged(t *testing.T) {
	w := servicetest.Start(t)
	files := map[string]string{"9-dredge.sql": "SELECT 1/0"}
	for _, number := range []string{"1", "2", "2.1", "10"} {
		files[number+"-set-tide.sql"] = "SELECT " + number
	}
	w.Submitted(files)
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "2.1"})))
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))) // 9 fails
	steps := func(q client.StepQuery) (*api.Steps, []step.Number) {
		t.Helper()
		list := must(w.Client.Steps(t.Context(), "harbour", "staging", q))
		return list, each(list.Steps, func(s api.StepStatus) step.Number { return s.Number })
	}
	all := []step.Number{"10", "9", "2.1", "2", "1"}
	assert.Equal(t, all, pages(t, 2, func(before step.Number) ([]step.Number, step.Number) {
		list, numbers := steps(client.StepQuery{Limit: 2, Before: string(before)})
		return numbers, list.Next
	}))
	list, numbers := steps(client.StepQuery{})
	assert.Equal(t, all, numbers)
	assert.True(t, list.Reached)
	list, numbers = steps(client.StepQuery{Open: true, Limit: 1})
	assert.Equal(t, []step.Number{"10"}, numbers)
	assert.Equal(t, []any{5, 2, step.Number("10"), step.Number("10")}, []any{list.Total, list.Open, list.Newest, list.Next})
	for search, found := range map[string][]step.Number{
		"Set Tide": {"10", "2.1", "2", "1"}, "dredge": {"9"}, "failed": {"9"}, "2.": {"2.1"}, "quay": nil,
	} {
		_, numbers = steps(client.StepQuery{Search: search})
		assert.Equal(t, found, numbers, search)
	}
	status := must(w.Status(t.Context(), "harbour", "staging", "open"))
	assert.Equal(t, []step.Number{"9", "10"}, each(status.Steps, func(s api.StepStatus) step.Number { return s.Number }))
	_, err := w.Client.Steps(t.Context(), "harbour", "staging", client.StepQuery{Before: "two"})
	assert.ErrorContains(t, err, "before: ")

	w.Away("staging")
	list, numbers = steps(client.StepQuery{})
	assert.False(t, list.Reached)
	assert.Empty(t, numbers)
}

// TestLanesAreSearchedAndPaged, and named without a look at their targets.
func TestLanesAreSearchedAndPaged(t *testing.T) {
	w := servicetest.Start(t)
	for i, name := range []string{"dues", "pilots", "tides"} {
		w.Files[name] = filepath.Join(t.TempDir(), name)
		w.Away(name)
		must(w.Declare(t.Context(), "lane.yaml", []byte(fmt.Sprintf("lane: %s\nabout: Table %d\nengine: postgresql\nenvironments:\n"+
			"  - name: staging\n    target: file:%s\n", name, i, w.Files[name]))))
	}
	names := func(list *api.Lanes) []string {
		return each(list.Lanes, func(l api.LaneStatus) string { return l.Lane })
	}
	all := []string{"dues", "harbour", "pilots", "tides"}
	assert.Equal(t, all, pages(t, 3, func(after string) ([]string, string) {
		list := must(w.LanesPage(t.Context(), client.LaneQuery{ListQuery: client.ListQuery{Limit: 3, After: after}}))
		return names(list), list.Next
	}))
	for search, found := range map[string][]string{"TABLE 1": {"pilots"}, "tid": {"tides"}, "quay": nil} {
		list := must(w.LanesPage(t.Context(), client.LaneQuery{ListQuery: client.ListQuery{Search: search}}))
		assert.Equal(t, found, names(list), search)
	}
	for _, l := range must(w.LaneNames(t.Context())).Lanes {
		for _, e := range l.Environments {
			assert.False(t, e.Reached)
			assert.Empty(t, e.Trouble, "nobody looked at %s", e.Environment)
		}
	}
	looked := must(w.LanesPage(t.Context(), client.LaneQuery{ListQuery: client.ListQuery{Search: "dues"}}))
	assert.Equal(t, "unreachable", looked.Lanes[0].Environments[0].Trouble[0].Kind)
}

// TestWhatMayNotBeSeenLeavesNoGaps: of those who may look at one environment only, too, each page but the last is full.
func TestWhatMayNotBeSeenLeavesNoGaps(t *testing.T) {
	w := servicetest.Start(t)
	some := w.As("some", "reader@harbour/staging")
	w.Fleet("staging", 2, "canary: 1")
	w.Fleet("development", 2, "canary: 1")
	var fleets, scheduled []int64
	for i := range 2 {
		w.Submitted(map[string]string{fmt.Sprintf("%d-a.sql", i+1): "SELECT 1"})
		for _, environment := range []string{"staging", "development"} {
			later := must(w.Promote(t.Context(), "harbour", environment, client.Promotion{At: time.Now().Add(time.Hour)})).Scheduled.ID
			require.NoError(t, w.DropScheduled(t.Context(), "harbour", environment, later))
			begun := w.FleetEnded(must(w.Promote(t.Context(), "harbour", environment, client.Promotion{}))).ID
			if environment == "staging" {
				fleets, scheduled = append([]int64{begun}, fleets...), append([]int64{later}, scheduled...)
			}
		}
	}
	assert.Equal(t, fleets, pages(t, 1, func(before int64) ([]int64, int64) {
		list := must(some.FleetDeployments(t.Context(), client.DeploymentQuery{Limit: 1, Before: before}))
		return each(list.Deployments, func(f api.FleetDeployment) int64 { return f.ID }), list.Next
	}))
	assert.Equal(t, scheduled, pages(t, 1, func(before int64) ([]int64, int64) {
		list := must(some.Scheduled(t.Context(), "harbour", "", client.ListQuery{Limit: 1, Before: before}))
		return each(list.Scheduled, func(k api.Scheduled) int64 { return k.ID }), list.Next
	}))
}
