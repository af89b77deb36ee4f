package records_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
)

// TestTheNextNumberIsAboveWhatALedgerTells, from an empty records on, and whatever a ledger with
// an absurd number says before.
func TestTheNextNumberIsAboveWhatALedgerTells(t *testing.T) {
	url, one, other := two(t)
	next := func() string { return pgtest.Query(t, url, "SELECT nextval('records.deployment_id_seq')") }
	require.NoError(t, one.NumberAbove(t.Context(), 1))
	assert.Equal(t, "2", next(), "no number was given before")
	require.NoError(t, one.NumberAbove(t.Context(), 1<<60))
	assert.Equal(t, "3", next(), "which is no deployment's of ours")
	require.NoError(t, one.NumberAbove(t.Context(), 7))
	assert.Equal(t, "8", next())
	require.NoError(t, other.NumberAbove(t.Context(), 5))
	require.NoError(t, other.NumberAbove(t.Context(), 8))
	assert.Equal(t, "9", next(), "none is left out without need")
}
