package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/schema"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

func output(differences []schema.Difference) []string {
	var list []string
	for _, d := range differences {
		list = append(list, d.String())
	}
	return list
}

func vessels(t *testing.T) *servicetest.World {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql":      "CREATE TABLE public.vessel (id int PRIMARY KEY, name text NOT NULL)",
			"1-a.back.sql": "DROP TABLE public.vessel",
			"2-b.sql": "ALTER TABLE public.vessel ADD COLUMN flag text; ALTER TABLE public.vessel ALTER COLUMN name " +
				"TYPE varchar(80)",
			"3-c.sql": "INSERT INTO public.vessel VALUES (1, 'Petrel', 'DE')",
		},
	)
	return w
}

func TestWhatEachStepDidIsKept(t *testing.T) {
	w := vessels(t)
	ctx := t.Context()
	d := w.Promoted("staging")
	var events []deploy.Event
	require.NoError(t, w.Follow(ctx, d.ID, 0, func(e deploy.Event) error { events = append(events, e); return nil }))
	effects := must(w.Effects(ctx, "harbour", "staging", client.ListQuery{})).Effects
	require.Len(t, effects, 2, "step 3 is about rows only")
	assert.Equal(
		t,
		[]string{
			"added table public.vessel",
			"added column public.vessel.id",
			"added column public.vessel.name",
			"added constraint public.vessel.vessel_pkey",
		},
		output(effects[1].Effect),
	)
	assert.Equal(
		t,
		[]string{"added column public.vessel.flag", "changed column public.vessel.name"},
		output(effects[0].Effect),
		"the newest comes first",
	)
	assert.Equal(
		t,
		[]schema.Change{{Name: "type", Before: "text", After: "character varying(80)"}},
		effects[0].Effect[1].Props,
	)
	assert.Equal(t, "2", string(effects[0].Step))
	told := 0
	for _, e := range events {
		if e.Kind == deploy.Effect {
			told++
			assert.Equal(t, effects[len(effects)-told].Effect, e.Effect)
		}
	}
	assert.Equal(t, 2, told, "it is told while it runs, too")

	promoted := must(w.Promote(ctx, "harbour", "production", client.Promotion{Whole: true}))
	w.Ended(promoted)
	whole := must(w.Effects(ctx, "harbour", "production", client.ListQuery{})).Effects
	require.Len(t, whole, 1, "one transaction has one effect")
	assert.Empty(t, whole[0].Step)
	assert.Len(t, whole[0].Effect, 5)
}

func TestDriftIsFoundHeldAndAccepted(t *testing.T) {
	w := vessels(t)
	ctx := t.Context()
	before := must(w.Drift(ctx, "harbour", "staging"))
	assert.Contains(t, before.Unknown, "nothing was deployed")
	d := w.Promoted("staging")
	clean := must(w.Drift(ctx, "harbour", "staging"))
	assert.Empty(t, clean.Unknown)
	assert.Empty(t, clean.Differences)
	_, err := w.Accept(ctx, "harbour", "staging", clean.Fingerprint, "nothing")
	assert.Equal(t, "refused", problem(t, err).Kind(), "there is nothing to accept")

	w.Gates(
		map[string]string{
			"development": "release: not-asked",
			"staging":     "drift: refused",
			"production":  "release: not-asked, previous-environment: not-asked",
		},
	)
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.vessel ADD COLUMN hotfix text DEFAULT 'x'")
	drift := must(w.Drift(ctx, "harbour", "staging"))
	assert.Equal(t, []string{"added column public.vessel.hotfix"}, output(drift.Differences))
	assert.Contains(t, drift.From, "deployment")
	check := gateOf(t, w, "staging").Find(gate.Drift)
	assert.Equal(t, gate.Hold, check.Verdict)
	assert.Contains(t, check.Evidence, "1 object differs from what deployment")
	assert.Contains(t, advice.Text(check.Remedies), "vorrang drift -lane harbour -env staging")
	w.Submitted(map[string]string{"4-d.sql": "CREATE TABLE public.berth (id int)"})
	_, err = w.Promote(ctx, "harbour", "staging", client.Promotion{})
	assert.Equal(t, "held", problem(t, err).Kind())
	status := must(w.Status(ctx, "harbour", "staging", "none"))
	assert.Equal(t, "drift", status.Trouble[0].Kind)

	pgtest.Exec(t, w.URLs["staging"], "CREATE INDEX on_name ON public.vessel (name)")
	_, err = w.Accept(ctx, "harbour", "staging", drift.Fingerprint, "ticket 4711")
	assert.Contains(t, problem(t, err).Problem.Detail, "not the one that was shown")
	drift = must(w.Drift(ctx, "harbour", "staging"))
	accepted := must(w.Accept(ctx, "harbour", "staging", drift.Fingerprint, "ticket 4711"))
	assert.Equal(t, 2, accepted.Objects)
	assert.Empty(t, must(w.Drift(ctx, "harbour", "staging")).Differences)
	assert.Equal(t, gate.Pass, gateOf(t, w, "staging").Find(gate.Drift).Verdict)
	left := w.Promoted("staging")
	assert.Equal(t, deploy.Done, left.Outcome)

	// Points of the history can be compared, and drawn.
	then := must(w.CompareDeployment(ctx, "harbour", "staging", d.ID, false))
	assert.Equal(
		t,
		[]string{"added table public.berth", "added column public.vessel.hotfix", "added index public.on_name"},
		differences(then),
	)
	_, err = w.CompareDeployment(ctx, "harbour", "staging", 999, false)
	assert.Equal(t, "not-found", problem(t, err).Kind())
	svg := fetched(t, w, "/api/v1/lanes/harbour/environments/staging/map.svg?since="+"known")
	assert.Contains(t, svg, "<svg")
	assert.Contains(t, svg, "public.berth")
	marked := fetched(t, w, "/api/v1/lanes/harbour/environments/staging/map?since=production")
	assert.Contains(t, marked, `"what":"added"`)

	// Somebody writes the ledger who is not the service: then nothing is known.
	pgtest.Exec(t, w.Records, "UPDATE records.snapshot SET seq = seq - 1")
	assert.Contains(t, must(w.Drift(ctx, "harbour", "staging")).Unknown, "the ledger went on")
}

func gateOf(t *testing.T, w *servicetest.World, environment string) gate.Result {
	answer := must(w.Gate(t.Context(), "harbour", environment, ""))
	return gate.Result{Checks: answer.Checks}
}

func fetched(t *testing.T, w *servicetest.World, path string) string {
	request := must(http.NewRequestWithContext(t.Context(), http.MethodGet, w.Server+path, nil))
	request.Header.Set("Authorization", "Bearer "+servicetest.Token)
	response := must(http.DefaultClient.Do(request))
	defer response.Body.Close()
	body := must(io.ReadAll(response.Body))
	require.Equal(t, http.StatusOK, response.StatusCode, "%s", body)
	return string(body)
}

// The whole way out: what was done by hand becomes a step, proved, that is
// attested where it was done and promoted elsewhere.
func TestDriftBecomesAStep(t *testing.T) {
	w := vessels(t)
	ctx := t.Context()
	w.Promoted("staging")
	w.Promoted("production")
	pgtest.Exec(
		t,
		w.URLs["production"],
		"ALTER TABLE public.vessel ADD COLUMN hotfix text; CREATE INDEX on_flag ON public.vessel (flag); CREATE TABLE "+
			"public.other (id int)",
	)
	made := must(w.Draft(ctx, "harbour", client.DraftRequest{Environment: "production", Drift: "keep"}))
	require.True(t, made.Proved, made.Why)
	require.Len(t, made.Steps, 2, "an index is built in a step of its own")
	assert.Contains(t, made.Steps[0].Forward, "ADD COLUMN hotfix text")
	assert.Contains(t, made.Steps[0].Forward, "for review")
	assert.Contains(t, made.Steps[1].Forward, "mode: autocommit")
	assert.Contains(t, made.Steps[1].Forward, "CREATE INDEX CONCURRENTLY on_flag")
	assert.Contains(t, made.Steps[1].Back, "DROP INDEX CONCURRENTLY public.on_flag")
	w.Submitted(map[string]string{"4-hotfix.sql": made.Steps[0].Forward, "4-hotfix.back.sql": made.Steps[0].Back,
		"5-index.sql": made.Steps[1].Forward, "5-index.back.sql": made.Steps[1].Back})
	must(w.Attest(ctx, "harbour", "production", client.Attestation{Through: "4", Reason: "it was done by hand"}))
	assert.Equal(
		t,
		[]string{"added index public.on_flag"},
		output(must(w.Drift(ctx, "harbour", "production")).Differences),
		"only what was attested is known",
	)
	must(w.Attest(ctx, "harbour", "production", client.Attestation{Step: "5", Reason: "likewise"}))
	assert.Empty(t, must(w.Drift(ctx, "harbour", "production")).Differences)
	assert.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	assert.True(t, must(w.Compare(ctx, "harbour", "staging", "production", false)).Same)

	pgtest.Exec(t, w.URLs["production"], "DROP TABLE public.other")
	undo := must(w.Draft(ctx, "harbour", client.DraftRequest{Environment: "production", Drift: "undo"}))
	require.Len(t, undo.Steps, 1)
	assert.Contains(t, undo.Steps[0].Forward, "CREATE TABLE public.other")
}

func TestDraftsAreAskedForAndRefused(t *testing.T) {
	w := vessels(t)
	ctx := t.Context()
	w.Promoted("staging")
	first := must(w.Draft(ctx, "harbour", client.DraftRequest{Environment: "staging", Rows: []string{"public.vessel"}}))
	require.True(t, first.Proved, first.Why)
	assert.Contains(t, first.Steps[0].Forward, "COPY public.vessel (id, name, flag) FROM stdin;\n1\tPetrel\tDE\n\\.\n")
	assert.Contains(t, first.Steps[0].Back, "! loses the rows of public.vessel")

	// A rename looks like something that goes and something that comes.
	pgtest.Exec(
		t,
		w.URLs["production"],
		"CREATE TABLE public.vessel (id int PRIMARY KEY, title varchar(80) NOT NULL, flag text)",
	)
	asked := must(w.Draft(ctx, "harbour", client.DraftRequest{From: "staging", With: "production"}))
	assert.Equal(t, "public.vessel.title", asked.Questions[0].Old)
	assert.Empty(t, asked.Steps)
	renamed := must(
		w.Draft(
			ctx, "harbour",
			client.DraftRequest{From: "staging", With: "production", Renames: []string{"public.vessel.title=name"}},
		),
	)
	require.True(t, renamed.Proved, renamed.Why)
	assert.Contains(t, renamed.Steps[0].Forward, "RENAME COLUMN title TO name")
	assert.Empty(t, renamed.Losses)
	dropped := must(
		w.Draft(ctx, "harbour", client.DraftRequest{From: "staging", With: "production", Renames: []string{"none"}}),
	)
	assert.Equal(t, []string{"what is in public.vessel.title"}, dropped.Losses)

	// What cannot be drafted is said.
	pgtest.Exec(
		t,
		w.URLs["production"],
		"CREATE TABLE public.parted (id int) PARTITION BY RANGE (id); CREATE OPERATOR public.### (LEFTARG = text, "+
			"RIGHTARG = text, FUNCTION = textcat)",
	)
	pgtest.Exec(t, w.URLs["staging"], "CREATE TABLE public.parted (id int)")
	partly := must(
		w.Draft(ctx, "harbour", client.DraftRequest{From: "production", With: "staging", Renames: []string{"none"}}),
	)
	require.True(t, partly.Proved, partly.Why)
	assert.Equal(t, "public.parted", partly.Undraftable[0].Name)
	assert.Equal(t, "operator", partly.Uncovered[0].What)
	assert.Contains(t, partly.Steps[0].Forward, "! Not drafted: table public.parted")
	assert.Contains(t, partly.Steps[0].Forward, "! Not compared: 1 operator")

	for _, request := range []client.DraftRequest{{}, {From: "staging"},
		{Environment: "staging", From: "staging", With: "production"}, {Environment: "staging", Renames: []string{"x"}},
		{Environment: "staging", Rows: []string{"public.none"}}} {
		_, err := w.Draft(ctx, "harbour", request)
		assert.Equal(t, "invalid-request", problem(t, err).Kind(), "%+v", request)
	}
	_, err := w.As("a.lund", "author@harbour").
		Draft(ctx, "harbour", client.DraftRequest{Environment: "staging", Rows: []string{"public.vessel"}})
	assert.Equal(t, "forbidden", problem(t, err).Kind(), "rows leave the database: that takes a keeper")
	assert.Equal(
		t, "0",
		pgtest.Query(
			t,
			w.URLs["development"],
			"SELECT count(*) FROM pg_database WHERE datname LIKE 'vorrang_scratch_%'",
		),
	)
}

func TestEnvironmentsAreLookedAtForDrift(t *testing.T) {
	w := vessels(t)
	ctx := t.Context()
	w.Promoted("staging")
	news := make(chan string, 10)
	listen(t, w, news)
	pgtest.Exec(t, w.URLs["staging"], "DROP TABLE public.vessel")
	lane := "lane: harbour\nenvironments: [{name: development, target: 'file:" + w.Files["development"] +
		"', disposable: true}, {name: staging, target: 'file:" + w.Files["staging"] +
		"', look-for-drift: 24h}]"
	_, err := w.Declare(ctx, "lane.yaml", []byte(lane), "harbour")
	require.NoError(t, err)
	// The deployment's own look was within the interval; shorten the past instead of waiting.
	pgtest.Exec(t, w.Records, "UPDATE records.drift SET looked_at = looked_at - interval '2 days'")
	_, err = w.Declare(ctx, "lane.yaml", []byte(lane+" # again"), "harbour")
	require.NoError(t, err)
	select {
	case told := <-news:
		assert.Contains(t, told, "1 object differs")
	case <-time.After(30 * time.Second):
		t.Fatal("nobody looked")
	}
	status := must(w.Status(ctx, "harbour", "staging", "none"))
	require.NotEmpty(t, status.Trouble)
	assert.Equal(t, "drift", status.Trouble[0].Kind)
}

// listen has a hook that tells of drift.
func listen(t *testing.T, w *servicetest.World, news chan<- string) {
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var event api.CloudEvent
		if assert.NoError(t, json.NewDecoder(r.Body).Decode(&event)) {
			news <- event.Data.Message
		}
	}))
	t.Cleanup(other.Close)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("six bells"), 0o600))
	must(
		w.PutHook(
			t.Context(),
			api.Hook{Name: "watch", URL: other.URL, Secret: "file:" + secret, Events: []string{"drifted"}},
		),
	)
}
