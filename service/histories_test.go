package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/verify"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// TestPagesReadALedgerFromItsHeadOn, and whoever wants to know what is so reads all of it.
func TestPagesReadALedgerFromItsHeadOn(t *testing.T) {
	w := servicetest.Start(t)
	url := w.URLs["staging"]
	page := func() api.EnvironmentStatus {
		w.Pass(3 * time.Second) // nothing is told again
		answer := w.Ask(t, http.MethodGet, "/api/v1/lanes/harbour/environments/staging", nil, nil)
		var status api.EnvironmentStatus
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&status))
		return status
	}
	history := func(s api.EnvironmentStatus) gate.Verdict {
		for _, check := range s.Gate {
			if check.ID == gate.LedgerIntact {
				return check.Verdict
			}
		}
		return "missing"
	}
	by := func(statements string) { // behind the ledger's back
		pgtest.Exec(t, url, "ALTER TABLE vorrang.ledger DISABLE TRIGGER append_only; "+statements+
			"; ALTER TABLE vorrang.ledger ENABLE TRIGGER append_only")
	}
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2"})
	w.Promoted("staging")
	assert.Equal(t, gate.Pass, history(page()))
	w.Submitted(map[string]string{"3-c.sql": "SELECT 3"})
	w.Promoted("staging")
	seen := page()
	assert.EqualValues(t, "3", seen.At, "what came since is there")
	assert.Equal(t, 3, seen.Entries)

	by("UPDATE vorrang.ledger SET actor = 'nobody' WHERE seq = 1")
	assert.Equal(t, gate.Pass, history(page()), "a page reads only what is new")
	whole := must(w.Status(t.Context(), "harbour", "staging", "none"))
	assert.Equal(t, gate.Hold, history(*whole))
	verified := must(w.Verify(t.Context(), "harbour", "staging"))
	assert.NotEmpty(t, verified.Deviations)
	by("UPDATE vorrang.ledger SET actor = 'pilot' WHERE seq = 1")
	assert.Equal(t, gate.Pass, history(*must(w.Status(t.Context(), "harbour", "staging", "none"))))

	by("UPDATE vorrang.ledger SET actor = 'nobody' WHERE seq = 3")
	assert.Equal(t, gate.Hold, history(page()), "its head is another")
	by("DELETE FROM vorrang.ledger WHERE seq = 3")
	assert.Equal(t, gate.Hold, history(page()), "it ends earlier")
}

// TestAnEnvironmentIsVerifiedBesideTheOneBefore: also for who may look at it alone, and it is said where
// that could not be done.
func TestAnEnvironmentIsVerifiedBesideTheOneBefore(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	w.Promoted("development")
	w.Promoted("production")
	w.Gates(map[string]string{"production": "release: not-asked, previous-environment: required"})
	reader := w.As("lookout", "reader@harbour/production")
	for _, c := range []*client.Client{w.Client, reader} {
		v := must(c.Verify(t.Context(), "harbour", "production"))
		assert.Equal(t, []string{"production"}, v.Environments)
		require.Len(t, v.Deviations, 1, "it was passed by staging")
		assert.Contains(t, v.Deviations[0].What, "in staging")
		checks, err := json.Marshal(must(c.Gate(t.Context(), "harbour", "production", "")))
		require.NoError(t, err)
		assert.Contains(t, string(checks), "staging", "which its gate tells, too")
	}
	all := must(reader.Verify(t.Context(), "harbour", ""))
	assert.Equal(t, []string{"production"}, all.Environments, "and of the others nothing is said")
	assert.Empty(t, all.Empty)

	w.Away("staging")
	v := must(w.Verify(t.Context(), "harbour", "production"))
	assert.Empty(t, v.Deviations, "development is not the one before")
	assert.Empty(t, v.Unreached, "staging was not asked about")
	assert.Equal(t, []verify.Uncompared{{Environment: "production", Before: "staging"}}, v.Uncompared)

	w.Fleet("staging", 20, "canary: 0") // more than are read at once
	for i := range 18 {
		w.Away(fmt.Sprintf("staging.g%d", i+1))
	}
	v = must(w.Verify(t.Context(), "harbour", "production"))
	assert.Empty(t, v.Uncompared, "a target of staging that could be read will do")
	require.Len(t, v.Deviations, 1)
	assert.Contains(t, v.Deviations[0].What, "pending in staging.g19")
}
