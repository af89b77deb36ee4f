package service_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/rehearsal"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

const (
	calls = "CREATE TABLE public.pilot (id int PRIMARY KEY, name text NOT NULL);\n" +
		"CREATE TABLE public.call (id int PRIMARY KEY, pilot int NOT NULL REFERENCES public.pilot, draught_cm int, CHECK " +
		"(draught_cm < 5000));"
	callRows = "INSERT INTO public.pilot SELECT n, 'Pilot ' || n FROM generate_series(1, 500) n;" +
		"INSERT INTO public.call SELECT n, 1 + n % 500, n % 900 FROM generate_series(1, 5000) n; UPDATE public.call SET " +
		"draught_cm = -3 WHERE id = 2500"
)

// crowdedWorld has a staging with rows, of which one is unlike the others.
func crowdedWorld(t *testing.T, steps map[string]string) *servicetest.World {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-begin.sql": calls})
	w.Promoted("staging")
	pgtest.Exec(t, w.URLs["staging"], callRows+"; ANALYZE")
	w.Submitted(steps)
	return w
}

func TestARehearsalMeetsTheTargetsRows(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-draught.sql":      "ALTER TABLE public.call ADD CONSTRAINT draught CHECK (draught_cm >= 0);",
		"2-draught.back.sql": "ALTER TABLE public.call DROP CONSTRAINT draught;",
	})
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	assert.True(t, r.Result.Passed, "%s", r.Result.Why)
	assert.Equal(t, "no rows", r.With)

	before := pgtest.Dump(t, w.URLs["staging"])
	var told []string
	r = must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 20}, func(e deploy.Event) {
		if e.Kind == deploy.Round || e.Kind == deploy.StepFailed || e.Kind == deploy.Ended {
			told = append(told, e.Message)
		}
	}))
	assert.False(t, r.Result.Passed)
	assert.Contains(t, r.Result.Why, `step 2 fails: check constraint "draught" of relation "call" is violated by some row`)
	require.Len(t, r.Result.Copied, 2)
	assert.Less(t, r.Result.Copied[0].Rows, int64(100), "a part of them")
	require.Len(t, told, 5, "%q", told)
	assert.Equal(t, "making a copy of harbour/staging", told[0])
	assert.Regexp(t, `^copied \d+ rows of 2 tables$`, told[1])
	assert.Equal(t, "forward", told[2])
	assert.Equal(t, before, pgtest.Dump(t, w.URLs["staging"]), "the target is only read")
}

// TestRowsThatStandInTheWayAreAmongThoseCopied: they have neither the lowest nor the
// highest value of anything, and a sample by chance would hardly hold them.
func TestRowsThatStandInTheWayAreAmongThoseCopied(t *testing.T) {
	w := crowdedWorld(t, map[string]string{"2-odd.sql": "ALTER TABLE public.call ADD CONSTRAINT odd CHECK (draught_cm " +
		"<> 441 OR pilot <> 342);"})
	assert.Equal(t, "1", pgtest.Query(t, w.URLs["staging"], "SELECT count(*)::text FROM public.call WHERE draught_cm = "+
		"441 AND pilot = 342"))
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 5}, nil))
	assert.Contains(t, r.Result.Why, `check constraint "odd" of relation "call" is violated by some row`)
}

// TestWhatAPlanFillsIsNotWhatWasThere: the values of a column that the plan makes are no
// loss of its ways back.
func TestWhatAPlanFillsIsNotWhatWasThere(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-metres.sql":      "ALTER TABLE public.call ADD COLUMN draught_m numeric;",
		"2-metres.back.sql": "ALTER TABLE public.call DROP COLUMN draught_m;",
		"3-fill.sql":        "UPDATE public.call SET draught_m = draught_cm / 100.0;", "3-fill.back.sql": "SELECT 1;",
	})
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 50}, nil))
	assert.True(t, r.Result.Passed, "%s", r.Result.Why)
}

func TestAWayBackThatLosesRowsIsIncomplete(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-tidy.sql":      "DELETE FROM public.call WHERE draught_cm < 0;",
		"2-tidy.back.sql": "SELECT 1;",
		"3-metres.sql":    "ALTER TABLE public.pilot ADD COLUMN badge int;",
		"3-metres.back.sql": "ALTER TABLE public.pilot DROP COLUMN badge; UPDATE public.pilot SET name = upper(name) " +
			"WHERE id = 7;",
	})
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 1000}, nil))
	assert.Contains(t, r.Result.Why, "the way back of step 3 is incomplete: it leaves other rows than were there "+
		"before: public.pilot: values of name are not what they were")
	w.Submitted(map[string]string{"3-metres.back.sql": "ALTER TABLE public.pilot DROP COLUMN badge;"})
	r = must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 1000}, nil))
	assert.Regexp(t, `the way back of step 2 is incomplete: .*public\.call: 1 of \d+ rows are gone`, r.Result.Why)
	require.Len(t, r.Result.Steps[0].Rows, 1)
	assert.Equal(t, r.Result.Steps[0].Rows[0].Before-1, r.Result.Steps[0].Rows[0].After)
}

func TestMaskedColumnsReachNoCopy(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-look.sql": "DO $$ BEGIN IF EXISTS (SELECT FROM public.pilot WHERE name ~ '^Pilot \\d+$') THEN RAISE EXCEPTION " +
			"'a real name'; END IF;" +
			" IF EXISTS (SELECT FROM public.pilot WHERE name !~ '^[A-Z][a-z]{4} \\d+$') THEN RAISE EXCEPTION 'another form'; " +
			"END IF; END $$;",
	})
	rehearse := func() (*api.Rehearsed, error) {
		return w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 50}, nil)
	}
	assert.Contains(t, must(rehearse()).Result.Why, "a real name")
	w.Settings("staging", "mask: [public.pilot.name]")
	r := must(rehearse())
	assert.True(t, r.Result.Passed, "%s", r.Result.Why)
	w.Settings("staging", "mask: [public.pilot.nam]")
	_, err := rehearse()
	assert.Contains(t, problem(t, err).Detail, "the column public.pilot.nam is to be masked, and staging has none "+
		"of this name")
}

// TestAMaskedColumnIsMaskedInPartitionsToo, and in tables that inherit it: the rows stand
// there, not in the table that the lane file names.
func TestAMaskedColumnIsMaskedInPartitionsToo(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-begin.sql": "CREATE TABLE public.watch (id int, who text) PARTITION BY " +
		"RANGE (id);\n" +
		"CREATE TABLE public.watch_old PARTITION OF public.watch FOR VALUES FROM (0) TO (100) PARTITION BY RANGE (id);\n" +
		"CREATE TABLE public.watch_oldest PARTITION OF public.watch_old FOR VALUES FROM (0) TO (50);\n" +
		"CREATE TABLE public.note (who text); CREATE TABLE public.late_note (at int) INHERITS (public.note);"})
	w.Promoted("staging")
	pgtest.Exec(t, w.URLs["staging"], "INSERT INTO public.watch VALUES (7, 'Pilot Seven'); INSERT INTO "+
		"public.late_note VALUES ('Pilot Nine', 3)")
	w.Submitted(map[string]string{"2-look.sql": "DO $$ BEGIN IF (SELECT count(*) FROM public.watch) + (SELECT count(*) " +
		"FROM public.note) <> 2 THEN RAISE EXCEPTION 'no rows'; END IF;" +
		" IF EXISTS (SELECT FROM public.watch WHERE who ~ '^Pilot') OR EXISTS (SELECT FROM public.note WHERE who ~ " +
		"'^Pilot') THEN RAISE EXCEPTION 'a real name'; END IF; END $$;"})
	w.Settings("staging", "mask: [public.watch.who, public.note.who]")
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 10}, nil))
	assert.True(t, r.Result.Passed, "%s %s", r.Result.Why, r.Message)
}

// TestAStagingIsRehearsedOnItsClone: with all rows, and the clone stays as it was, also
// for two at once.
func TestAStagingIsRehearsedOnItsClone(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-draught.sql": "DELETE FROM public.call WHERE draught_cm < 0; ALTER TABLE public.call ADD CONSTRAINT " +
			"draught CHECK (draught_cm >= 0);",
		"2-draught.back.sql": "ALTER TABLE public.call DROP CONSTRAINT draught; INSERT INTO public.call VALUES " +
			"(2500, 2, -3);",
	})
	clone := pgtest.Database(t)
	pgtest.Exec(t, clone, calls+callRows)
	file := filepath.Join(t.TempDir(), "clone")
	require.NoError(t, os.WriteFile(file, []byte(clone), 0o600))
	w.Settings("staging", fmt.Sprintf("rehearse-on: %q", "file:"+file))
	state := "SELECT (SELECT string_agg(c::text, ' ' ORDER BY id) FROM public.call c) || (SELECT count(*) FROM " +
		"public.pilot)"
	before := pgtest.Query(t, clone, state)
	var both sync.WaitGroup
	for range 2 {
		both.Go(func() {
			r, err := w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil)
			if assert.NoError(t, err) {
				assert.Equal(t, rehearsal.Ended, r.State, r.Message)
				assert.Contains(
					t,
					r.Result.Why,
					"public.call: values of pilot are not what they were",
					"the pilot of the row was another one",
				)
				assert.Equal(t, "all rows of its clone", r.With)
			}
		})
	}
	both.Wait()
	assert.Equal(t, before, pgtest.Query(t, clone, state), "the clone is only copied")
	_, err := w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Rows: 5}, nil)
	assert.Contains(t, problem(t, err).Detail, "has all rows already")

	pgtest.Exec(t, clone, "ALTER TABLE public.call ADD COLUMN older int")
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	assert.Equal(t, rehearsal.BrokenOff, r.State)
	assert.Contains(t, r.Message, "the copy is not as staging is: 1 object differs")
	assert.Contains(t, r.Message, "restore the clone again")

	require.NoError(t, os.WriteFile(file, []byte(w.URLs["production"]), 0o600))
	r = must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	assert.Contains(t, r.Message, "leads to the target of production: a clone is another database")
}

// TestARehearsalIsCancelled: its copy goes, and it is no result.
func TestARehearsalIsCancelled(t *testing.T) {
	w := crowdedWorld(t, map[string]string{"2-long.sql": "CREATE TABLE public.a (id int);\nSELECT pg_sleep(600);"})
	begun := must(w.BeginRehearsal(t.Context(), "harbour", "staging", client.Rehearsal{}))
	assert.Equal(t, rehearsal.Running, begun.State)
	other := w.As("s.lind", "releaser")
	require.NoError(t, w.FollowRehearsal(t.Context(), begun, func(e deploy.Event) {
		if e.Kind == deploy.Statement && e.Statement == 2 {
			must(other.CancelRehearsal(context.Background(), "harbour", "staging", begun.ID))
		}
		if e.Kind == deploy.Ended {
			assert.Equal(t, deploy.Cancelled, e.Outcome)
		}
	}))
	r := must(w.Rehearsal(t.Context(), "harbour", "staging", begun.ID))
	assert.Equal(t, rehearsal.Cancelled, r.State)
	assert.Equal(t, "s.lind cancelled it", r.Message)
	assert.Equal(t, "0", pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.scratch"), "nothing is left")
	_, err := other.CancelRehearsal(t.Context(), "harbour", "staging", begun.ID)
	assert.Contains(t, problem(t, err).Detail, "is not running; it is cancelled")
	require.NoError(t, w.FollowRehearsal(t.Context(), begun, nil), "who comes late is told that it has ended")
}

// TestAServiceThatStopsEndsItsRehearsals: at once, and says so.
func TestAServiceThatStopsEndsItsRehearsals(t *testing.T) {
	w := crowdedWorld(t, map[string]string{"2-long.sql": "SELECT pg_sleep(600);"})
	begun := must(w.BeginRehearsal(t.Context(), "harbour", "staging", client.Rehearsal{}))
	_ = w.FollowRehearsal(t.Context(), begun, func(e deploy.Event) {
		if e.Kind == deploy.StepBegan {
			w.Service.Stop()
		}
	})
	assert.Equal(t, "interrupted: the service was stopped while it ran; 0", pgtest.Query(t, w.Records,
		"SELECT state || ': ' || message || '; ' || (SELECT count(*) FROM records.scratch) FROM records.rehearsal"))
}

// TestAReleaseIsRehearsedOnceItIsCut, where the lane says so.
func TestAReleaseIsRehearsedOnceItIsCut(t *testing.T) {
	w := crowdedWorld(
		t,
		map[string]string{"2-b.sql": "CREATE TABLE public.b (id int);", "2-b.back.sql": "DROP TABLE public.b;"},
	)
	w.Settings("staging", "rehearse: on-cut")
	must(w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.12"}))
	var list []api.Rehearsed
	require.Eventually(t, func() bool {
		list = must(w.Rehearsals(t.Context(), "harbour", "staging", client.ListQuery{Limit: 5})).Rehearsals
		return len(list) > 0
	}, 30e9, 20e6)
	require.NoError(t, w.FollowRehearsal(t.Context(), &list[0], nil))
	r := must(w.Rehearsal(t.Context(), "harbour", "staging", list[0].ID))
	assert.Equal(t, "2026.12", r.Release)
	assert.True(t, r.Result.Passed, strings.TrimSpace(r.Result.Why+r.Message))
}

// TestACopyIsMarkedAndMadeBesideTheTargetAtLast: where the lane names no other place, and
// only as a user who owns nothing else there.
func TestACopyIsMarkedAndMadeBesideTheTargetAtLast(t *testing.T) {
	w := crowdedWorld(t, map[string]string{"2-long.sql": "CREATE TABLE public.a (id int);\nSELECT pg_sleep(600);"})
	lane := func(target string) {
		_, err := w.Declare(t.Context(), "lane.yaml", []byte(fmt.Sprintf(
			"lane: harbour\nenvironments:\n  - {name: staging, target: %q, gate: {release: not-asked, previous-environment: "+
				"not-asked}}\n", target)), "harbour")
		require.NoError(t, err)
	}
	lane("file:" + w.Files["staging"])
	r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	assert.Equal(t, rehearsal.BrokenOff, r.State)
	assert.Contains(t, r.Message, "is a superuser there", "a step of the catalogue would run as one")
	assert.Contains(t, r.Message, "declare a user and a server of their own for scratch databases")

	staging := w.URLs["staging"]
	pgtest.Exec(t, staging, "CREATE ROLE beside_it LOGIN CREATEDB PASSWORD 'p'; GRANT ALL ON SCHEMA public TO "+
		"beside_it; GRANT USAGE ON SCHEMA vorrang TO beside_it;"+
		"GRANT SELECT ON vorrang.ledger TO beside_it; GRANT SELECT ON ALL TABLES IN SCHEMA public TO beside_it")
	t.Cleanup(func() { pgtest.Exec(t, staging, "DROP OWNED BY beside_it; DROP ROLE beside_it") })
	file := filepath.Join(t.TempDir(), "beside")
	u, err := url.Parse(staging)
	require.NoError(t, err)
	u.User = url.UserPassword("beside_it", "p")
	require.NoError(t, os.WriteFile(file, []byte(u.String()), 0o600))
	lane("file:" + file)
	begun := must(w.BeginRehearsal(t.Context(), "harbour", "staging", client.Rehearsal{}))
	seen := ""
	require.NoError(t, w.FollowRehearsal(t.Context(), begun, func(e deploy.Event) {
		if e.Kind == deploy.Statement && e.Statement == 2 {
			seen = pgtest.Query(t, staging, "SELECT coalesce(string_agg(pg_get_userbyid(datdba) || ': ' || "+
				"coalesce(shobj_description(oid, 'pg_database'), 'not marked'), ' '), 'none')"+
				" FROM pg_database WHERE datname LIKE 'vorrang\\_scratch\\_%'")
			must(w.CancelRehearsal(context.Background(), "harbour", "staging", begun.ID))
		}
	}))
	r = must(w.Rehearsal(t.Context(), "harbour", "staging", begun.ID))
	assert.Equal(t, rehearsal.Cancelled, r.State, r.Message)
	assert.Equal(t, "beside_it: "+engine.ScratchMark, seen)
}
