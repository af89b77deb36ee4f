package service_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// ask declares the lane again, with what production's gate asks.
func ask(t *testing.T, w *servicetest.World, gate string) {
	t.Helper()
	w.Gates(map[string]string{"production": gate})
}

func cut(t *testing.T, w *servicetest.World, name, through string) release.Release {
	return must(w.Cut(t.Context(), "harbour", client.Cutting{Name: name, Through: through})).Release
}

func TestProductionTakesSealedReleasesInTheLanesOrder(t *testing.T) {
	w := servicetest.Start(t)
	ask(t, w, "")
	w.Submitted(
		map[string]string{
			"10-a.sql":      "CREATE TABLE a (id int)",
			"10-a.back.sql": "DROP TABLE a",
			"20-b.sql":      "CREATE TABLE b (id int)",
			"20-b.back.sql": "DROP TABLE b",
		},
	)
	r := cut(t, w, "2026.11", "10")
	assert.Equal(t, 1, r.Count)
	promote := func(environment, release string) (*client.Error, string) {
		promoted, err := w.Promote(t.Context(), "harbour", environment, client.Promotion{Release: release})
		if err != nil {
			return problem(t, err), ""
		}
		if promoted.Nothing {
			return nil, "nothing"
		}
		ended := w.Ended(promoted)
		require.Equal(t, deploy.Done, ended.Outcome, "%v", ended.Failure)
		var numbers []string
		for _, s := range ended.Steps {
			numbers = append(numbers, string(s.Number))
		}
		assert.Equal(t, release, ended.Release)
		return nil, strings.Join(numbers, " ")
	}
	refusal, _ := promote("production", "")
	assert.Equal(t, []gate.ID{gate.SealedRelease, gate.PreviousEnvironment}, holds(refusal.Checks))
	refusal, _ = promote("production", "2026.11")
	assert.Equal(t, []gate.ID{gate.PreviousEnvironment}, holds(refusal.Checks))
	assert.Contains(t, refusal.Detail, "1 step is not applied in staging, the environment before: 10 (a)")
	assert.Contains(t, advice.Text(refusal.Remedies), "vorrang promote -lane harbour -to staging -release 2026.11")
	refusal, _ = promote("production", "2026.12")
	assert.Equal(t, "not-found", refusal.Kind())

	_, did := promote("development", "")
	assert.Equal(t, "10 20", did, "loose steps")
	_, did = promote("staging", "2026.11")
	assert.Equal(t, "10", did, "no other step waits")
	_, did = promote("production", "2026.11")
	assert.Equal(t, "10", did)
	_, did = promote("production", "2026.11")
	assert.Equal(t, "nothing", did)
	status := must(w.Status(t.Context(), "harbour", "production", "none"))
	assert.Empty(t, status.Trouble, "what has yet to be met is no trouble")

	// a hotfix between two steps, while the environments before are further
	_, did = promote("staging", "")
	assert.Equal(t, "20", did)
	w.Submitted(
		map[string]string{
			"15-fix.sql":      "ALTER TABLE a ADD COLUMN fixed int",
			"15-fix.back.sql": "ALTER TABLE a DROP COLUMN fixed",
		},
	)
	cut(t, w, "2026.11.1", "15")
	refusal, _ = promote("staging", "2026.11.1")
	assert.Equal(t, []gate.ID{gate.Order}, holds(refusal.Checks), "staging is further: there it is late")
	w.Ended(must(w.Rollback(t.Context(), "harbour", "staging", client.Way{Release: "2026.11"}, "staging")))
	_, did = promote("staging", "2026.11.1")
	assert.Equal(t, "15", did)
	_, did = promote("production", "2026.11.1")
	assert.Equal(t, "15", did)
	content := must(w.Release(t.Context(), "harbour", "2026.11.1", "", "2026.11"))
	assert.Equal(t, []release.Change{{Number: "15", Slug: "fix", Mode: step.Transaction, What: "new"}}, content.Changes)
	assert.Empty(t, must(w.Release(t.Context(), "harbour", "2026.11.1", "production", "")).Changes)
	assert.Len(
		t,
		must(w.Release(t.Context(), "harbour", "2026.11.1", "development", "")).Changes,
		2,
		"15 is new there, and 20 is not in it",
	)

	back := must(w.PreviewBack(t.Context(), "harbour", "production", client.Way{Release: "2026.11"}))
	require.Len(t, back.Actions, 1, "to a release point")
	assert.Equal(t, step.Number("15"), back.Actions[0].Number)
}

func TestASealedStepStaysAsItIs(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2", "2-b.back.sql": "SELECT 2"})
	r := cut(t, w, "one", "")
	for name, again := range map[string]string{"one": "release one has the digest", "two": "release one has the digest"} {
		_, err := w.Cut(t.Context(), "harbour", client.Cutting{Name: name})
		assert.Contains(t, problem(t, err).Detail, again, "neither the name nor the content a second time")
	}
	_, err := w.Cut(t.Context(), "harbour", client.Cutting{Name: "../three"})
	assert.Equal(t, "invalid-request", problem(t, err).Kind())
	_, err = w.Cut(t.Context(), "harbour", client.Cutting{Name: "three", Through: "1", Digest: "0123"})
	assert.Contains(t, problem(t, err).Detail, "the step folder and the catalogue differ")
	submit := func(files map[string]string) error {
		w.Write(files)
		_, err := w.Submit(t.Context(), "harbour", os.DirFS(w.Steps))
		return err
	}
	err = submit(map[string]string{"1-a.sql": "SELECT 'one'", "2-b.back.sql": ""})
	var files *client.Error
	require.ErrorAs(t, err, &files)
	require.Len(t, files.Errors, 2)
	assert.Equal(t, "1-a.sql", files.Errors[0].File)
	assert.Contains(t, files.Errors[0].Message, "step 1 is sealed in release one, and its text cannot be replaced")
	assert.Equal(t, "2-b.back.sql", files.Errors[1].File)
	require.NoError(
		t,
		submit(map[string]string{"1-a.sql": "SELECT 1", "2-b.back.sql": "SELECT 2", "1-a.back.sql": "SELECT 1"}),
		"what is added replaces nothing",
	)
	assert.Contains(
		t,
		submit(map[string]string{"2-b.sql": "", "2-b.back.sql": ""}).(*client.Error).Errors[0].Message,
		"cannot leave the catalogue",
	)
	_, err = w.Withdraw(t.Context(), "harbour", "2")
	assert.Contains(t, problem(t, err).Detail, "step 2 is sealed in release one")
	assert.Equal(t, r.Digest, must(w.Release(t.Context(), "harbour", "one", "", "")).Release.Digest)
}

// What a bundle says of itself is its sender's word; what can be counted is
// counted.
func TestABundleInAnothersName(t *testing.T) {
	w, other := servicetest.Start(t), servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int);", "2-b.sql": "CREATE TABLE b (id int)"})
	must(w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11"}))
	var bundle, forged bytes.Buffer
	require.NoError(t, w.Export(t.Context(), "harbour", "2026.11", &bundle))
	unpacked := must(gzip.NewReader(&bundle))
	packer := gzip.NewWriter(&forged)
	from, to := tar.NewReader(unpacked), tar.NewWriter(packer)
	for first := true; ; first = false {
		header, err := from.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		content := must(io.ReadAll(from))
		if first {
			var r map[string]any
			require.NoError(t, json.Unmarshal(content, &r))
			r["cut_by"], r["cut_at"], r["steps"], r["through"], r["clean"] = "k.brandt", "2020-01-01T00:00:00Z", 99, "99", true
			content = must(json.Marshal(r))
		}
		header.Size = int64(len(content))
		require.NoError(t, to.WriteHeader(header))
		must(to.Write(content))
	}
	require.NoError(t, errors.Join(to.Close(), packer.Close()))
	author, releaser := other.As("a.lund", "author@harbour"), other.As("r.voss", "releaser@harbour")
	_, err := author.SubmitBundle(t.Context(), "harbour", bytes.NewReader(forged.Bytes()))
	assert.ErrorContains(t, err, "it takes releaser or administrator")
	taken := must(releaser.SubmitBundle(t.Context(), "harbour", bytes.NewReader(forged.Bytes()))).Release
	assert.Equal(t, "taken in by r.voss; claims k.brandt", taken.Maker())
	assert.Equal(t, 2, taken.Count)
	assert.Equal(t, step.Number("2"), taken.Through)
}

func TestABundleBringsAReleaseIntoAnotherVorrang(t *testing.T) {
	w, other := servicetest.Start(t), servicetest.Start(t)
	w.Submitted(
		map[string]string{
			"1-a.sql":       "CREATE TABLE a (id int);\r\n",
			"2-b.sql":       "CREATE TABLE b (id int)",
			"2-b.check.sql": "SELECT true",
		},
	)
	r := must(
		w.Cut(
			t.Context(), "harbour",
			client.Cutting{Name: "2026.11", Notes: "Two tables.", Commit: "abc", Clean: true},
		),
	).Release
	var bundle bytes.Buffer
	require.NoError(t, w.Export(t.Context(), "harbour", "2026.11", &bundle))
	packed := bundle.Bytes()

	taken := must(other.SubmitBundle(t.Context(), "harbour", bytes.NewReader(packed)))
	claimed := func(r release.Release) release.Release {
		assert.Equal(t, "pilot", r.TakenInBy)
		r.TakenInBy, r.TakenInAt = "", time.Time{}
		return r
	}
	assert.Equal(t, r, claimed(taken.Release), "unchanged, with who is said to have cut it and when")
	assert.Equal(t, 2, taken.New)
	assert.True(
		t,
		must(other.SubmitBundle(t.Context(), "harbour", io.MultiReader(bytes.NewReader(packed)))).Known,
		"also as a stream of unknown length",
	)
	assert.Equal(t, r, claimed(must(other.Releases(t.Context(), "harbour")).Releases[0]))
	var again bytes.Buffer
	require.NoError(t, other.Export(t.Context(), "harbour", "2026.11", &again))
	first := must(w.Release(t.Context(), "harbour", "2026.11", "", ""))
	assert.Equal(t, first.Sums, must(other.Release(t.Context(), "harbour", "2026.11", "", "")).Sums)
	promoted := must(other.Promote(t.Context(), "harbour", "staging", client.Promotion{Release: "2026.11"}))
	assert.Equal(t, deploy.Done, other.Ended(promoted).Outcome)
	assert.Equal(
		t, "2",
		pgtest.Query(t, other.URLs["staging"], "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"),
	)

	third := servicetest.Start(t)
	third.Submitted(map[string]string{"1-a.sql": "CREATE TABLE another (id int)"})
	_, err := third.SubmitBundle(t.Context(), "harbour", bytes.NewReader(packed))
	assert.Contains(t, problem(t, err).Errors[0].Message, "step 1 is in this catalogue with other files")
	_, err = third.SubmitBundle(t.Context(), "harbour", bytes.NewReader(packed[:len(packed)-40]))
	assert.Equal(t, "invalid-files", problem(t, err).Kind())
	assert.Empty(t, must(third.Releases(t.Context(), "harbour")).Releases)
}

func TestAnEnvironmentAsksForWhatItsLaneFileSays(t *testing.T) {
	w := servicetest.Start(t)
	ask(t, w, "release: not-asked, way-back: required, soak: 1h")
	w.Submitted(
		map[string]string{"1-a.sql": "CREATE TABLE a (id int)", "1-a.back.sql": "DROP TABLE a", "2-b.sql": "SELECT 2"},
	)
	_, err := w.Promote(t.Context(), "harbour", "production", client.Promotion{})
	assert.Equal(t, []gate.ID{gate.PreviousEnvironment, gate.Soak, gate.WayBack}, holds(problem(t, err).Checks))
	require.Equal(t, deploy.Done, w.Promoted("staging").Outcome)
	_, err = w.Promote(t.Context(), "harbour", "production", client.Promotion{Through: "1"})
	assert.Equal(t, []gate.ID{gate.Soak}, holds(problem(t, err).Checks))
	assert.Contains(t, problem(t, err).Detail, "in staging step 1 is applied since")
	assert.Contains(t, advice.Text(problem(t, err).Remedies), "wait until")
	ask(t, w, "release: not-asked, way-back: required, soak: 1ms")
	promoted := must(w.Promote(t.Context(), "harbour", "production", client.Promotion{Through: "1"}))
	assert.Equal(t, deploy.Done, w.Ended(promoted).Outcome)

	ask(t, w, "release: not-asked")
	w.Ended(must(w.Rollback(t.Context(), "harbour", "production", client.Way{Last: 1}, "production")))
	w.Away("staging")
	_, err = w.Promote(t.Context(), "harbour", "production", client.Promotion{})
	assert.Equal(t, []gate.ID{gate.PreviousEnvironment, gate.SameHistory}, holds(problem(t, err).Checks))
	assert.Contains(t, problem(t, err).Detail, "staging could not be read: nobody listens", "nothing is guessed")
}

func TestAFreezeAWindowAndABackupTurnTheGate(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	elsewhere := time.Now().UTC().Add(12 * time.Hour)
	ask(
		t, w,
		fmt.Sprintf(
			"release: not-asked, previous-environment: not-asked, backup: 2h, window: {hours: %s-%s}",
			elsewhere.Format("15:04"),
			elsewhere.Add(time.Hour).Format("15:04"),
		),
	)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "1-a.back.sql": "SELECT 1"})
	held := func() []gate.Check {
		return must(w.Gate(ctx, "harbour", "production", "")).Checks
	}
	assert.Equal(t, []gate.ID{gate.InWindow, gate.FreshBackup}, holds(held()))
	_, err := w.Backup(ctx, "harbour", "production", "old", time.Now().Add(-3*time.Hour))
	require.NoError(t, err)
	assert.Contains(
		t,
		gate.Result{Checks: held()}.Find(gate.FreshBackup).Evidence,
		"the newest backup, old, was taken at",
	)
	assert.Equal(t, gate.Hold, gate.Result{Checks: held()}.Find(gate.FreshBackup).Verdict)
	_, err = w.Backup(ctx, "harbour", "production", "fresh", time.Now().Add(-time.Hour))
	require.NoError(t, err)
	_, err = w.Backup(ctx, "harbour", "production", "from tomorrow", time.Now().Add(time.Hour))
	assert.Equal(t, "invalid-request", problem(t, err).Kind())
	assert.Equal(t, []gate.ID{gate.InWindow}, holds(held()))

	ask(t, w, "release: not-asked, previous-environment: not-asked")
	assert.Empty(t, holds(held()))
	_, err = w.Freeze(ctx, "harbour", "production", time.Now().Add(time.Hour), time.Now().Add(2*time.Hour), "a regatta")
	require.NoError(t, err)
	assert.Empty(t, holds(held()), "it has not begun")
	_, err = w.Freeze(ctx, "harbour", "production", time.Time{}, time.Now().Add(time.Hour), "the office is closed")
	require.NoError(t, err)
	_, err = w.Promote(ctx, "harbour", "production", client.Promotion{})
	assert.Contains(t, problem(t, err).Detail, "production is frozen until")
	assert.Contains(t, problem(t, err).Detail, "by pilot: the office is closed")
	for _, until := range []time.Time{{}, time.Now().Add(-time.Hour)} {
		_, err = w.Freeze(ctx, "harbour", "production", time.Time{}, until, "x")
		assert.Equal(t, "invalid-request", problem(t, err).Kind())
	}
	assert.Equal(t, int64(2), must(w.Thaw(ctx, "harbour", "production", "the fix cannot wait")).Ended)
	_, err = w.Thaw(ctx, "harbour", "production", "again")
	assert.Contains(t, problem(t, err).Detail, "production is not frozen")
	assert.Equal(t, deploy.Done, w.Promoted("production").Outcome)
	_, err = w.Freeze(ctx, "harbour", "production", time.Time{}, time.Now().Add(time.Hour), "again")
	require.NoError(t, err)
	back := must(w.Rollback(ctx, "harbour", "production", client.Way{Last: 1}, "production"))
	assert.Equal(t, deploy.Done, w.Ended(back).Outcome, "a freeze stands in the way of no rollback")
}
