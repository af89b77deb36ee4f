package mariadb_test

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/mariatest"
	"vorrang/target/enginetest"
)

// TestTheRecipeFindsWhatDoesNotFit runs the query of docs/engines.md by the server's own
// client.
func TestTheRecipeFindsWhatDoesNotFit(t *testing.T) {
	url := enginetest.WithHistory(t, harness())
	query := enginetest.Documented(t, "sql")
	database := path.Base(url)
	output, err := mariatest.Shared(t).Client(t, database, query, "--batch", "--skip-column-names")
	require.NoError(t, err, output)
	assert.Empty(t, output, "an intact chain")
	require.NoError(t, mariatest.Exec(t, url, "DROP TRIGGER vorrang_ledger_no_update"))
	require.NoError(t, mariatest.Exec(t, url, "UPDATE vorrang_ledger SET actor = 'nobody' WHERE seq = 2"))
	output, err = mariatest.Shared(t).Client(t, database, query, "--batch", "--skip-column-names")
	require.NoError(t, err, output)
	assert.True(t, strings.HasPrefix(output, "2\t"), output)
}
