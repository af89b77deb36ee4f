package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/gate"
	"vorrang/core/rehearsal"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

// A target with rows, and steps that wait for it.
func rehearsed(t *testing.T, files map[string]string) (*servicetest.World, func() *api.Rehearsed) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-create-berth.sql": "CREATE TABLE public.berth (id int PRIMARY KEY, name text); INSERT INTO public.berth " +
				"VALUES (1, 'North quay'); CREATE SEQUENCE public.times;",
		},
	)
	w.Promoted("staging")
	w.Submitted(files)
	before := pgtest.Dump(t, w.URLs["staging"])
	scratches := func() string {
		return pgtest.Query(
			t,
			w.URLs["staging"],
			"SELECT count(*)::text FROM pg_database WHERE datname LIKE 'vorrang\\_scratch\\_%' AND "+
				"pg_catalog.shobj_description(oid, 'pg_database') IS NOT NULL",
		)
	}
	return w, func() *api.Rehearsed {
		t.Helper()
		kept := scratches()
		r := must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
		assert.Equal(t, before, pgtest.Dump(t, w.URLs["staging"]), "the target is only read")
		assert.Equal(t, kept, scratches(), "no copy outlives its rehearsal")
		return r
	}
}

func waysBack(r *api.Rehearsed) (all []rehearsal.WayBack) {
	for _, s := range r.Result.Steps {
		all = append(all, s.WayBack)
	}
	return all
}

func TestARehearsalOpensTheGateForExactlyWhatItTried(t *testing.T) {
	w, rehearse := rehearsed(t, map[string]string{
		"2-add-depth.sql":      "ALTER TABLE public.berth ADD COLUMN depth int;",
		"2-add-depth.back.sql": "ALTER TABLE public.berth DROP COLUMN depth;",
		"3-index-name.sql": "/*---\nmode: autocommit\n---*/\nCREATE INDEX CONCURRENTLY berth_name ON " +
			"public.berth (name);",
		"3-index-name.back.sql": "DROP INDEX CONCURRENTLY public.berth_name;",
	})
	w.Gates(map[string]string{"staging": "release: not-asked, previous-environment: not-asked, rehearsal: required"})
	check := func() gate.Check {
		return gate.Result{Checks: must(w.Gate(t.Context(), "harbour", "staging", "")).Checks}.Find(gate.Rehearsal)
	}
	assert.Equal(t, "what is to be applied was not rehearsed on a copy of staging", check().Evidence)
	assert.Contains(t, advice.Text(check().Remedies), "vorrang rehearse -lane harbour -to staging")
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.Equal(t, []gate.ID{gate.Rehearsal}, holds(problem(t, err).Checks))

	r := rehearse()
	require.True(t, r.Result.Passed, r.Result.Why)
	assert.Equal(t, []rehearsal.WayBack{rehearsal.Complete, rehearsal.Complete}, waysBack(r))
	assert.Equal(t, gate.Pass, check().Verdict)
	assert.Contains(t, check().Evidence, "every way back leaves what was there before")

	// another schema, and other steps, are not what was tried
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth ADD COLUMN hotfix int")
	assert.Contains(t, check().Evidence, "the schema of staging is not the one that pilot rehearsed with")
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth DROP COLUMN hotfix")
	assert.Equal(t, gate.Pass, check().Verdict)
	w.Submitted(map[string]string{"4-more.sql": "CREATE TABLE public.more (id int);"})
	assert.Equal(t, gate.Hold, check().Verdict)
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "3"}))
	assert.Equal(t, "done", string(w.Ended(promoted).Outcome), "up to where it was rehearsed")
}

func TestARehearsalNamesTheWayBackThatIsWrong(t *testing.T) {
	for name, c := range map[string]struct {
		files    map[string]string
		at       step.Number
		why      string
		waysBack []rehearsal.WayBack
	}{
		"one that forgets something": {map[string]string{
			"2-add-depth.sql": "ALTER TABLE public.berth ADD COLUMN depth int; CREATE INDEX berth_depth ON public.berth " +
				"(depth); ALTER TABLE public.berth ALTER COLUMN name SET NOT NULL;",
			"2-add-depth.back.sql": "ALTER TABLE public.berth DROP COLUMN depth;",
			"3-c.sql":              "CREATE TABLE public.c (id int);", "3-c.back.sql": "DROP TABLE public.c;",
		}, "2", "the way back of step 2 is incomplete: it leaves another schema than was there before",
			[]rehearsal.WayBack{rehearsal.Incomplete, rehearsal.Complete}},
		"one that fails": {map[string]string{
			"2-b.sql": "CREATE TABLE public.b (id int);", "2-b.back.sql": "DROP TABLE public.other;",
		}, "2", "the way back of step 2 fails: table \"other\" does not exist", []rehearsal.WayBack{rehearsal.Failed}},
		"a step that fails": {map[string]string{
			"2-b.sql": "CREATE TABLE public.b (id int);", "2-b.back.sql": "DROP TABLE public.b;",
			"3-c.sql": "ALTER TABLE public.nowhere ADD COLUMN x int;",
		}, "3", "step 3 fails: relation \"public.nowhere\" does not exist",
			[]rehearsal.WayBack{rehearsal.Untried, rehearsal.Untried}},
		"a step that reaches beyond the copy": {map[string]string{
			"2-b.sql": "COPY public.berth TO '/tmp/vorrang-was-here';",
		}, "2", "reaches beyond the database", []rehearsal.WayBack{rehearsal.Untried}},
		"steps that end otherwise the second time": {map[string]string{
			"2-name.sql": "DO $$ BEGIN EXECUTE format('CREATE TABLE public.t_%s (id int)', " +
				"nextval('public.times')); END $$;",
			"2-name.back.sql": "DO $$ BEGIN EXECUTE format('DROP TABLE public.t_%s', (SELECT last_value FROM " +
				"public.times)); END $$;",
		}, "", "the second time forward ended otherwise than the first: ", []rehearsal.WayBack{rehearsal.Complete}},
	} {
		t.Run(name, func(t *testing.T) {
			_, rehearse := rehearsed(t, c.files)
			r := rehearse()
			assert.False(t, r.Result.Passed)
			assert.Equal(t, c.at, r.Result.At)
			assert.Contains(t, r.Result.Why, c.why)
			assert.Equal(t, c.waysBack, waysBack(r))
		})
	}
}

// What was wrong is told by object, and a later rehearsal of a step that was fixed
// counts.
func TestAWrongWayBackIsMendedAndRehearsedAgain(t *testing.T) {
	w, rehearse := rehearsed(t, map[string]string{
		"2-add-depth.sql": "ALTER TABLE public.berth ADD COLUMN depth int; ALTER TABLE public.berth ALTER COLUMN " +
			"name SET NOT NULL;",
		"2-add-depth.back.sql": "ALTER TABLE public.berth DROP COLUMN depth;",
	})
	w.Gates(map[string]string{"staging": "release: not-asked, previous-environment: not-asked, rehearsal: required"})
	r := rehearse()
	require.Len(t, r.Result.Steps[0].Differences, 1)
	assert.Equal(t, "changed column public.berth.name", r.Result.Steps[0].Differences[0].String())
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.Contains(t, problem(t, err).Detail, "did not pass: the way back of step 2 is incomplete")
	w.Submitted(
		map[string]string{
			"2-add-depth.back.sql": "ALTER TABLE public.berth DROP COLUMN depth; ALTER TABLE public.berth ALTER COLUMN name " +
				"DROP NOT NULL;",
		},
	)
	assert.True(t, rehearse().Result.Passed)
	w.Promoted("staging")
	_, err = w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil)
	assert.Contains(t, problem(t, err).Detail, "there is nothing to apply to staging")
}

// A step without a way back is no fault of the rehearsal's, which says what it left out.
func TestARehearsalSaysWhichWaysBackItDidNotTry(t *testing.T) {
	_, rehearse := rehearsed(t, map[string]string{
		"2-b.sql": "CREATE TABLE public.b (id int);", "2-b.back.sql": "DROP TABLE public.b;",
		"3-c.sql": "CREATE TABLE public.c (id int);",
		"4-d.sql": "CREATE TABLE public.d (id int);", "4-d.back.sql": "DROP TABLE public.d;",
	})
	r := rehearse()
	assert.True(t, r.Result.Passed, r.Result.Why)
	assert.Equal(t, []rehearsal.WayBack{rehearsal.Untried, rehearsal.Missing, rehearsal.Complete}, waysBack(r))
	assert.Equal(t, "step 3 has no way back, so those before it were not tried", r.WaysBack)
}
