package service_test

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// problem returns what the service answered instead of a result.
func problem(t *testing.T, err error) *client.Error {
	t.Helper()
	var answered *client.Error
	require.ErrorAs(t, err, &answered)
	return answered
}

func holds(checks []gate.Check) []gate.ID {
	var ids []gate.ID
	for _, c := range checks {
		if c.Verdict == gate.Hold {
			ids = append(ids, c.ID)
		}
	}
	return ids
}

func TestTheWholeStory(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	submitted := w.Submitted(map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id int PRIMARY KEY)", "1-create-vessel.back.sql": "DROP TABLE vessel",
		"2-create-berth.sql": "CREATE TABLE berth (id int PRIMARY KEY)", "2-create-berth.back.sql": "DROP TABLE berth",
		"3-add-name.sql":      "ALTER TABLE vessel ADD COLUMN name text",
		"3-add-name.back.sql": "ALTER TABLE vessel DROP COLUMN name",
	})
	assert.Len(t, submitted.New, 3)
	pgtest.Exec(
		t,
		w.URLs["production"],
		"SET search_path = public; CREATE TABLE vessel (id int PRIMARY KEY); CREATE TABLE berth (id int PRIMARY KEY)",
	)

	for _, environment := range []string{"development", "staging"} {
		assert.Equal(t, deploy.Done, w.Promoted(environment).Outcome)
	}
	again, err := w.Promote(ctx, "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	assert.True(t, again.Nothing)

	_, err = w.Promote(ctx, "harbour", "production", client.Promotion{})
	stopped := problem(t, err)
	assert.Equal(t, "held", stopped.Kind())
	assert.Contains(t, stopped.Detail, "this is an existing database: it has 2 tables and no history")
	assert.Contains(t, advice.Text(stopped.Remedies), "vorrang baseline -lane harbour -env production")
	assert.Equal(
		t, "0",
		pgtest.Query(t, w.URLs["production"], "SELECT count(*) FROM pg_namespace WHERE nspname = 'vorrang'"),
		"it was not touched",
	)

	_, err = w.Baseline(ctx, "harbour", "production", "9", false)
	assert.Equal(t, "refused", problem(t, err).Kind())
	recorded, err := w.Baseline(ctx, "harbour", "production", "2", false)
	require.NoError(t, err)
	assert.Equal(t, ledger.Baselined, recorded.Entries[0].Action)
	assert.Equal(t, deploy.Done, w.Promoted("production").Outcome)

	preview, err := w.PreviewBack(ctx, "harbour", "production", client.Way{Last: 1})
	require.NoError(t, err)
	assert.Equal(t, "ALTER TABLE vessel DROP COLUMN name", preview.Actions[0].SQL)
	back, err := w.Rollback(ctx, "harbour", "production", client.Way{Last: 1}, "production")
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, w.Ended(back).Outcome)
	status, err := w.Status(ctx, "harbour", "production", "all")
	require.NoError(t, err)
	assert.Equal(t, []ledger.Status{ledger.StatusCovered, ledger.StatusCovered, ledger.StatusRolledBack},
		[]ledger.Status{status.Steps[0].State, status.Steps[1].State, status.Steps[2].State})
	assert.Equal(t, 1, status.Pending)
	assert.Equal(t, deploy.Done, w.Promoted("production").Outcome)

	_, err = w.Rollback(ctx, "harbour", "production", client.Way{Last: 2}, "production")
	assert.Contains(t, problem(t, err).Detail, "only 1 step was run here")
	history, err := w.Ledger(ctx, "harbour", "production", 0)
	require.NoError(t, err)
	assert.Empty(t, history.Chain)
	assert.Equal(
		t,
		[]ledger.Action{ledger.Applied, ledger.RolledBack, ledger.Applied, ledger.Baselined},
		[]ledger.Action{
			history.Entries[0].Action, history.Entries[1].Action, history.Entries[2].Action,
			history.Entries[3].Action,
		},
	)
}

func TestARollbackNeedsTheEnvironmentsNameTyped(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "1-a.back.sql": "SELECT 1"})
	for _, environment := range []string{"development", "production"} {
		require.Equal(t, deploy.Done, w.Promoted(environment).Outcome)
	}
	for _, typed := range []string{"", "staging", "yes"} {
		_, err := w.Rollback(t.Context(), "harbour", "production", client.Way{Last: 1}, typed)
		assert.Contains(
			t, problem(t, err).Detail,
			"a rollback on production, which is not disposable, needs its name typed",
		)
	}
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Rollback(t.Context(), "harbour", "production", client.Way{Last: 1}, "production"))).Outcome,
	)
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Rollback(t.Context(), "harbour", "development", client.Way{Last: 1}, ""))).Outcome,
		"disposable",
	)
}

func TestAnEmptyDatabaseIsNotBaselined(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	_, err := w.Baseline(t.Context(), "harbour", "staging", "1", false)
	assert.Contains(t, problem(t, err).Detail, "staging is empty")
	_, err = w.Baseline(t.Context(), "harbour", "staging", "0", false)
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
}

func TestWhatWasChangedAfterwardsStopsAPromotion(t *testing.T) {
	w := servicetest.Start(t)
	files := map[string]string{
		"1-a.sql":      "CREATE TABLE a (id int)",
		"1-a.back.sql": "DROP TABLE a",
		"2-b.sql":      "CREATE TABLE b (id int)",
		"5-e.sql":      "CREATE TABLE e (id int)",
		"6-f.sql":      "SELECT 1",
	}
	w.Submitted(files)
	require.Equal(t, deploy.Done, w.Promoted("development").Outcome)

	changed := w.Submitted(
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id bigint)",
			"2-b.sql": "",
			"3-c.sql": "SELECT 3",
			"7-g.sql": "SELECT 7",
		},
	)
	assert.Equal(t, []api.StepRef{{Number: "1", Slug: "a"}}, changed.Edited)
	assert.Equal(t, []api.StepRef{{Number: "2", Slug: "b"}}, changed.Gone)
	assert.Equal(t, []api.StepRef{{Number: "3", Slug: "c"}}, changed.Late)
	assert.Len(t, changed.New, 2)
	_, err := w.Promote(t.Context(), "harbour", "development", client.Promotion{})
	assert.Equal(t, []gate.ID{gate.Checksums, gate.Catalogue, gate.Order}, holds(problem(t, err).Checks))
	status, err := w.Status(t.Context(), "harbour", "development", "open")
	require.NoError(t, err)
	assert.Len(t, status.Trouble, 3)
	flags := map[step.Number][]plan.Flag{}
	for _, s := range status.Steps {
		flags[s.Number] = s.Flags
	}
	assert.Equal(
		t,
		map[step.Number][]plan.Flag{"1": {plan.Edited}, "2": {plan.Absent}, "3": {plan.Late}, "7": nil},
		flags,
	)

	// The way back of an edited step is the one that was there when it was applied.
	w.Submitted(map[string]string{"1-a.back.sql": "SELECT 'another way'"})
	_, err = w.PreviewBack(t.Context(), "harbour", "development", client.Way{To: "0"})
	assert.Contains(t, problem(t, err).Detail, "there is no way back for step 6 (f), 5 (e), 2 (b)")

	w.Submitted(map[string]string{"1-a.sql": files["1-a.sql"], "2-b.sql": files["2-b.sql"], "3-c.sql": ""})
	require.Equal(t, deploy.Done, w.Promoted("development").Outcome)
}

func TestAnEditedStepIsAmendedByAWord(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2"})
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	_, err := w.Amend(t.Context(), "harbour", "staging", "1", "nothing to amend", false)
	assert.Contains(t, problem(t, err).Detail, "step 1 is not edited on staging")
	w.Submitted(map[string]string{"1-a.sql": "-- a comment\nSELECT 1", "3-c.sql": "SELECT 3"})
	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.Contains(t, advice.Text(problem(t, err).Remedies), "vorrang amend -lane harbour -env staging -step 1")
	_, err = w.Amend(t.Context(), "harbour", "staging", "1", " ", false)
	assert.Contains(t, problem(t, err).Detail, "reason")
	recorded, err := w.Amend(t.Context(), "harbour", "staging", "1", "only a comment", false)
	require.NoError(t, err)
	assert.Equal(t, ledger.Amended, recorded.Entries[0].Action)
	assert.Contains(t, string(recorded.Entries[0].Detail), `"reason":"only a comment","instead":"`)
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
}

func TestASubmissionIsAllOrNothing(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	w.Write(
		map[string]string{
			"2-b.sql": "SELECT 2",
			"3-c.sql": "SELEC 3",
			"4-d.sql": "/*---\nmood: good\n---*/\nSELECT 4",
			"5-e.sql": "VACUUM a",
		},
	)
	_, err := w.Submit(t.Context(), "harbour", os.DirFS(w.Steps))
	refused := problem(t, err)
	assert.Equal(t, "invalid-files", refused.Kind())
	assert.Len(t, refused.Errors, 1, "what a file says of itself comes first")
	w.Write(map[string]string{"4-d.sql": ""})
	_, err = w.Submit(t.Context(), "harbour", os.DirFS(w.Steps))
	refused = problem(t, err)
	require.Len(t, refused.Errors, 1)
	assert.Contains(t, refused.Errors[0].Message, "set mode: autocommit")
	assert.Equal(t, "VACUUM a", refused.Errors[0].Source)
	lane, err := w.Lane(t.Context(), "harbour")
	require.NoError(t, err)
	assert.Equal(t, 1, lane.Steps)
	submitted := w.Submitted(map[string]string{"5-e.sql": ""})
	require.Len(t, submitted.Notes, 1)
	assert.Equal(
		t,
		step.Problem{
			File:    "3-c.sql",
			Line:    1,
			Column:  1,
			Message: `syntax error at or near "SELEC"; whether that is right, the server decides`,
			Source:  "SELEC 3",
			Caret:   1,
		},
		submitted.Notes[0],
	)

	require.NoError(t, os.Mkdir(w.Steps+"/old", 0o755))
	_, err = w.Submit(t.Context(), "harbour", os.DirFS(w.Steps))
	assert.ErrorContains(t, err, "old: is a folder")
	_, err = w.Submit(t.Context(), "harbour", os.DirFS(t.TempDir()))
	assert.ErrorContains(t, err, "1 problem was found")
}

// The body is an ordinary tar, as tar and curl send it.
func TestAFolderCanBeSentWithoutTheClient(t *testing.T) {
	w := servicetest.Start(t)
	var body bytes.Buffer
	archive := tar.NewWriter(&body)
	add := func(header tar.Header, text string) {
		header.Mode, header.Size = 0o644, int64(len(text))
		require.NoError(t, archive.WriteHeader(&header))
		_, err := archive.Write([]byte(text))
		require.NoError(t, err)
	}
	add(tar.Header{Name: "./", Typeflag: tar.TypeDir}, "")
	add(tar.Header{Name: "./1-a.back.sql", Typeflag: tar.TypeReg}, "DROP INDEX CONCURRENTLY i")
	add(tar.Header{Name: "./1-a.sql", Typeflag: tar.TypeReg}, "/*---\r\nmode: autocommit\r\n---*/\r\nSELECT 1;\r\n")
	add(tar.Header{Name: "./README.md", Typeflag: tar.TypeReg}, "about")
	require.NoError(t, archive.Close())
	status, answer := request(
		t, w, http.MethodPost,
		"/api/v1/lanes/harbour/submissions",
		"application/x-tar", body.String(),
	)
	require.Equal(t, http.StatusOK, status, answer)
	texts, err := w.Step(t.Context(), "harbour", "01", 0)
	require.NoError(t, err)
	require.Len(t, texts.Files, 2)
	assert.Equal(t, "/*---\nmode: autocommit\n---*/\nSELECT 1;\n", texts.Files[0].Text, "the normal text is what runs")

	for _, broken := range []string{"not a tar", body.String()[:700]} {
		status, answer = request(
			t, w, http.MethodPost,
			"/api/v1/lanes/harbour/submissions",
			"application/x-tar", broken,
		)
		assert.Equal(t, http.StatusBadRequest, status, answer)
	}
}

// request sends a request with the token, as curl would.
func request(t *testing.T, w *servicetest.World, method, path, kind, body string, headers ...string) (int, string) {
	req, err := http.NewRequestWithContext(t.Context(), method, w.Server+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+servicetest.Token)
	req.Header.Set("Content-Type", kind)
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(text)
}

func TestEveryVersionOfATextIsKept(t *testing.T) {
	w := servicetest.Start(t)
	first, second := "SELECT 1 AS one", "SELECT 1 AS eins"
	w.Submitted(map[string]string{"1-a.sql": first, "1-a.back.sql": "SELECT 'first way'"})
	require.Equal(t, deploy.Done, w.Promoted("development").Outcome)
	w.Submitted(map[string]string{"1-a.sql": second, "1-a.back.sql": "SELECT 'second way'"})
	preview, err := w.PreviewBack(t.Context(), "harbour", "development", client.Way{Last: 1})
	require.NoError(t, err)
	assert.Equal(t, "SELECT 'first way'", preview.Actions[0].SQL)
	require.Equal(
		t, deploy.Done,
		w.Ended(must(w.Rollback(t.Context(), "harbour", "development", client.Way{Last: 1}, "development"))).Outcome,
	)
	preview, err = w.Preview(t.Context(), "harbour", "development", client.Promotion{})
	require.NoError(t, err)
	assert.Equal(t, second, preview.Actions[0].SQL)
}

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

const sleeps = "CREATE TABLE slow (id int);\nSELECT pg_sleep(60) AS slow;"

// asleep waits until the deployment's second statement runs.
func asleep(t *testing.T, w *servicetest.World, id int64) {
	enough := errors.New("it sleeps")
	err := w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
		if e.Kind == deploy.Statement && e.Statement == 2 {
			return enough
		}
		return nil
	})
	require.ErrorIs(t, err, enough)
}

func TestOfTwoPromotionsOneIsToldWhoRuns(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-slow.sql": sleeps})
	first, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	asleep(t, w, first.Deployment.ID)

	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	second := problem(t, err)
	assert.Equal(t, "held", second.Kind())
	assert.Contains(
		t, second.Detail,
		fmt.Sprintf("deployment %d, started by pilot, has been running here since 20", first.Deployment.ID),
	)
	assert.Equal(t, first.Deployment.ID, second.Running.ID)
	status, err := w.Status(t.Context(), "harbour", "staging", "none")
	require.NoError(t, err)
	assert.Equal(t, first.Deployment.ID, status.Running.ID)
	assert.Empty(t, status.Trouble, "a deployment under way is no trouble")

	terminate(t, w.URLs["staging"])
	ended := w.Ended(first)
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.True(t, ended.Failure.Lost)
	w.Submitted(map[string]string{"1-slow.sql": "CREATE TABLE slow (id int)"})
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
}

// terminate ends the session that sleeps in a database.
func terminate(t *testing.T, url string) {
	assert.Equal(t, "1", pgtest.Query(t, url, `SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
		WHERE datname = current_database() AND query LIKE '%pg_sleep(60)%' AND pid <> pg_backend_pid()`))
}

func TestOfManyPromotionsAtOnceEachStepTakesEffectOnce(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql": "CREATE TABLE a (id int); SELECT pg_sleep(0.2)",
			"2-b.sql": "INSERT INTO a VALUES (1)",
		},
	)
	var wait sync.WaitGroup
	var mu sync.Mutex
	begun, refusals := 0, 0
	for range 12 {
		wait.Go(func() {
			promoted, err := w.Promote(context.Background(), "harbour", "staging", client.Promotion{})
			mu.Lock()
			defer mu.Unlock()
			var answered *client.Error
			switch {
			case err == nil && promoted.Deployment != nil:
				begun++
				assert.NoError(
					t,
					w.Follow(context.Background(), promoted.Deployment.ID, 0, func(deploy.Event) error { return nil }),
				)
			case err == nil:
				assert.True(t, promoted.Nothing)
			case assert.ErrorAs(t, err, &answered):
				refusals++
				assert.Equal(t, []gate.ID{gate.Quiet}, holds(answered.Checks))
			}
		})
	}
	wait.Wait()
	assert.Equal(t, 1, begun)
	assert.Equal(t, "1", pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM a"))
}

func TestACancelledDeploymentKeepsWhatWasApplied(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-slow.sql": sleeps, "3-c.sql": "SELECT 3"})
	promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	asleep(t, w, promoted.Deployment.ID)
	_, err = w.Cancel(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Cancelled, w.Ended(promoted).Outcome)
	events, err := w.Deployments(t.Context(), client.DeploymentQuery{Lane: "harbour", Environment: "staging", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, deploy.Cancelled, events.Deployments[0].Outcome)
	_, body := request(
		t, w, http.MethodGet,
		fmt.Sprintf("/api/v1/deployments/%d/events", promoted.Deployment.ID),
		"", "",
	)
	assert.Contains(t, body, "the deployment was cancelled by pilot; what was applied before stays")
	assert.Equal(
		t, "a",
		pgtest.Query(
			t,
			w.URLs["staging"],
			"SELECT string_agg(relname, ' ') FROM pg_class WHERE relname IN ('a', 'slow')",
		),
	)
	_, err = w.Cancel(t.Context(), promoted.Deployment.ID)
	assert.Contains(t, problem(t, err).Detail, "is not running; it is cancelled")
	w.Submitted(map[string]string{"2-slow.sql": "SELECT 2"})
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
}

func TestAStoppedServiceRollsTheRunningStepBackAndSaysSo(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "2-slow.sql": sleeps})
	promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	asleep(t, w, promoted.Deployment.ID)
	ended := make(chan deploy.Event, 1)
	go func() {
		_ = w.Follow(context.Background(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
			if e.Kind == deploy.Ended {
				ended <- e
			}
			return nil
		})
	}()
	w.Stop()
	last := <-ended
	assert.Equal(t, deploy.Interrupted, last.Outcome)
	assert.Contains(t, last.Message, "the service was stopped")
	assert.Equal(
		t, "a",
		pgtest.Query(
			t,
			w.URLs["staging"],
			"SELECT string_agg(relname, ' ') FROM pg_class WHERE relname IN ('a', 'slow')",
		),
	)
	assert.Equal(t, "1", pgtest.Query(t, w.URLs["staging"], "SELECT count(*) FROM vorrang.ledger"))
}

func TestEventsResumeWhereAClientLeftOff(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "DO $$ BEGIN RAISE WARNING 'storm'; END $$"})
	id := w.Promoted("development").ID
	path := fmt.Sprintf("/api/v1/deployments/%d/events", id)

	var list api.Events
	_, body := request(t, w, http.MethodGet, path+"?after=2", "", "")
	require.NoError(t, json.Unmarshal([]byte(body), &list))
	require.Len(t, list.Events, 5)
	assert.Equal(t, int64(3), list.Events[0].Seq)
	assert.Equal(t, "WARNING storm", list.Events[2].Severity+" "+list.Events[2].Message)

	_, stream := request(t, w, http.MethodGet, path, "", "", "Accept", "text/event-stream", "Last-Event-ID", "6")
	assert.Contains(t, stream, "id: 7\nevent: ended\ndata: {\"seq\":7,")
	assert.NotContains(t, stream, "id: 6")
}

func TestAStepInDoubtIsSettledByAWord(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-slow.sql": "/*---\nmode: autocommit\n---*/\n" + sleeps})
	promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	asleep(t, w, promoted.Deployment.ID)
	terminate(t, w.URLs["staging"])
	require.Equal(t, deploy.Failed, w.Ended(promoted).Outcome)

	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	doubt := problem(t, err)
	assert.Equal(t, "in-doubt", doubt.Kind())
	assert.Contains(t, doubt.Detail, "step 1 is in doubt: its statement 2 of 2 began at")
	_, err = w.Settle(
		t.Context(), "harbour", "staging",
		client.Settlement{Step: "1", As: "perhaps", Reason: "who knows"},
	)
	assert.Equal(t, "invalid-request", problem(t, err).Kind())
	_, err = w.Settle(t.Context(), "harbour", "staging", client.Settlement{Step: "1", As: "applied", Reason: "  "})
	assert.Contains(t, problem(t, err).Detail, "reason")
	recorded, err := w.Settle(
		t.Context(), "harbour", "staging",
		client.Settlement{Step: "1", As: "applied", Reason: "a sleep leaves nothing behind"},
	)
	require.NoError(t, err)
	assert.Contains(t, string(recorded.Entries[0].Detail), "a sleep leaves nothing behind")
	assert.Equal(t, "pilot", recorded.Entries[0].Actor)
	_, err = w.Settle(t.Context(), "harbour", "staging", client.Settlement{Step: "1", As: "applied", Reason: "again"})
	assert.Contains(t, problem(t, err).Detail, "is not in doubt")
	assert.True(t, must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{})).Nothing)
}

func TestARestoredOrTouchedLedgerHolds(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2", "2-b.back.sql": "SELECT 2"})
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	pgtest.Exec(
		t,
		w.URLs["staging"],
		"ALTER TABLE vorrang.ledger DISABLE TRIGGER append_only; DELETE FROM vorrang.ledger WHERE seq = 2",
	)
	answer, err := w.Gate(t.Context(), "harbour", "staging", "")
	require.NoError(t, err)
	assert.Equal(t, "held", answer.Gate)
	assert.Equal(t, []gate.ID{gate.LedgerIntact}, holds(answer.Checks))
	_, err = w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	assert.Contains(t, problem(t, err).Detail, "entry 2 was seen before; was an older backup restored?")
	_, err = w.Rollback(t.Context(), "harbour", "staging", client.Way{Last: 1}, "staging")
	assert.Equal(t, "held", problem(t, err).Kind())
	pgtest.Exec(t, w.URLs["staging"], "UPDATE vorrang.ledger SET actor = 'nobody'")
	history, err := w.Ledger(t.Context(), "harbour", "staging", 0)
	require.NoError(t, err)
	assert.Contains(t, history.Chain, "broken at entry 1: its content is not what its hash was made of")
}

func TestATargetThatCannotBeReachedIsATrouble(t *testing.T) {
	w := servicetest.Start(t)
	lane := "lane: moon\nenvironments:\n  - {name: dark, target: 'env:HARBOUR_TEST_UNSET'}\n" +
		"  - {name: wrong, target: 'file:" + t.TempDir() + "/none'}\n  - {name: refused, target: " +
		"'env:HARBOUR_TEST_REFUSED'}\n"
	t.Setenv("HARBOUR_TEST_REFUSED", strings.Replace(w.URLs["staging"], "pgtest-superuser", "planted-s3cret", 1))
	_, err := w.Declare(t.Context(), "moon.yaml", []byte(lane))
	require.NoError(t, err)
	status, err := w.Lane(t.Context(), "moon")
	require.NoError(t, err)
	for i, want := range []string{"the variable HARBOUR_TEST_UNSET is not set", "/none is not there",
		"refuses the password of user vorrang"} {
		assert.False(t, status.Environments[i].Reached)
		assert.Contains(t, status.Environments[i].Trouble[0].Message, want)
		assert.NotEmpty(t, status.Environments[i].Trouble[0].Remedies)
	}
	_, err = w.Promote(t.Context(), "moon", "refused", client.Promotion{})
	refused := problem(t, err)
	assert.Equal(t, "unreachable", refused.Kind())
	assert.NotContains(t, fmt.Sprint(refused, status), "planted-s3cret")
	probe, err := w.Probe(t.Context(), "moon", "refused")
	require.NoError(t, err)
	assert.False(t, probe.Usable)
	probe, err = w.Probe(t.Context(), "harbour", "staging")
	require.NoError(t, err)
	assert.True(t, probe.Usable)
}

func TestWrongRequestsAreToldWhatIsWrong(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	const staging = "/api/v1/lanes/harbour/environments/staging"
	cases := map[string]struct {
		method, path, body string
		status             int
		message            string
	}{
		"an unknown lane": {"GET", "/api/v1/lanes/moon", "", 404, "there is no lane moon"},
		"an unknown environment": {
			"GET",
			"/api/v1/lanes/harbour/environments/moon",
			"", 404,
			"its environments are development, staging, production",
		},
		"an unknown step":       {"GET", "/api/v1/lanes/harbour/steps/9", "", 404, "there is no step 9"},
		"an unknown deployment": {"GET", "/api/v1/deployments/999", "", 404, "there is no deployment 999"},
		"an unknown path":       {"GET", "/api/v1/moon", "", 404, "see /api/openapi.json"},
		"a number that is none": {
			"GET",
			"/api/v1/deployments?limit=many",
			"", 400,
			`limit: \"many\" is not a whole number`,
		},
		"a body that is no JSON": {"POST", staging + "/promotions", "{", 400, "the body:"},
		"an unknown field":       {"POST", staging + "/promotions", `{"trough": "1"}`, 400, `unknown field \"trough\"`},
		"an unknown parameter":   {"GET", staging + "/gate?relase=2026.11", "", 400, "relase: there is no such parameter"},
		"a parameter too many":   {"GET", "/api/v1/engines?search=pg", "", 400, "search: nothing is asked for in the query here"},
		"forward and back":       {"GET", staging + "/preview?through=1&last=1", "", 400, "through and release are of a promotion"},
		"an unknown step to go":  {"POST", staging + "/promotions", `{"through": "77"}`, 409, "there is no step 77"},
		"a step that is none":    {"POST", staging + "/promotions", `{"through": "x"}`, 400, "is not a step number"},
		"two ways back": {
			"POST",
			staging + "/rollbacks",
			`{"last": 1, "to": "0"}`,
			400, "give exactly one of last",
		},
		"no way back": {"POST", staging + "/rollbacks", `{}`, 400, "give exactly one of last"},
		"a body that is too big": {
			"POST",
			staging + "/promotions",
			strings.Repeat(" ", 3<<20),
			413,
			"the request's body may have 2 MiB at most",
		},
		"a lane file with a URL": {
			"POST",
			"/api/v1/lanes?file=my.yaml",
			"lane: x\nenvironments: [{name: a, target: 'postgres://u:planted-s3cret@h/d'}]",
			422, "my.yaml",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			status, body := request(t, w, c.method, c.path, "application/json", c.body)
			assert.Equal(t, c.status, status, body)
			assert.Contains(t, body, c.message)
			assert.Contains(t, body, `"type":"urn:vorrang:`)
			assert.NotContains(t, body, "planted-s3cret")
		})
	}
}

func TestMetricsCountWhatRan(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 1/0"})
	w.Promoted("development")
	_, body := request(t, w, http.MethodGet, "/metrics", "", "")
	assert.Contains(t, body, `vorrang_deployments_total{environment="development",lane="harbour",outcome="failed"} 1`)
	assert.Contains(
		t, body,
		`vorrang_steps_total{direction="forward",environment="development",lane="harbour",result="done"} 1`,
	)
	assert.Contains(t, body, "vorrang_request_seconds_bucket")
}

// TestMetricsTellHowEachEnvironmentStands: from the records at once, and of the target
// once it was looked at, which a scrape begins.
func TestMetricsTellHowEachEnvironmentStands(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int)", "2-b.sql": "SELECT 2"})
	w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: "1"})))
	must(w.Drift(t.Context(), "harbour", "staging"))
	must(w.Backup(t.Context(), "harbour", "staging", "nightly", time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)))
	scrape := func() string {
		_, body := request(t, w, http.MethodGet, "/metrics", "", "")
		return body
	}
	const of = `{environment="staging",lane="harbour"}`
	body := scrape()
	assert.Contains(t, body,
		`vorrang_last_deployment_timestamp_seconds{environment="staging",lane="harbour",outcome="done"} 1.`)
	assert.Contains(t, body, "vorrang_last_deployment_seconds"+of)
	assert.Contains(t, body, "vorrang_drifted_objects"+of+" 0")
	assert.Contains(t, body, "vorrang_backup_timestamp_seconds"+of+" 1.7934912e+09")
	require.Eventually(t, func() bool { return strings.Contains(scrape(), "vorrang_pending_steps"+of+" 1") }, 30e9, 20e6)
	body = scrape()
	assert.Contains(t, body, "vorrang_troubles"+of+" 0")
	assert.Contains(t, body, "vorrang_target_reached"+of+" 1")
	require.NoError(t, os.WriteFile(w.Files["production"], []byte("postgres://127.0.0.1:1/none"), 0o600))
	must(w.Status(t.Context(), "harbour", "production", ""))
	assert.Contains(t, scrape(), `vorrang_target_reached{environment="production",lane="harbour"} 0`)

	operations, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "operations.md"))
	require.NoError(t, err)
	told := regexp.MustCompile(`# TYPE (vorrang_[a-z_]+) `).FindAllStringSubmatch(body, -1)
	assert.Greater(t, len(told), 8)
	for _, name := range told {
		assert.Contains(t, string(operations), "`"+name[1]+"`", "every metric is described")
	}
	for _, file := range []string{"alerts.yaml", "dashboard.json"} {
		text, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "monitoring", file))
		require.NoError(t, err)
		names := regexp.MustCompile(`vorrang_[a-z_]+`).FindAllString(string(text), -1)
		assert.NotEmpty(t, names)
		for _, name := range names {
			assert.Contains(t, body, "# TYPE "+strings.TrimSuffix(name, "_bucket")+" ", "%s is about what is told", file)
		}
		assert.True(t, file != "dashboard.json" || json.Valid(text))
	}
}
