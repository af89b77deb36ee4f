package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/internal/pgtest"
	"vorrang/target/postgres"
	"vorrang/target/sqlite"
)

func opened(t *testing.T, e engine.Engine, url string) engine.Session {
	session, err := e.Open(t.Context(), url, "vorrangd status")
	require.NoError(t, err)
	t.Cleanup(session.Close)
	return session
}

// taken is the session that rests under a key.
func taken(t *testing.T, r *resting, key string) engine.Session {
	session, _ := r.take(t.Context(), key)
	return session
}

func TestTheSessionOfALookIsUsedByTheNext(t *testing.T) {
	url := pgtest.Database(t)
	r := resting{long: time.Hour}
	one, other := opened(t, postgres.Engine{}, url), opened(t, postgres.Engine{}, url)
	assert.Nil(t, taken(t, &r, "harbour"))
	r.give("harbour", one, time.Now())
	r.give("harbour", other, time.Now())
	assert.True(t, other.Closed(), "one a target")
	assert.Nil(t, taken(t, &r, "another"))
	require.Same(t, one, taken(t, &r, "harbour"))
	assert.Nil(t, taken(t, &r, "harbour"), "nobody else has it meanwhile")
	_, _, err := one.ReadLedger(t.Context())
	require.NoError(t, err)

	old := opened(t, postgres.Engine{}, url)
	r.give("harbour", old, time.Now().Add(-oldestRest))
	assert.True(t, old.Closed(), "a name may lead to another server since")
	began := time.Now()
	r.give("harbour", one, began)
	again, since := r.take(t.Context(), "harbour")
	assert.Equal(t, began, since, "it does not get younger")
	r.give("harbour", again, since)
	r.stop()
	assert.True(t, one.Closed())
	late := opened(t, postgres.Engine{}, url)
	r.give("harbour", late, time.Now())
	assert.True(t, late.Closed(), "the service is stopped")
}

func TestNoSessionRestsForLong(t *testing.T) {
	url := pgtest.Database(t)
	r := resting{long: time.Millisecond}
	one, err := postgres.Engine{}.Open(t.Context(), url, "vorrangd status")
	require.NoError(t, err)
	r.give("harbour", one, time.Now())
	assert.Eventually(t, func() bool {
		return pgtest.Query(t, url, `SELECT count(*)::text FROM pg_stat_activity
			WHERE datname = current_database() AND application_name = 'vorrangd status'`) == "0"
	}, time.Minute, time.Millisecond)
	assert.Nil(t, taken(t, &r, "harbour"))
}

// What runs checks of steps, is cut off, or is a file that may be replaced, is not kept.
func TestWhatIsNotKept(t *testing.T) {
	url := pgtest.Database(t)
	r := resting{long: time.Hour}
	defer r.stop()
	stepped := opened(t, postgres.Engine{}, url)
	_, _, err := stepped.Peek(t.Context(), engine.Settings{}, []evidence.Object{{Kind: evidence.Table, Name: "berth"}}, nil)
	require.NoError(t, err)
	r.give("harbour", stepped, time.Now())
	assert.True(t, stepped.Closed())

	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "gauges.db"), nil, 0o600))
	file := opened(t, sqlite.Engine{Folder: folder}, "sqlite:gauges.db")
	r.give("harbour", file, time.Now())
	assert.Nil(t, taken(t, &r, "harbour"))

	cut := opened(t, postgres.Engine{}, url)
	r.give("harbour", cut, time.Now())
	pgtest.Query(t, url, `SELECT count(pg_terminate_backend(pid))::text FROM pg_stat_activity
		WHERE datname = current_database() AND application_name = 'vorrangd status'`)
	assert.Nil(t, taken(t, &r, "harbour"), "the server has ended it")

	for i := range mostResting {
		r.give(strings.Repeat("x", i+1), opened(t, postgres.Engine{}, url), time.Now())
	}
	more := opened(t, postgres.Engine{}, url)
	r.give("one too many", more, time.Now())
	assert.True(t, more.Closed())
}

// Whoever renames, drops or copies a database is let do so: the session that rests on it is not
// used again.
func TestWhoWantsTheDatabaseGetsIt(t *testing.T) {
	for name, statement := range map[string]string{
		"renamed": "ALTER DATABASE %s RENAME TO %s_away",
		"dropped": "DROP DATABASE %s",
		"copied":  "CREATE DATABASE %s_copy TEMPLATE %s",
	} {
		t.Run(name, func(t *testing.T) {
			url := pgtest.Database(t)
			database := url[strings.LastIndex(url, "/")+1:]
			r := resting{long: time.Hour}
			r.give("harbour", opened(t, postgres.Engine{}, url), time.Now())
			ended := make(chan error, 1)
			admin := pgtest.Connect(t, pgtest.Shared(t).URL("postgres"))
			go func() {
				_, err := admin.Exec(t.Context(), strings.ReplaceAll(statement, "%s", database))
				ended <- err
			}()
			assert.Eventually(t, func() bool { // pages go on to look
				session := taken(t, &r, "harbour")
				if session == nil {
					return true
				}
				r.give("harbour", session, time.Now())
				return false
			}, time.Minute, time.Millisecond)
			assert.NoError(t, <-ended)
		})
	}
}
