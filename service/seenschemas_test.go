package service_test

import (
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// TestALookInPassingReadsASchemaOnce while nothing is written in the catalogs; what somebody does by hand is
// seen by the next look all the same.
func TestALookInPassingReadsASchemaOnce(t *testing.T) {
	w := servicetest.Start(t)
	w.Gates(map[string]string{"staging": "drift: refused, release: not-asked, previous-environment: not-asked"})
	w.Submitted(map[string]string{"1-tide.sql": "CREATE TABLE tide (at timestamptz)"})
	w.Promoted("staging")
	page := func() string {
		w.Pass(3e9) // what was told a moment ago is not told again
		answer := w.Ask(t, "GET", "/api/v1/lanes/harbour/environments/staging", nil, nil)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(text)
	}
	assert.NotContains(t, page(), "differs from what")
	assert.NotContains(t, page(), "differs from what")
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE tide ADD COLUMN by_hand text")
	assert.Contains(t, page(), "column public.tide.by_hand")
	assert.Equal(t, "held", must(w.Gate(t.Context(), "harbour", "staging", "")).Gate)
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE tide DROP COLUMN by_hand")
	assert.NotContains(t, page(), "by_hand")
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	result := gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}
	assert.Equal(t, gate.Pass, result.Find(gate.Drift).Verdict)
}
