package service_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/gate"
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
