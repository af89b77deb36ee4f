package grammar

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyAPlaceForTheBatchIsReplaced(t *testing.T) {
	cases := map[string]struct{ sql, want string }{
		"a limit":            {"DELETE FROM a LIMIT :batch", "DELETE FROM a LIMIT 100   "},
		"two of them":        {"SELECT :batch, :batch + 1", "SELECT 100   , 100    + 1"},
		"in a string":        {"SELECT ':batch'", "SELECT ':batch'"},
		"in a comment":       {"SELECT 1 -- :batch\n /* :batch */, 2", "SELECT 1 -- :batch\n /* :batch */, 2"},
		"a cast":             {"SELECT x::batch", "SELECT x::batch"},
		"with a blank":       {"SELECT a[1: batch]", "SELECT a[1: batch]"},
		"a longer name":      {"SELECT :batches", "SELECT :batches"},
		"behind a character": {"SELECT 'ж' LIMIT :batch", "SELECT 'ж' LIMIT 100   "},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			statements, err := Cut([]byte(c.sql))
			require.NoError(t, err)
			assert.Equal(t, c.want, string(statements[0].WithBatch(100).SQL))
			assert.Equal(t, c.sql != c.want, statements[0].HasBatch())
			assert.Equal(t, c.sql, string(statements[0].SQL), "the statement itself is not changed")
		})
	}
	all, err := Cut([]byte("DELETE FROM a LIMIT :batch"))
	require.NoError(t, err)
	assert.Equal(t, "DELETE FROM a LIMIT 9223372036854775807", string(all[0].WithBatch(math.MaxInt64).SQL))
}
