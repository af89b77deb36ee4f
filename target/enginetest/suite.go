package enginetest

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// odd holds what a column may mangle on the way: quotes, backslashes, other
// alphabets, and what looks like an escape.
const odd = `Ö. 'Tern' "\\n" \' %s ? :x $1 — 潮`

func ledgers(t *testing.T, h Harness) {
	url := h.Fresh(t)
	session := h.connect(t, url)
	_, exists, err := session.ReadLedger(t.Context())
	require.NoError(t, err)
	assert.False(t, exists)
	altered, err := session.LedgerAltered(t.Context())
	require.NoError(t, err)
	assert.Empty(t, altered)

	require.NoError(t, session.CreateLedger(t.Context()))
	require.NoError(t, session.CreateLedger(t.Context()), "it may be repeated")
	var written []ledger.Entry
	head := ledger.NewHead()
	for i, action := range []ledger.Action{ledger.Applied, ledger.Failed, ledger.RolledBack} {
		e := head.Next(
			ledger.Entry{
				Action:     action,
				Step:       step.Number(strings.Repeat("7", i+1)),
				Slug:       odd,
				Checksum:   step.Sum([]byte(odd)),
				Deployment: "1",
				Actor:      odd,
				DurationMS: 1 << 40,
				Detail:     []byte(`{"error":"` + "nö \\\\n \\\" % ?" + `"}`),
			},
			time.Date(2026, 11, 3, 7, 1, 2, 1000*(i+1), time.UTC),
		)
		written, head = append(written, e), e.Head()
	}
	require.NoError(t, session.Append(t.Context(), written[0]))
	require.NoError(t, session.AppendAll(t.Context(), written[1:]))
	read, exists, err := session.ReadLedger(t.Context())
	require.NoError(t, err)
	assert.True(t, exists)
	assert.Equal(t, written, read, "byte for byte")
	require.NoError(t, ledger.Verify(read))
	newer, exists, err := session.ReadLedgerFrom(t.Context(), 2)
	require.NoError(t, err)
	assert.True(t, exists)
	assert.Equal(t, written[1:], newer)

	for _, hostile := range []string{"UPDATE " + h.Ledger + " SET actor = 'nobody'", "DELETE FROM " + h.Ledger,
		"DELETE FROM " + h.Ledger + " WHERE seq = 3"} {
		assert.ErrorContains(t, h.Exec(t, url, hostile), "append-only", hostile)
	}
	assert.Error(t, session.Append(t.Context(), written[1]), "an entry that is there is not written again")
	read, _, err = session.ReadLedger(t.Context())
	require.NoError(t, err)
	assert.Equal(t, written, read)
	altered, err = session.LedgerAltered(t.Context())
	require.NoError(t, err)
	assert.Empty(t, altered)
	require.NoError(t, h.Exec(t, url, "ALTER TABLE "+h.Ledger+" ADD COLUMN note VARCHAR(10)"))
	altered, err = session.LedgerAltered(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, altered)
}

func locks(t *testing.T, h Harness) {
	url := h.Fresh(t)
	one, other := h.connect(t, url), h.connect(t, url)
	require.NoError(t, one.Lock(t.Context()))
	require.NoError(t, one.Alive(t.Context()))
	var held *engine.LockedError
	require.ErrorAs(t, other.Lock(t.Context()), &held)
	assert.NotZero(t, held.PID, "it says who")
	assert.NotEmpty(t, held.Application+held.User)
	one.Unlock()
	require.NoError(t, other.Lock(t.Context()), "given back")
	other.Close()
	require.Eventually(
		t,
		func() bool { return one.Lock(t.Context()) == nil },
		10*time.Second, 10*time.Millisecond,
		"a session that ends gives it back",
	)

	elsewhere := h.connect(t, h.Fresh(t))
	require.NoError(t, elsewhere.Lock(t.Context()), "another target has a lock of its own")
	a, err := one.Identity(t.Context())
	require.NoError(t, err)
	b, err := h.connect(t, url).Identity(t.Context())
	require.NoError(t, err)
	c, err := elsewhere.Identity(t.Context())
	require.NoError(t, err)
	assert.Equal(t, a, b)
	assert.NotEqual(t, a, c)
}

func steps(t *testing.T, h Harness) {
	t.Run("forward, back and forward again", func(t *testing.T) {
		y := newYard(t, h, h.voyage())
		y.promoted()
		assert.Equal(t, undisturbed, y.haul())
		require.Equal(t, deploy.Done, y.rollback("0").Outcome)
		assert.Equal(t, ledger.StatusRolledBack, y.status("1"))
		existing, err := y.session.Existing(t.Context(), nil)
		require.NoError(t, err)
		assert.False(t, existing.Any(), "%s", existing)
		y.promoted()
		assert.Equal(t, undisturbed, y.haul())
	})
	t.Run("a step that fails", func(t *testing.T) {
		y := newYard(
			t, h,
			map[string]string{
				"1-a.sql": "CREATE TABLE a (id INTEGER NOT NULL PRIMARY KEY);",
				"2-b.sql": "INSERT INTO a VALUES (1);\nINSERT INTO a VALUES (1);",
				"3-c.sql": "CREATE TABLE c (id INTEGER);",
			},
		)
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.Equal(t, "2", string(result.Failure.Step))
		assert.Equal(t, 2, result.Failure.Line, "the statement's line")
		assert.Equal(t, "0", y.query("SELECT count(*) FROM a"), "nothing of it stays")
		assert.Equal(t, ledger.StatusFailed, y.status("2"))
		assert.Equal(t, ledger.StatusPending, y.status("3"))
		y.files["2-b.sql"] = "INSERT INTO a VALUES (1);"
		y.promoted()
		assert.Equal(t, "1", y.query("SELECT count(*) FROM a"))
	})
	t.Run("a check that does not hold", func(t *testing.T) {
		y := newYard(
			t, h,
			map[string]string{
				"1-a.sql":       "CREATE TABLE a (id INTEGER);",
				"2-b.sql":       "INSERT INTO a VALUES (1);",
				"2-b.check.sql": "SELECT count(*) = 2 FROM a;",
			},
		)
		result := y.promote()
		require.Equal(t, deploy.Failed, result.Outcome)
		assert.Contains(t, result.Failure.Message, "the check does not hold")
		assert.Equal(t, "0", y.query("SELECT count(*) FROM a"))
		for _, bad := range []string{"SELECT 1 = 1 FROM a WHERE 1 = 2", "SELECT NULL", "SELECT 1 = 1, 1 = 2",
			"SELECT 1 = 1 UNION ALL SELECT 1 = 1"} {
			y.files["2-b.check.sql"] = bad + ";"
			assert.Equal(t, deploy.Failed, y.promote().Outcome, bad)
		}
		y.files["2-b.check.sql"] = "SELECT count(*) = 1, 2 > 1 FROM a;"
		y.promoted()
	})
	t.Run("statement by statement", func(t *testing.T) {
		y := newYard(
			t, h,
			map[string]string{
				"1-a.sql": autocommit + "CREATE TABLE a (id INTEGER NOT NULL PRIMARY KEY);\nINSERT INTO a VALUES (1);\n" +
					"INSERT INTO a VALUES (1);\nCREATE TABLE b (id INTEGER);",
			},
		)
		require.Equal(t, deploy.Failed, y.promote().Outcome)
		assert.Equal(t, "1", y.query("SELECT count(*) FROM a"), "what was done stays")
		assert.Equal(t, 3, y.view().State.Of("1").Progress().Statement)
		y.exec("DELETE FROM a")
		y.promoted()
		assert.Equal(t, "1", y.query("SELECT count(*) FROM a"), "it went on at its third statement")
		assert.Equal(t, "0", y.query("SELECT count(*) FROM b"))
	})
	t.Run("a statement that takes too long, or the caller goes away", func(t *testing.T) {
		y := newYard(t, h, map[string]string{"1-a.sql": "CREATE TABLE a (id INTEGER);"})
		y.promoted()
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		_, cutOff := h.statement(t, "INSERT INTO a VALUES (1)")
		require.NoError(t, y.session.Begin(t.Context(), engine.Settings{}))
		_, err := y.session.Exec(ctx, sqltext.Statement{SQL: cutOff})
		require.Error(t, err)
		_ = y.session.Rollback(t.Context()) // it may be gone with its connection
		assert.Equal(t, "0", y.query("SELECT count(*) FROM a"))
	})
}

// rests: a session that may be kept looks again, and sees what is there then; one in which a step ran, or
// whose server has ended it, is not kept.
func rests(t *testing.T, h Harness) {
	y := newYard(t, h, map[string]string{"1-a.sql": "CREATE TABLE a (id INTEGER);"})
	kept, can := h.connect(t, y.url).(engine.Rester)
	if !can {
		return
	}
	session := kept.(engine.Session)
	looks := func() (tables int) {
		seen, err := session.Existing(t.Context(), nil)
		require.NoError(t, err)
		assert.True(t, kept.Clean())
		assert.True(t, kept.MayStay(t.Context()))
		return seen.Tables
	}
	assert.Equal(t, 0, looks())
	y.promoted()
	assert.Equal(t, 1, looks())
	assert.False(t, y.session.(engine.Rester).Clean(), "a step ran in it")
	h.Cut(t, y.url)
	assert.False(t, kept.MayStay(t.Context()))
	assert.True(t, session.Closed())
}

// sessions: nothing that a step leaves in its session reaches the next one, or the
// ledger.
func sessions(t *testing.T, h Harness) {
	for name, left := range h.Leaves {
		for _, mode := range []string{"", autocommit} {
			t.Run(name+" "+strings.ReplaceAll(strings.Trim(mode, "/*-\n"), "\n", ""), func(t *testing.T) {
				y := newYard(
					t, h,
					map[string]string{
						"1-leave.sql":      mode + left.Script,
						"2-look.sql":       "CREATE TABLE a (id INTEGER);",
						"2-look.check.sql": left.Gone + ";",
					},
				)
				y.promoted()
				assert.Equal(t, ledger.StatusApplied, y.status("2"))
			})
		}
	}
}

func backups(t *testing.T, h Harness) {
	y := newYard(t, h, h.voyage())
	delete(y.files, "4-create-pilot.sql")
	delete(y.files, "4-create-pilot.check.sql")
	delete(y.files, "4-create-pilot.back.sql")
	y.promoted()
	y.session.Close()
	restore := h.Backup(t, y.url)
	y.open()
	y.files = h.voyage()
	y.promoted()
	seen := y.view().State.Head
	y.session.Close()
	restore()
	y.open()
	entries, _, err := y.session.ReadLedger(t.Context())
	require.NoError(t, err)
	require.NoError(t, ledger.Verify(entries), "it holds together")
	var broken *ledger.ChainError
	require.ErrorAs(t, ledger.VerifyHead(entries, seen), &broken, "and is not what was seen before")
	assert.Contains(t, broken.Reason, "was an older backup restored?")
	y.promoted()
	assert.Equal(t, undisturbed, y.haul())
}

func probes(t *testing.T, h Harness) {
	session := h.connect(t, h.Fresh(t))
	seen, err := session.Probe(t.Context(), "")
	require.NoError(t, err)
	require.NotEmpty(t, seen.Looks)
	assert.Equal(t, "connection", seen.Looks[0].What)
	assert.NotEmpty(t, seen.Version)
	assert.False(t, seen.HasLedger)
	for _, look := range seen.Looks {
		assert.True(t, look.OK, "%+v", look)
	}
	require.NoError(t, session.CreateLedger(t.Context()))
	seen, err = session.Probe(t.Context(), "")
	require.NoError(t, err)
	assert.True(t, seen.HasLedger)
	for name, url := range map[string]string{"nonsense": "::::", "another scheme": "gopher://127.0.0.1/x", "nothing": ""} {
		_, err := h.Engine.Open(t.Context(), url, "vorrang enginetest")
		var failed *engine.ConnectError
		require.ErrorAs(t, err, &failed, name)
		assert.Equal(t, engine.BadURL, failed.Kind, name)
		assert.NotEmpty(t, failed.Fix)
	}
}

func scratches(t *testing.T, h Harness) {
	workshop, can := h.Engine.(engine.Workshop)
	require.Equal(t, h.Engine.Traits().Scratch, can, "the traits say what it can")
	if !can {
		t.Skip("the engine makes no scratch databases")
	}
	url := h.Fresh(t)
	require.NoError(t, h.Exec(t, url, "CREATE TABLE a (id INTEGER)"))
	scratch, err := workshop.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	assert.Empty(t, h.see(t, scratch).Objects, "it is empty, and not the target")
	require.NoError(
		t,
		scratch.Run(t.Context(), []byte("CREATE TABLE b (id INTEGER);\nCREATE INDEX b_id ON b (id);"), false),
	)
	err = scratch.Run(t.Context(), []byte("CREATE TABLE c (id INTEGER);\n\nSELEC;"), false)
	assert.ErrorContains(t, err, "line 3")
	assert.NotEmpty(t, h.see(t, scratch).Objects)
	mine, err := scratch.Identity(t.Context())
	require.NoError(t, err)
	theirs, err := h.connect(t, url).Identity(t.Context())
	require.NoError(t, err)
	assert.NotEqual(t, theirs, mine)
	scratch.Close()
	assert.Equal(t, "0", h.Query(t, url, "SELECT count(*) FROM a"), "the target stays")

	left, err := workshop.NewScratch(t.Context(), url, "", true)
	require.NoError(t, err)
	require.NoError(t, left.Run(t.Context(), []byte("CREATE TABLE b (id INTEGER);"), false))
	require.NoError(t, workshop.DropScratch(t.Context(), url, left.Name()), "as the next start does it")
	require.NoError(t, workshop.DropScratch(t.Context(), url, left.Name()), "and it may be gone already")
	left.Close()
	assert.ErrorContains(t, workshop.DropScratch(t.Context(), url, "harbour"), "harbour is not a scratch database")
	assert.Equal(t, "0", h.Query(t, url, "SELECT count(*) FROM a"), "the target stays")
}

// reviews: what could not run, or is not a step's to do, is found before it is tried.
func reviews(t *testing.T, h Harness) {
	problems := func(files map[string]string) []string {
		y := &yard{Harness: h, t: t, files: files}
		all, _ := y.catalogue()
		found, _ := h.Engine.Dialect().Review(all[0], nil)
		var messages []string
		for _, p := range found {
			assert.NotZero(t, p.Line, "%v", p)
			messages = append(messages, p.Message)
		}
		return messages
	}
	for _, fine := range []map[string]string{
		{"1-a.sql": "CREATE TABLE a (id INTEGER);", "1-a.back.sql": "DROP TABLE a;",
			"1-a.check.sql": "SELECT count(*) = 0 FROM a;"},
		{"1-a.sql": autocommit + "CREATE INDEX a_id ON a (id);"},
		{"1-a.sql": "/*---\nmode: batches\n---*/\n" + h.Backfill + ";"},
	} {
		assert.Empty(t, problems(fine))
	}
	for name, bad := range map[string]map[string]string{
		"a string that is not closed": {"1-a.sql": "CREATE TABLE a (id INTEGER DEFAULT 'x);"},
		"a commit":                    {"1-a.sql": "INSERT INTO a VALUES (1);\nCOMMIT;"},
		"the ledger":                  {"1-a.sql": "DELETE FROM " + h.Ledger + ";"},
		"a check that changes rows":   {"1-a.sql": "SELECT 1;", "1-a.check.sql": "DELETE FROM a;"},
		"batches without an end":      {"1-a.sql": "/*---\nmode: batches\n---*/\nUPDATE a SET b = 1;"},
		"batches of two":              {"1-a.sql": "/*---\nmode: batches\n---*/\n" + h.Backfill + ";\n" + h.Backfill + ";"},
	} {
		assert.NotEmpty(t, problems(bad), name)
	}
	// Each statement of a long line has its place, without the line being read for each.
	const many = 50_000
	long, wrong := step.ReadFile("1-a.sql", []byte(strings.Repeat("COMMIT; ", many)))
	require.Empty(t, wrong)
	found, _ := h.Engine.Dialect().Review(step.Step{Number: "1", Slug: "a", Forward: long}, nil)
	require.Len(t, found, many)
	last := found[many-1]
	assert.Equal(t, [2]int{1, 8*(many-1) + 1}, [2]int{last.Line, last.Column})
	assert.Equal(t, "…"+strings.Repeat("COMMIT; ", 10)+"COMMIT;", strings.TrimSpace(last.Source))
	_, err := h.Engine.Dialect().Cut([]byte("SELECT 1;\n  SELECT 'x"))
	var place *sqltext.Error
	require.True(t, errors.As(err, &place), "%v", err)
	assert.Equal(t, "2:10", strings.TrimSuffix(place.Error(), ": "+place.Message))
}
