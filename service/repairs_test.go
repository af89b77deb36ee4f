package service_test

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/target/postgres"
	"vorrang/target/postgres/grammar"
)

const autocommit = "/*---\nmode: autocommit\n---*/\n"

var entryTime = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

// doubt leaves a step in doubt at a statement, as a service that was killed
// there does: its begun rows are written, and nothing follows them.
func doubt(t *testing.T, w *servicetest.World, environment, number, slug, text string, statement int) {
	ctx := context.Background()
	session, err := postgres.Connect(ctx, w.URLs[environment], "a service that is killed")
	require.NoError(t, err)
	defer session.Close()
	require.NoError(t, session.Lock(ctx))
	require.NoError(t, session.CreateLedger(ctx))
	entries, _, err := session.ReadLedger(ctx)
	require.NoError(t, err)
	statements, err := grammar.Cut([]byte(text))
	require.NoError(t, err)
	file, _ := step.ReadFile(number+"-"+slug+".sql", []byte(text))
	head := ledger.Fold(entries).Head
	require.NoError(t, session.Prepare(ctx, engine.Settings{}))
	var sum sqltext.Sum
	for i := 1; i <= statement; i++ {
		detail := ledger.Detail{Mode: step.Autocommit, Statement: i, Of: len(statements), Done: sum.Total()}
		entry := head.Next(
			ledger.Entry{
				Action:     ledger.Begun,
				Step:       step.Number(number),
				Slug:       slug,
				Checksum:   file.Checksum,
				Deployment: "99",
				Actor:      "pilot",
				Detail:     detail.JSON(),
			},
			entryTime,
		)
		require.NoError(t, session.Append(ctx, entry))
		head = entry.Head()
		sum.Add(statements[i-1])
		if i < statement {
			_, err := session.Exec(ctx, statements[i-1])
			require.NoError(t, err)
		}
	}
}

const buildIndex = autocommit + "CREATE TABLE berth (id int, name text);\nCREATE INDEX CONCURRENTLY berth_name ON " +
	"berth (name);\nINSERT INTO berth VALUES (1, 'North quay');"

func TestADoubtIsSettledByWhatTheTargetShows(t *testing.T) {
	exists := "SELECT to_regclass('berth_name') IS NOT NULL"
	cases := map[string]struct {
		text, check string
		statement   int
		then        string // what took effect of the statement in doubt
		verdict     evidence.Verdict
		outcome     deploy.Outcome // of the next promotion; empty where the gate holds it
	}{
		"the check of the last statement holds": {
			buildIndex,
			"SELECT count(*) = 1 FROM berth",
			3,
			"INSERT INTO public.berth VALUES (1, 'North quay')",
			evidence.TookEffect, "",
		},
		"nothing of an object is there": {
			buildIndex, exists, 2, "", evidence.NoEffect, deploy.Done,
		},
		"rows cannot be seen in the catalogs": {
			buildIndex,
			"SELECT count(*) = 1 FROM berth",
			3, "", evidence.Unclear, "held",
		},
		"without a check nothing is decided": {buildIndex, "", 2, "", evidence.Unclear, "held"},
		"an object in the middle, and a check too early": {
			buildIndex, exists, 2,
			"CREATE INDEX berth_name ON public.berth (name)",
			evidence.Unclear, "held",
		},
		"an index that was left invalid is asked about": {
			buildIndex, exists, 2,
			"CREATE INDEX berth_name ON public.berth (name); UPDATE pg_index SET indisvalid = false WHERE indexrelid = " +
				"'public.berth_name'::regclass",
			evidence.Unclear, "held",
		},
		"the check fails with an error, and nothing is there": {
			buildIndex,
			"SELECT true FROM berth LIMIT 1/(SELECT count(*) FROM berth)",
			1, "", evidence.NoEffect, deploy.Done,
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			w := servicetest.Start(t)
			files := map[string]string{"1-berth.sql": c.text}
			if c.check != "" {
				files["1-berth.check.sql"] = c.check
			}
			w.Submitted(files)
			doubt(t, w, "staging", "1", "berth", c.text, c.statement)
			if c.then != "" {
				pgtest.Exec(t, w.URLs["staging"], c.then)
			}
			found := must(w.Evidence(t.Context(), "harbour", "staging", "1"))
			assert.Equal(t, c.verdict, found.Verdict, found.Why)
			assert.Equal(t, c.statement, found.Statement)
			if c.outcome == "held" {
				_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
				assert.Equal(t, "in-doubt", problem(t, err).Kind())
				assert.Contains(t, problem(t, err).Detail, found.Why)
				return
			}
			assert.Equal(t, "clear", must(w.Gate(t.Context(), "harbour", "staging", "")).Gate)
			promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
			require.Len(t, promoted.Settled, 1)
			assert.Contains(t, promoted.Settled[0], "step 1 was in doubt, and is settled as "+string(c.verdict))
			if c.outcome == "" {
				assert.True(t, promoted.Nothing)
			} else if c.check == exists {
				assert.Equal(t, c.outcome, w.Ended(promoted).Outcome)
				assert.Equal(t, "1", pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM public.berth"),
					"it went on where it stopped")
			}
			assert.Contains(
				t,
				pgtest.Query(t, w.URLs["staging"], "SELECT detail FROM vorrang.ledger WHERE action = 'settled'"),
				`"reason":"by its check: `,
			)
		})
	}
}

func TestSomebodysWordSettlesADoubt(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-berth.sql": buildIndex})
	doubt(t, w, "staging", "1", "berth", buildIndex, 2)
	settle := func(as string, acknowledge, drop bool) error {
		_, err := w.Settle(
			t.Context(), "harbour", "staging",
			client.Settlement{Step: "1", As: as, Reason: "looked", Acknowledge: acknowledge, DropInvalid: drop},
		)
		return err
	}
	refusal := problem(t, settle("applied", false, false))
	assert.Contains(t, refusal.Detail, "the target shows otherwise than that statement 2 of step 1 is applied")
	assert.Equal(t, []string{"index berth_name is not there"}, refusal.Differences)

	pgtest.Exec(
		t,
		w.URLs["staging"],
		"SET search_path = public; CREATE INDEX berth_name ON berth (name); UPDATE pg_index SET indisvalid = false WHERE "+
			"indexrelid = 'berth_name'::regclass",
	)
	assert.Contains(t, problem(t, settle("not-applied", false, false)).Detail, "the index berth_name was left INVALID")
	assert.Equal(t, []string{"index berth_name"}, must(w.Evidence(t.Context(), "harbour", "staging", "1")).Invalid)
	require.NoError(t, settle("not-applied", false, true))
	assert.Equal(
		t, "null",
		pgtest.Query(t, w.URLs["staging"], "SELECT to_regclass('public.berth_name')"),
		"it was dropped",
	)
	assert.JSONEq(
		t,
		`["index berth_name"]`,
		pgtest.Query(
			t,
			w.URLs["staging"],
			"SELECT detail::json -> 'dropped' FROM vorrang.ledger WHERE action = 'settled'",
		),
	)
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)

	// a statement that took effect is passed over
	doubt(t, w, "production", "1", "berth", buildIndex, 2)
	pgtest.Exec(t, w.URLs["production"], "SET search_path = public; CREATE INDEX berth_name ON berth (name)")
	_, err := w.Settle(
		t.Context(), "harbour", "production",
		client.Settlement{Step: "1", As: "applied", Reason: "the index is there"},
	)
	require.NoError(t, err)
	ended := w.Promoted("production")
	require.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
	assert.Equal(t, "1", pgtest.Query(t, w.URLs["production"], "SELECT count(*) FROM public.berth"))
	assert.Contains(t, problem(t, settle("applied", true, false)).Detail, "step 1 is not in doubt on staging")
}

func TestWorkDoneByHandIsAttestedAfterALook(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{
		"1-vessel.sql": "CREATE TABLE vessel (id int)",
		"2-berth.sql":  "CREATE TABLE berth (id int); CREATE INDEX berth_id ON berth (id)",
		"3-names.sql":  "UPDATE vessel SET id = id", "3-names.check.sql": "SELECT count(*) = 2 FROM vessel",
		"4-dues.sql":    "UPDATE vessel SET id = id + 1",
		"5-pilot.sql":   "CREATE TABLE pilot (id int)",
		"6-only.sql":    "/*---\nonly: development\n---*/\nCREATE TABLE sample (id int)",
		"7-another.sql": "SELECT 1",
	})
	attest := func(word client.Attestation) (*client.Error, []step.Number) {
		if word.Reason == "" {
			word.Reason = "built by hand"
		}
		attested, err := w.Attest(t.Context(), "harbour", "staging", word)
		if err != nil {
			return problem(t, err), nil
		}
		var numbers []step.Number
		for _, e := range attested.Entries {
			numbers = append(numbers, e.Step)
		}
		return nil, numbers
	}
	refusal, _ := attest(client.Attestation{Step: "1", Reason: " "})
	assert.Contains(t, refusal.Detail, "reason: say how you know")
	refusal, _ = attest(client.Attestation{Through: "3"})
	assert.Equal(
		t,
		[]string{
			"step 1 (vessel): column vessel.id is not there (statement 1, line 1)",
			"step 1 (vessel): table vessel is not there (statement 1, line 1)",
		},
		refusal.Differences[:2],
	)
	assert.Equal(
		t, "0",
		pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM pg_class WHERE relname IN ('vessel', 'ledger')"),
		"nothing was tried, nothing recorded",
	)

	pgtest.Exec(
		t,
		w.URLs["staging"],
		"SET search_path = public; CREATE TABLE vessel (id int); CREATE TABLE berth (id int); CREATE TABLE pilot (id int)",
	)
	_, numbers := attest(client.Attestation{Through: "7", IfPresent: true})
	assert.Equal(t, []step.Number{"1", "5"}, numbers, "2 lacks its index, and the others create nothing")
	refusal, _ = attest(client.Attestation{Step: "3"})
	assert.Contains(t, refusal.Differences[0], "the check in line 1 does not hold: it gave (false)")
	pgtest.Exec(t, w.URLs["staging"], "INSERT INTO public.vessel VALUES (1), (2)")
	_, numbers = attest(client.Attestation{Step: "3"})
	assert.Equal(t, []step.Number{"3"}, numbers, "its check holds")
	refusal, _ = attest(client.Attestation{Step: "4"})
	assert.Contains(
		t, refusal.Differences[0],
		"no check and creates, alters or drops nothing that could be looked up: UPDATE in line 1",
	)
	_, numbers = attest(client.Attestation{Step: "4", Acknowledge: true})
	assert.Equal(t, []step.Number{"4"}, numbers)
	refusal, _ = attest(client.Attestation{Step: "6"})
	assert.Contains(t, refusal.Detail, "step 6 does not wait on staging")
	_, numbers = attest(client.Attestation{Through: "7", Acknowledge: true})
	assert.Equal(t, []step.Number{"2", "7"}, numbers, "several at once, in order")

	status := must(w.Status(t.Context(), "harbour", "staging", "all"))
	assert.Equal(t, ledger.StatusAttested, status.Steps[3].State)
	assert.Empty(t, holds(status.Gate))
	assert.Equal(
		t, "built by hand",
		pgtest.Query(t, w.URLs["staging"], "SELECT detail ->> 'reason' FROM vorrang.ledger WHERE step = '4'"),
	)
	assert.True(t, must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Nothing)
}

func TestAnEditedStepIsShownAgainstWhatWasApplied(t *testing.T) {
	w := servicetest.Start(t)
	applied := "-- vessels\nCREATE TABLE vessel (\n    id int,\n    name text\n);\n"
	w.Submitted(map[string]string{"1-vessel.sql": applied, "2-b.sql": "SELECT 1"})
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	edits := map[string]sqltext.Change{
		strings.ReplaceAll(applied, "    id", "  id"):             sqltext.OnlySpace,
		strings.Replace(applied, "-- vessels", "-- the fleet", 1): sqltext.OnlyComments,
		strings.Replace(applied, "name text", "name varchar", 1):  sqltext.WhatRuns,
		applied + "COMMENT ON TABLE vessel IS 'x';":               sqltext.WhatRuns,
	}
	for text, change := range edits {
		submitted := w.Submitted(map[string]string{"1-vessel.sql": text})
		require.Len(t, submitted.Applied, 1)
		warned := submitted.Applied[0]
		assert.Equal(
			t,
			"1 staging applied "+string(change),
			string(warned.Number)+" "+warned.Environment+" "+string(warned.State)+" "+string(warned.Change),
		)
		assert.Contains(
			t, advice.Text(warned.Remedies),
			"write the change as a new step; or, if the new text is right there as it stands: vorrang amend -lane harbour "+
				"-env staging -step 1",
		)
		d := must(w.Status(t.Context(), "harbour", "staging", "open")).Steps[0].Difference
		require.NotNil(t, d)
		assert.Equal(t, change, d.Change)
		gone, now := "", ""
		for _, line := range d.Lines {
			if line.Op != "new" {
				gone += line.Text + "\n"
			}
			if line.Op != "gone" {
				now += line.Text + "\n"
			}
		}
		assert.Contains(t, applied, gone, "the lines of the applied text")
		assert.Contains(t, text+"\n", now)
		assert.NotEqual(t, gone, now)
	}
	submitted := w.Submitted(map[string]string{"1-vessel.sql": applied, "2-b.sql": ""})
	require.Len(t, submitted.Applied, 1, "the applied text is back; the other step is gone")
	assert.True(t, submitted.Applied[0].Gone)
	assert.Contains(
		t, advice.Text(submitted.Applied[0].Remedies),
		"put its files back and submit; how to undo it there instead",
	)
}

func TestTheNewestStepIsWithdrawnIfItIsAppliedNowhere(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql":      "CREATE TABLE a (id int)",
			"2-b.sql":      "CREATE TABLE b (id int)",
			"2-b.back.sql": "DROP TABLE b",
		},
	)
	_, err := w.Withdraw(t.Context(), "harbour", "1")
	assert.Contains(t, problem(t, err).Detail, "step 1 is not the newest of harbour: step 2 (b) is")
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	_, err = w.Withdraw(t.Context(), "harbour", "2")
	assert.Contains(t, problem(t, err).Detail, "step 2 is applied on staging")
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")))
	withdrawn := must(w.Withdraw(t.Context(), "harbour", "2"))
	assert.Equal(t, []string{"2-b.sql", "2-b.back.sql"}, withdrawn.Files)
	assert.Equal(t, 1, withdrawn.Steps)
	assert.True(t, must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Nothing)
	assert.Empty(t, must(w.Status(t.Context(), "harbour", "staging", "none")).Trouble)
	again := w.Submitted(nil)
	assert.Equal(t, step.Number("2"), again.New[0].Number, "its files are still in the folder")

	require.NoError(t, os.Remove(w.Files["production"]))
	_, err = w.Withdraw(t.Context(), "harbour", "2")
	assert.Contains(
		t, problem(t, err).Detail,
		"whether step 2 is applied on production could not be seen",
		"nothing is guessed",
	)
}

func TestOnlyADisposableDatabaseIsRebuilt(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id int)",
			"2-b.sql": "/*---\nonly: staging\n---*/\nCREATE TABLE b (id int)",
		},
	)
	require.Equal(t, deploy.Done, w.Promoted("development").Outcome)
	pgtest.Exec(t, w.URLs["development"], "INSERT INTO public.a VALUES (1); CREATE TABLE public.stray (id int)")
	_, err := w.Rebuild(t.Context(), "harbour", "production", "production")
	assert.Contains(t, problem(t, err).Detail, "production is not disposable: nothing may empty it")
	_, err = w.Rebuild(t.Context(), "harbour", "development", "")
	assert.Contains(
		t, problem(t, err).Detail,
		"drops everything in the application's schemas of development (2 tables, with their rows)",
	)
	assert.Contains(t, advice.Text(problem(t, err).Remedies), "-confirm development")

	ended := w.Ended(must(w.Rebuild(t.Context(), "harbour", "development", "development")))
	require.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
	assert.True(t, ended.Rebuild)
	assert.Equal(
		t, "a",
		pgtest.Query(
			t,
			w.URLs["development"],
			"SELECT string_agg(tablename, ' ') FROM pg_tables WHERE schemaname = 'public'",
		),
	)
	assert.Empty(t, must(w.Verify(t.Context(), "harbour", "development")).Deviations)

	// production's file leads to development's database, under another name
	other := strings.Replace(w.URLs["development"], "127.0.0.1", "localhost", 1)
	require.NoError(t, os.WriteFile(w.Files["production"], []byte(other), 0o600))
	_, err = w.Rebuild(t.Context(), "harbour", "development", "development")
	assert.Contains(
		t, problem(t, err).Detail,
		"this database is also the target of harbour/production: nothing may empty it",
	)
	w.Away("production")
	w.Ended(must(w.Rebuild(t.Context(), "harbour", "development", "development"))) // its ledger says whose it is

	// a database that does not say whose it is
	pgtest.Exec(t, w.URLs["development"], "DROP SCHEMA vorrang CASCADE")
	_, err = w.Rebuild(t.Context(), "harbour", "development", "development")
	assert.Contains(
		t, problem(t, err).Detail,
		"whether harbour/production, which is not disposable, has another database could not be seen",
	)
	assert.Equal(
		t, "1",
		pgtest.Query(t, w.URLs["development"], "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"),
	)
}

func TestAWrongBaselineIsFoundBeforeItIsRecorded(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE a (id int PRIMARY KEY); CREATE TYPE mood AS ENUM ('calm', 'rough')",
		"2-b.sql": "CREATE TABLE b (id int); CREATE FUNCTION f(int) RETURNS int LANGUAGE sql AS 'SELECT 1'",
		"3-c.sql": "ALTER TABLE a ADD COLUMN name text; CREATE VIEW v AS SELECT * FROM a",
		"4-d.sql": "INSERT INTO a SELECT 1/0",
	})
	pgtest.Exec(
		t,
		w.URLs["production"],
		"SET search_path = public; CREATE TABLE a (id bigint PRIMARY KEY); CREATE TABLE b (id int NOT NULL); CREATE "+
			"FUNCTION f(int) RETURNS int LANGUAGE sql AS 'SELECT 2'; CREATE TYPE mood AS ENUM ('calm')",
	)
	_, err := w.Baseline(t.Context(), "harbour", "production", "3", true)
	refusal := problem(t, err)
	assert.Contains(t, refusal.Detail, "production does not look as it does after step 3: 6 differences")
	assert.Contains(t, refusal.Differences, "column public.a.name is made by these steps, and is not there")
	assert.Contains(
		t, advice.Text(refusal.Remedies),
		"step 2 fits best, with 4 differences: vorrang baseline -lane harbour -env production -at 2 -check",
	)
	_, err = w.Baseline(t.Context(), "harbour", "production", "1", true)
	assert.Contains(
		t, problem(t, err).Differences,
		"function public.f(integer) is there, and these steps do not make it",
	)
	_, err = w.Baseline(t.Context(), "harbour", "production", "4", true)
	assert.Contains(t, problem(t, err).Detail, "step 4 (d) cannot be applied to an empty database")
	_, err = w.Baseline(t.Context(), "harbour", "production", "2", true)
	wrong := strings.Join(problem(t, err).Differences, "\n")
	for _, message := range []string{"type public.mood: ", "labels is 'calm', and these steps make it " +
		"'calm', 'rough'", "column public.a.id: type is bigint, and these steps make it integer",
		"column public.b.id: null is not allowed, and these steps make it allowed",
		"function public.f(integer): definition is"} {
		assert.Contains(t, wrong, message, "names are not enough")
	}
	assert.Contains(
		t, advice.Text(problem(t, err).Remedies),
		"no other number fits better than 2; if the differences are meant: vorrang baseline -lane harbour -env "+
			"production -at 2",
	)
	pgtest.Exec(
		t,
		w.URLs["production"],
		"SET search_path = public; ALTER TABLE a ALTER id TYPE int; ALTER TABLE b ALTER id DROP NOT NULL; CREATE OR "+
			"REPLACE FUNCTION f(int) RETURNS int LANGUAGE sql AS 'SELECT 1'; ALTER TYPE mood ADD VALUE 'rough'",
	)
	_, err = w.Baseline(t.Context(), "harbour", "production", "3", true)
	assert.Contains(
		t, advice.Text(problem(t, err).Remedies),
		"it looks exactly as after step 2: vorrang baseline -lane harbour -env production -at 2 -check",
	)
	recorded := must(w.Baseline(t.Context(), "harbour", "production", "2", true))
	assert.Contains(
		t, recorded.Message,
		"checked: the schema is what these steps make, 8 objects, but for owners and grants",
	)
	assert.Equal(
		t, "0",
		pgtest.Query(
			t,
			w.URLs["development"],
			`SELECT count(*) FROM pg_database WHERE datname LIKE 'vorrang\_scratch%'`,
		),
		"the scratch databases are gone",
	)
}

func TestAPromotionSaysWhatBecomesOfAFailure(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql":      "CREATE TABLE a (id int)",
			"1-a.back.sql": "DROP TABLE a",
			"2-b.sql":      "SELECT 1/0",
		},
	)
	_, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{OnFailure: plan.BackOut})
	assert.Contains(
		t, problem(t, err).Detail,
		"these steps have no way back, so nothing could be backed out if a later one failed: 2 (b, mode transaction)",
	)
	w.Submitted(map[string]string{"2-b.back.sql": "SELECT 1"})
	ended := w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{OnFailure: plan.BackOut})))
	assert.Equal(t, deploy.BackedOut, ended.Outcome)
	assert.Equal(t, plan.BackOut, ended.OnFailure)
	ended = w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Whole: true})))
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.Equal(
		t, "0",
		pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"),
	)
	w.Submitted(map[string]string{"2-b.sql": autocommit + "VACUUM"})
	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{Whole: true})
	assert.Contains(t, problem(t, err).Detail, "cannot run in one transaction with others: 2 (b, mode autocommit)")
}

func TestAPreviewSaysWhatIsLost(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{
		"1-a.sql": "CREATE TABLE a (id int, note text)", "1-a.back.sql": "DROP TABLE a",
		"2-b.sql":      "ALTER TABLE a DROP COLUMN note;\nDELETE FROM a WHERE id < 0;",
		"2-b.back.sql": "ALTER TABLE a ADD COLUMN note text",
		"3-c.sql":      "SELECT 1",
	})
	preview := must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{}))
	assert.Equal(
		t,
		[]bool{false, false, true},
		[]bool{preview.Actions[0].Irreversible, preview.Actions[1].Irreversible, preview.Actions[2].Irreversible},
	)
	assert.Equal(t, "drops the column a.note", preview.Actions[1].Losses[0].What)
	assert.Equal(t, 2, preview.Actions[1].Losses[1].Line)
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "2"}))
	require.Equal(t, deploy.Done, w.Ended(promoted).Outcome)
	back := must(w.PreviewBack(t.Context(), "harbour", "staging", client.Way{Last: 2}))
	assert.Equal(
		t, "drops the column a.note", back.Actions[0].LostBefore[0].What,
		"the way back brings the column, not its values",
	)
	assert.Empty(t, back.Actions[0].Losses)
	assert.Equal(t, "drops the table a", back.Actions[1].Losses[0].What)
}

func TestAStepUnderWayIsNoTrouble(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": autocommit + "CREATE TABLE a (id int);\nSELECT pg_advisory_lock(7);"})
	keeper := pgtest.Connect(t, w.URLs["staging"])
	_, err := keeper.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	stop := context.Canceled
	require.ErrorIs(t, w.Follow(t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
		if e.Statement == 2 {
			return stop
		}
		return nil
	}), stop)
	status := must(w.Status(t.Context(), "harbour", "staging", "all"))
	assert.Equal(t, ledger.StatusInDoubt, status.Steps[0].State)
	assert.Empty(t, status.Trouble)
	assert.Equal(t, []gate.ID{gate.Quiet}, holds(status.Gate))
	_, err = keeper.Exec(t.Context(), "SELECT pg_advisory_unlock(7)")
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, w.Ended(promoted).Outcome)
}
