package records_test

import (
	"bytes"
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/records"
	"vorrang/target/postgres"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func open(t *testing.T, url string) *records.Records {
	r, err := records.Open(t.Context(), postgres.Engine{}, url, records.Settings{Wait: 5 * time.Second})
	require.NoError(t, err)
	return r
}

// harbour opens fresh records with one lane.
func harbour(t *testing.T) *records.Records {
	r := open(t, pgtest.Database(t))
	t.Cleanup(r.Close)
	changed, err := r.DeclareLane(t.Context(), lane.Lane{Name: "harbour", Engine: "postgresql"}, "pilot")
	require.NoError(t, err)
	assert.True(t, changed)
	return r
}

func file(t *testing.T, name, text string) step.File {
	f, problems := step.ReadFile(name, []byte(text))
	require.Empty(t, problems)
	return f
}

// submit sends a folder, and returns what it changed.
func submit(t *testing.T, r *records.Records, files ...step.File) records.Difference {
	s, err := r.Submit(t.Context(), "harbour", "pilot")
	require.NoError(t, err)
	defer s.Abandon()
	for _, f := range files {
		require.NoError(t, s.Keep(t.Context(), f))
	}
	steps, err := step.Assemble(files)
	require.NoError(t, err)
	difference, err := s.Compare(t.Context(), steps)
	require.NoError(t, err)
	_, err = s.Finish(t.Context(), difference)
	require.NoError(t, err)
	return difference
}

func TestTheRecordsAreBroughtUpByVorrangsOwnCore(t *testing.T) {
	url := pgtest.Database(t)
	open(t, url).Close()
	assert.Equal(
		t, "applied 1 vorrangd",
		pgtest.Query(t, url, "SELECT concat_ws(' ', action, step, actor) FROM vorrang.ledger WHERE seq = 1"),
	)
	r := open(t, url)
	defer r.Close()
	assert.Equal(
		t, "true",
		pgtest.Query(t, url, "SELECT count(*) = count(DISTINCT step) FROM vorrang.ledger"),
		"a second start finds nothing to do",
	)

	held := pgtest.Connect(t, url) // as a service does that brings them up to date
	_, err := held.Exec(t.Context(), "SELECT pg_advisory_lock(6228322645263148849)")
	require.NoError(t, err)
	_, err = records.Open(t.Context(), postgres.Engine{}, url, records.Settings{Wait: 200 * time.Millisecond})
	assert.ErrorContains(t, err, "another vorrangd holds these records: the target's lock is held by session")
}

func TestADeclarationIsKeptOnce(t *testing.T) {
	r := harbour(t)
	again, err := r.DeclareLane(t.Context(), lane.Lane{Name: "harbour", Engine: "postgresql"}, "somebody")
	require.NoError(t, err)
	assert.False(t, again)
	changed, err := r.DeclareLane(
		t.Context(),
		lane.Lane{Name: "harbour", Engine: "postgresql", About: "berths"},
		"somebody",
	)
	require.NoError(t, err)
	assert.True(t, changed)
	kept, err := r.Lane(t.Context(), "harbour")
	require.NoError(t, err)
	assert.Equal(t, "berths", kept.About)
	_, err = r.Lane(t.Context(), "moon")
	assert.ErrorIs(t, err, records.ErrNotFound)
	_, err = r.Submit(t.Context(), "moon", "pilot")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestExactBytesAreKeptAndNormalTextIsGiven(t *testing.T) {
	r := harbour(t)
	windows := file(t, "1-a.sql", "\ufeffSELECT 1;\r\n")
	large := file(t, "2-b.sql", "-- "+string(bytes.Repeat([]byte("harbour "), 400_000))+"\nSELECT 2;")
	submit(t, r, windows, large)
	text, err := r.Text(t.Context(), windows.Checksum)
	require.NoError(t, err)
	assert.Equal(t, "SELECT 1;\n", string(text))
	texts, err := r.Texts(t.Context(), []step.Checksum{windows.Checksum, large.Checksum, "unknown"})
	require.NoError(t, err)
	assert.Len(t, texts, 2)
	assert.True(t, bytes.Equal(large.Bytes, texts[large.Checksum]), "a text in several parts comes back whole")
	sizes, err := r.Sizes(t.Context(), []step.Checksum{large.Checksum})
	require.NoError(t, err)
	assert.Equal(t, int64(len(large.Bytes)), sizes[large.Checksum])
	_, err = r.Text(t.Context(), "unknown")
	assert.ErrorIs(t, err, records.ErrNotFound)

	s, err := r.Submit(t.Context(), "harbour", "pilot")
	require.NoError(t, err)
	defer s.Abandon()
	exact, err := s.Text(t.Context(), windows.Digest)
	require.NoError(t, err)
	assert.Equal(t, windows.Bytes, exact)
}

func TestASubmissionSaysWhatItChanges(t *testing.T) {
	r := harbour(t)
	a, b := file(t, "1-a.sql", "SELECT 1"), file(t, "2-b.sql", "SELECT 2")
	first := submit(t, r, a, b)
	assert.Len(t, first.New, 2)
	assert.True(t, submit(t, r, a, b).Empty())

	edited := file(t, "1-a.sql", "SELECT 'one'")
	second := submit(t, r, edited, file(t, "1-a.back.sql", "SELECT 'back'"))
	assert.Len(t, second.Edited, 1)
	assert.Equal(t, a.Checksum, second.Edited[0].Before.Forward.Checksum)
	require.Len(t, second.Gone, 1)
	assert.Equal(t, step.Number("2"), second.Gone[0].Number)
	catalogue, err := r.Catalogue(t.Context(), "harbour")
	require.NoError(t, err)
	require.Len(t, catalogue, 1)
	assert.Equal(t, edited.Checksum, catalogue[0].Forward.Checksum)
	assert.NotNil(t, catalogue[0].Back)

	back := submit(t, r, edited, file(t, "1-a.back.sql", "SELECT 'back'"), b)
	require.Len(t, back.New, 1)
	assert.NotNil(t, back.New[0].Before, "a step that comes back is known from before")
	old, err := r.Version(t.Context(), "harbour", "1", a.Checksum)
	require.NoError(t, err)
	assert.Nil(t, old.Back, "the version of that time had no way back")
	_, err = r.Version(t.Context(), "harbour", "1", "unknown")
	assert.ErrorIs(t, err, records.ErrNotFound)
	renamed := submit(t, r, file(t, "1-another.sql", "SELECT 'one'"), b)
	assert.Len(t, renamed.Edited, 1, "another slug is an edit too")
}

func TestAnAbandonedSubmissionLeavesNothing(t *testing.T) {
	r := harbour(t)
	f := file(t, "1-a.sql", "SELECT 1")
	s, err := r.Submit(t.Context(), "harbour", "pilot")
	require.NoError(t, err)
	require.NoError(t, s.Keep(t.Context(), f))
	s.Abandon()
	_, err = r.Text(t.Context(), f.Checksum)
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestHeadsNeverGoBack(t *testing.T) {
	r := harbour(t)
	none, err := r.SeenHead(t.Context(), "harbour", "staging")
	require.NoError(t, err)
	assert.Zero(t, none)
	for _, seq := range []int64{3, 7, 5} {
		require.NoError(t, r.SaveHead(t.Context(), "harbour", "staging", ledger.Head{Seq: seq, Hash: fmt.Sprint(seq)}))
	}
	head, err := r.SeenHead(t.Context(), "harbour", "staging")
	require.NoError(t, err)
	assert.Equal(t, ledger.Head{Seq: 7, Hash: "7"}, head)
}

// TestALookKeptLateDoesNotUndoAnAdoption: what an adoption found is the target's history from then on,
// also where it is shorter, and a look from before it says nothing of that.
func TestALookKeptLateDoesNotUndoAnAdoption(t *testing.T) {
	r := harbour(t)
	at := func(seq int64, hash string) ledger.Head { return ledger.Head{Seq: seq, Hash: hash} }
	kept := func() ledger.Head {
		head, err := r.SeenHead(t.Context(), "harbour", "staging")
		require.NoError(t, err)
		return head
	}
	move := func(from, to ledger.Head) {
		require.NoError(t, r.MoveHead(t.Context(), "harbour", "staging", from, to))
	}
	move(at(2, "b"), at(3, "c"))
	assert.Zero(t, kept(), "nothing is kept that this could follow")
	move(ledger.Head{}, at(3, "c"))
	move(ledger.Head{}, at(9, "z"))
	assert.Equal(t, at(3, "c"), kept())
	move(at(3, "c"), at(7, "g"))
	assert.Equal(t, at(7, "g"), kept())
	require.NoError(t, r.ReplaceHead(t.Context(), "harbour", "staging", at(4, "backup")))
	move(at(7, "g"), at(8, "h"))
	move(at(4, "d"), at(8, "h"))
	assert.Equal(t, at(4, "backup"), kept(), "the ledger that was adopted")
}

func TestAnEnvironmentHasOneRunningDeployment(t *testing.T) {
	r := harbour(t)
	wanted := records.Deployment{Lane: "harbour", Environment: "staging", Direction: ledger.Forward, Actor: "pilot",
		Plan: plan.Plan{
			Direction: ledger.Forward,
			Actions:   []plan.Action{{Direction: ledger.Forward, Step: plan.Step{Number: "1"}}},
		},
		Gate: gate.Result{Checks: []gate.Check{{ID: gate.Quiet, Verdict: gate.Pass, Evidence: "calm"}}}}
	d, err := r.Begin(t.Context(), wanted)
	require.NoError(t, err)
	assert.Equal(t, deploy.Running, d.Outcome)
	_, err = r.Begin(t.Context(), wanted)
	var running *records.RunningError
	require.ErrorAs(t, err, &running)
	assert.Equal(t, d.ID, running.Deployment.ID)
	assert.Contains(t, err.Error(), "started by pilot, has been running on staging since")

	events := []deploy.Event{
		{Seq: 1, Kind: deploy.Started},
		{Seq: 2, Kind: deploy.Notice, Message: "it's \"quoted\" \\ ж"},
	}
	require.NoError(t, r.AddEvents(t.Context(), d.ID, events))
	require.NoError(t, r.AddEvents(t.Context(), d.ID, events[1:]), "an event is kept once")
	kept, err := r.Events(t.Context(), d.ID, 1, 10)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, events[1].Message, kept[0].Message)
	last, err := r.LastSeq(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, int64(2), last)

	abandoned, err := r.Abandoned(t.Context(), []int64{d.ID})
	require.NoError(t, err)
	assert.Empty(t, abandoned, "it runs here")
	abandoned, err = r.Abandoned(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, abandoned, 1, "it does not")
	require.NoError(t, r.End(t.Context(), d.ID, deploy.Failed, &deploy.Failure{Message: "no"}))
	require.NoError(t, r.End(t.Context(), d.ID, deploy.Done, nil), "an outcome stays")
	ended, err := r.Deployment(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, deploy.Failed, ended.Outcome)
	assert.Equal(t, "no", ended.Failure.Message)
	assert.Equal(t, wanted.Plan, ended.Plan)
	assert.Equal(t, wanted.Gate, ended.Gate)
	_, err = r.Begin(context.Background(), wanted)
	require.NoError(t, err, "there is room again")
	_, err = r.Deployment(t.Context(), 999)
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// TestSubmissionsLeaveConnectionsToOthers: however many lanes are submitted to at once, whoever
// stands in a lane's door gets through.
func TestSubmissionsLeaveConnectionsToOthers(t *testing.T) {
	r := harbour(t)
	var under []*records.Submission
	for i := range 20 {
		name := fmt.Sprintf("lane-%d", i)
		_, err := r.DeclareLane(t.Context(), lane.Lane{Name: name, Engine: "postgresql"}, "pilot")
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		s, err := r.Submit(ctx, name, "pilot")
		if cancel(); err != nil {
			assert.ErrorIs(t, err, context.DeadlineExceeded)
			break
		}
		under = append(under, s)
	}
	assert.Less(t, len(under), 8, "not all connections are theirs")
	require.NoError(t, r.Change(t.Context(), "lane-0", func() error {
		_, err := r.Catalogue(t.Context(), "lane-0")
		return err
	}))
	for _, s := range under {
		s.Abandon()
	}
	s, err := r.Submit(t.Context(), "lane-9", "pilot")
	assert.ErrorIs(t, err, records.ErrNotFound, "there is room again")
	assert.Nil(t, s)
}

// While one lane's catalogue is read, however long that takes, the others' are there.
func TestOneCatalogueThatIsReadHoldsUpNoOther(t *testing.T) {
	url := pgtest.Database(t)
	r, err := records.Open(t.Context(), postgres.Engine{}, url, records.Settings{Wait: 5 * time.Second})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	_, err = r.Catalogue(t.Context(), "harbour")
	require.NoError(t, err)
	lock := pgtest.Connect(t, url)
	_, err = lock.Exec(t.Context(), "BEGIN; LOCK TABLE records.step")
	require.NoError(t, err)
	read := make(chan error, 1)
	go func() {
		_, err := r.Catalogue(t.Context(), "tide-gauges")
		read <- err
	}()
	require.Eventually(t, func() bool {
		return pgtest.Query(
			t, url,
			"SELECT count(*) FROM pg_locks WHERE NOT granted AND relation = 'records.step'::regclass",
		) == "1"
	}, 10*time.Second, 10*time.Millisecond)
	_, err = r.Catalogue(t.Context(), "harbour")
	require.NoError(t, err)
	_, err = lock.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	require.NoError(t, <-read)
}

// TestAnOlderLookForDriftDoesNotHideANewerOne: looks of requests that only read are kept a little later.
func TestAnOlderLookForDriftDoesNotHideANewerOne(t *testing.T) {
	r := harbour(t)
	now := time.Now().Add(-time.Minute)
	save := func(at time.Time, objects int) bool {
		look := records.DriftLook{At: at, Objects: objects, Fingerprint: fmt.Sprint(objects)}
		news, err := r.SaveDriftLook(t.Context(), "harbour", "staging", look)
		require.NoError(t, err)
		return news
	}
	differ := func() int {
		kept, err := r.DriftLook(t.Context(), "harbour", "staging")
		require.NoError(t, err)
		return kept.Objects
	}
	assert.True(t, save(now, 1), "drift is news")
	assert.False(t, save(now.Add(-time.Second), 0))
	assert.Equal(t, 1, differ(), "what was seen before it does not count any more")
	assert.False(t, save(now.Add(time.Second), 0))
	assert.Zero(t, differ())
	assert.True(t, save(now.Add(time.Hour), 2), "a service's clock may be ahead")
	assert.False(t, save(now.Add(2*time.Second), 0))
	assert.Zero(t, differ(), "and hides nothing")
}

// TestADeploymentOfAnOlderServiceIsListedAlike: one without an outline was written before there were outlines, or
// by an older service beside this one.
func TestADeploymentOfAnOlderServiceIsListedAlike(t *testing.T) {
	url := pgtest.Database(t)
	r := begun(t, url)
	d := running
	d.Plan = plan.Plan{Direction: ledger.Forward, Whole: true, Actions: make([]plan.Action, 3)}
	begun, err := r.Begin(t.Context(), d)
	require.NoError(t, err)
	whole, err := r.Deployment(t.Context(), begun.ID)
	require.NoError(t, err)
	whole.StartedAt, begun.StartedAt = whole.StartedAt.UTC(), begun.StartedAt.UTC()
	assert.Equal(t, whole, begun)
	lists := func() (lists [2][]records.Deployment) {
		var err error
		lists[0], err = r.Deployments(t.Context(), records.DeploymentQuery{Limit: 10})
		require.NoError(t, err)
		lists[1], err = r.LastDeployments(t.Context(), []string{"harbour", "harbour"}, []string{"staging", "production"})
		require.NoError(t, err)
		return lists
	}
	now := lists()
	assert.Equal(t, now[0], now[1])
	assert.Equal(t, 3, now[0][0].Planned)
	assert.Equal(t, plan.Plan{Direction: ledger.Forward, Whole: true}, now[0][0].Plan)
	pgtest.Exec(t, url, "UPDATE records.deployment SET outline = NULL, planned = NULL")
	assert.Equal(t, now, lists())
}
