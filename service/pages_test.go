package service_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/servicetest"
)

// TestReleasesAreSearchedAndPaged, each once.
func TestReleasesAreSearchedAndPaged(t *testing.T) {
	w := servicetest.Start(t)
	for i := range 5 {
		w.Submitted(map[string]string{fmt.Sprintf("%d-a.sql", i+1): fmt.Sprintf("SELECT %d", i)})
		cut := client.Cutting{Name: fmt.Sprintf("2026.%d", i), Notes: []string{"Spring tide", "Neap tide"}[i%2]}
		must(w.Cut(t.Context(), "harbour", cut))
	}
	var names []string
	before := ""
	for page := 0; page == 0 || before != ""; page++ {
		list := must(w.ReleasesPage(t.Context(), "harbour", client.ReleaseQuery{Limit: 2, Before: before}))
		require.LessOrEqual(t, len(list.Releases), 2)
		for _, r := range list.Releases {
			names = append(names, r.Name)
		}
		before = list.Next
	}
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
	var seqs []int64
	before := int64(0)
	for page := 0; page == 0 || before > 0; page++ {
		list := must(w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Limit: 4, Before: before}))
		assert.Equal(t, 6, list.Total)
		for _, e := range list.Entries {
			seqs = append(seqs, e.Seq)
		}
		before = list.Next
	}
	assert.Equal(t, []int64{6, 5, 4, 3, 2, 1}, seqs)
	fifth := must(w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Step: "05"}))
	assert.Len(t, fifth.Entries, 2)
	_, err := w.LedgerPage(t.Context(), "harbour", "staging", client.LedgerQuery{Step: "five"})
	require.ErrorContains(t, err, "step: ")
}
