package enginetest

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/rehearsal"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// Proofs is what the findings of an engine are proved with, beside a Harness.
type Proofs struct {
	Harness
	// Impatient opens a text that gives up soon where it has to wait for a lock.
	Impatient string
	// Alone runs statements one after the other in one session, each by itself.
	Alone func(t testing.TB, url string, statements ...string) error
	// Code is the server's code of an error; empty for none.
	Code func(error) string
	// File is a query that tells which file a table is kept in; %s is the table.
	File string
	// Waiting is a query that is true while a session of the database waits for a lock.
	Waiting string
	// Read and Write are statements that any reader and writer of a table may send; %s
	// is the table.
	Read, Write string
}

// Findings holds each rule against the server: its example is found and shows what the
// rule says; the nearest script is not, and does not.
func Findings(t *testing.T, p Proofs) {
	rules := p.Engine.Dialect().Findings()
	for _, rule := range rules.All() {
		t.Run(rule.Code, func(t *testing.T) {
			t.Parallel()
			assert.Len(t, strings.Split(strings.TrimSuffix(rule.Why, "."), ". "), 2, "why is two sentences")
			assert.NotEmpty(t, rule.Server)
			f := proof{Proofs: p, t: t, rule: rule, setup: rules.Setup + rule.Setup}
			found := f.find(rule.Has, rule.Back)
			require.NotEmpty(t, found, "the example has it")
			assert.Empty(t, f.find(rule.HasNot, rule.BackNot), "the nearest script has it not")
			f.prove(found[0])
		})
	}
}

type proof struct {
	Proofs
	t     *testing.T
	rule  review.Rule
	setup string
}

// find gives the findings of the rule in a step.
func (f proof) find(forward, back string) (list []review.Finding) {
	folder := fstest.MapFS{"1-example.sql": {Data: []byte(forward)}}
	if back != "" {
		folder["1-example.back.sql"] = &fstest.MapFile{Data: []byte(back)}
	}
	steps, err := step.ReadDir(folder)
	require.NoError(f.t, err)
	if f.rule.Measured {
		return f.measured(forward)
	}
	var in review.Setting
	if f.rule.Target {
		var done func()
		in, done = f.setting(f.fresh())
		defer done()
	}
	for _, found := range f.Engine.Dialect().Reviewer(in).Read(steps[0]) {
		if found.Code == f.rule.Code {
			assert.Equal(f.t, f.rule.Why, found.Why)
			assert.NotEmpty(f.t, found.Message)
			assert.Positive(f.t, found.Line)
			assert.Positive(f.t, found.Column)
			list = append(list, found)
		}
	}
	return list
}

// measured gives what a rehearsal of a step shows, which the reading of its text does not.
func (f proof) measured(script string) []review.Finding {
	session, err := f.Engine.Open(f.t.Context(), f.fresh(), "test")
	require.NoError(f.t, err)
	defer session.Close()
	require.NoError(f.t, session.Lock(f.t.Context()))
	measurer := session.(engine.Measurer)
	require.NoError(f.t, session.Begin(f.t.Context(), engine.Settings{}))
	require.NoError(f.t, measurer.MeasureFrom(f.t.Context()))
	statements, err := f.Engine.Dialect().Cut([]byte(script))
	require.NoError(f.t, err)
	began := time.Now()
	for _, s := range statements {
		_, err := session.Exec(f.t.Context(), s)
		require.NoError(f.t, err)
	}
	footprint, err := measurer.Footprint(f.t.Context())
	require.NoError(f.t, err)
	rehearsed := rehearsal.Result{Steps: []rehearsal.Step{{Number: "1", ForwardMS: time.Since(began).Milliseconds(),
		Footprint: &footprint}}}
	return rehearsed.Findings(f.Engine.Dialect().Findings(), nil, nil)
}

func (f proof) setting(url string) (review.Setting, func()) {
	session, err := f.Engine.Open(f.t.Context(), url, "test")
	require.NoError(f.t, err)
	seen, err := session.SnapshotWithNeeds(f.t.Context(), nil)
	require.NoError(f.t, err)
	figures, err := session.(engine.Counter).Figures(f.t.Context())
	require.NoError(f.t, err)
	in := review.Setting{Schema: &seen, Figures: figures}
	if asker, can := session.(engine.Asker); can {
		in.Count = func(query string) (int64, int64, bool) {
			n, err := asker.CountRows(f.t.Context(), query, 1000)
			require.NoError(f.t, err, query)
			return n, 1000, true
		}
	}
	return in, session.Close
}

// fresh is a database with what the example runs on.
func (f proof) fresh(more ...string) string {
	url := f.Fresh(f.t)
	require.NoError(f.t, f.run(url, f.setup+strings.Join(more, ";\n")))
	return url
}

// run runs a script as a step of the mode that it asks for.
func (f proof) run(url, script string) error {
	text := []byte(script)
	steps, err := step.ReadDir(fstest.MapFS{"1-a.sql": {Data: text}})
	require.NoError(f.t, err)
	if steps[0].Options().Mode == step.Transaction && f.Engine.Traits().DDLTransaction {
		return f.Exec(f.t, url, script)
	}
	return f.Alone(f.t, url, f.cut(script)...)
}

// cut takes a script apart.
func (f proof) cut(script string) (texts []string) {
	statements, err := f.Engine.Dialect().Cut([]byte(script))
	require.NoError(f.t, err)
	for _, s := range statements {
		if s.HasBatch() {
			s = s.WithBatch(10)
		}
		texts = append(texts, string(s.SQL))
	}
	return texts
}

func (f proof) snapshot(url string) schema.Schema {
	session, err := f.Engine.Open(f.t.Context(), url, "test")
	require.NoError(f.t, err)
	defer session.Close()
	seen, err := session.Snapshot(f.t.Context(), nil)
	require.NoError(f.t, err)
	return seen
}

// prove shows what the rule says, and that the safe form does not do it.
func (f proof) prove(found review.Finding) {
	t, p := f.t, f.rule.Proof
	shown := 0
	for _, way := range []struct {
		said bool
		show func()
	}{
		{p.Old != "", f.old}, {p.Shows != "" || p.Then != "", f.after}, {p.Fails != "", f.fails}, {p.Blocks != "", f.blocks},
		{p.Scans != "", f.scans}, {p.Rewrites != "", f.rewrites}, {p.Queue != "", f.queue}, {p.Back, f.back},
		{p.Online, f.online},
	} {
		if way.said {
			shown++
			way.show()
		}
	}
	assert.Positive(t, shown, "a rule has a proof")
	if p.Safe == "" {
		return
	}
	require.NotEmpty(t, found.Rewrite)
	url := f.fresh()
	require.NoError(t, f.each(url, found.Rewrite), found.Rewrite)
	if p.Safe == "same" {
		plain := f.fresh()
		require.NoError(t, f.run(plain, f.rule.Has))
		assert.Empty(t, schema.Compare(f.snapshot(plain), f.snapshot(url)), "the safe form leaves the same "+
			"schema:\n%s", found.Rewrite)
	}
	if p.Old != "" {
		assert.NoError(t, f.Exec(t, url, p.Old), "the version before works with the safe form")
	}
	assert.NotContains(t, f.codes(found.Rewrite), f.rule.Code, "the safe form is not found:\n%s", found.Rewrite)
}

// each runs each statement by itself.
func (f proof) each(url, script string) error {
	return f.run(url, "/*---\nmode: autocommit\n---*/\n"+script)
}

// codes are those of the findings in a safe form: in each statement as a step of its own,
// where it says that it is more than one.
func (f proof) codes(script string) (codes []string) {
	statements, err := f.Engine.Dialect().Cut([]byte(script))
	require.NoError(f.t, err)
	folder := fstest.MapFS{"1-safe.sql": {Data: []byte(script)}}
	if strings.Contains(script, "mode: autocommit") {
		for i, s := range statements {
			text := "/*---\nmode: autocommit\n---*/\n" + string(s.SQL) + ";"
			folder[fmt.Sprintf("%d-safe.sql", i+1)] = &fstest.MapFile{Data: []byte(text)}
		}
	}
	steps, err := step.ReadDir(folder)
	require.NoError(f.t, err)
	reviewer := f.Engine.Dialect().Reviewer(review.Setting{})
	for _, s := range steps {
		for _, found := range reviewer.Read(s) {
			codes = append(codes, found.Code)
		}
	}
	return codes
}

func (f proof) old() {
	old := f.rule.Proof.Old
	url := f.fresh()
	require.NoError(f.t, f.Exec(f.t, url, old), "it works before")
	url = f.fresh()
	require.NoError(f.t, f.run(url, f.rule.Has))
	assert.Error(f.t, f.Exec(f.t, url, old), "it fails after the example")
	url = f.fresh()
	require.NoError(f.t, f.run(url, f.rule.HasNot))
	assert.NoError(f.t, f.Exec(f.t, url, old), "it works after the nearest script")
}

func (f proof) after() {
	p := f.rule.Proof
	for script, has := range map[string]bool{f.rule.Has: true, f.rule.HasNot: false} {
		if f.rule.Has == f.rule.HasNot {
			f.t.Fatal("the two scripts are the same")
		}
		url := f.fresh()
		if p.Undone {
			require.NoError(
				f.t,
				f.Alone(f.t, url, append(append([]string{"START TRANSACTION"}, f.cut(script)...), "ROLLBACK")...),
			)
		} else {
			require.NoError(f.t, f.run(url, script), script)
		}
		require.NoError(f.t, f.Alone(f.t, url, f.cut(p.After)...))
		if p.Then != "" {
			assert.Equal(f.t, has, isTrue(f.Query(f.t, url, p.Then)), script)
		}
		if p.Shows != "" {
			assert.Equal(f.t, has == p.Works, f.Exec(f.t, url, p.Shows) == nil, script)
		}
	}
}

func isTrue(text string) bool { return text == "true" || text == "1" || text == "t" }

func (f proof) fails() {
	url := f.fresh()
	err := f.run(url, f.rule.Has)
	require.Error(f.t, err)
	assert.Equal(f.t, f.rule.Proof.Fails, f.Code(err), err)
	assert.NoError(f.t, f.run(f.fresh(), f.rule.HasNot))
}

// stops reports whether a reader or writer has to wait while a script holds its locks:
// until its transaction ends, or, for one that cannot run in a transaction, while it
// waits for somebody who wrote to the table before.
func (f proof) stops(script string) bool {
	p := f.rule.Proof
	url := f.fresh()
	other := fmt.Sprintf(f.Read, p.On)
	if p.Blocks == "write" {
		other = fmt.Sprintf(f.Write, p.On)
	}
	if !strings.Contains(script, "autocommit") {
		release := f.Hold(f.t, url, script)
		defer release()
		return f.Exec(f.t, url, f.Impatient+other) != nil
	}
	release := f.Hold(f.t, url, fmt.Sprintf(f.Write, p.On))
	ended := make(chan error, 1)
	go func() { ended <- f.run(url, script) }()
	f.waits(url, ended)
	waited := f.Exec(f.t, url, f.Impatient+other) != nil
	release()
	require.NoError(f.t, <-ended)
	return waited
}

// waits returns when a session waits for a lock, or the script has ended.
func (f proof) waits(url string, ended chan error) {
	ctx, cancel := context.WithTimeout(f.t.Context(), time.Minute)
	defer cancel()
	for ctx.Err() == nil && len(ended) == 0 && !isTrue(f.Query(f.t, url, f.Waiting)) {
	}
	require.NoError(f.t, ctx.Err(), "nobody waits")
}

func (f proof) blocks() {
	assert.True(f.t, f.stops(f.rule.Has), "others wait for the example")
	if f.rule.Proof.Scans == "" && f.rule.Proof.Rewrites == "" {
		assert.False(f.t, f.stops(f.rule.HasNot), "nobody waits for the nearest script")
	}
}

func (f proof) scans() {
	assert.Error(f.t, f.run(f.fresh(f.rule.Proof.Scans), f.rule.Has), "the example reads all rows, and finds one")
	assert.NoError(f.t, f.run(f.fresh(f.rule.Proof.Scans), f.rule.HasNot), "the nearest script does not read them")
}

func (f proof) rewrites() {
	for script, has := range map[string]bool{f.rule.Has: true, f.rule.HasNot: false} {
		url := f.fresh()
		file := fmt.Sprintf(f.File, f.rule.Proof.Rewrites)
		before := f.Query(f.t, url, file)
		require.NoError(f.t, f.run(url, script), script)
		assert.Equal(f.t, has, before != f.Query(f.t, url, file), script)
	}
}

// queue shows that a reader waits behind a step that waits for a lock, until that gives
// up.
func (f proof) queue() {
	url, table := f.fresh(), f.rule.Proof.Queue
	release := f.Hold(f.t, url, fmt.Sprintf(f.Read, table))
	ended := make(chan error, 1)
	go func() { ended <- f.Exec(f.t, url, f.rule.Has) }()
	f.waits(url, ended)
	assert.Error(f.t, f.Exec(f.t, url, f.Impatient+fmt.Sprintf(f.Read, table)), "a reader waits, behind one who waits")
	release()
	require.NoError(f.t, <-ended)

	url = f.fresh()
	release = f.Hold(f.t, url, fmt.Sprintf(f.Read, table))
	defer release()
	assert.Error(f.t, f.Exec(f.t, url, f.Impatient+f.rule.HasNot), "with a timeout it gives up")
	assert.NoError(f.t, f.Exec(f.t, url, f.Impatient+fmt.Sprintf(f.Read, table)), "and readers pass")
}

func (f proof) back() {
	start := f.snapshot(f.fresh())
	url := f.fresh()
	require.NoError(f.t, f.run(url, f.rule.Has))
	if f.rule.Back != "" {
		require.NoError(f.t, f.run(url, f.rule.Back))
	}
	assert.NotEmpty(f.t, schema.Compare(start, f.snapshot(url)), "something is left of the example")
	url = f.fresh()
	require.NoError(f.t, f.run(url, f.rule.HasNot))
	require.NoError(f.t, f.run(url, f.rule.BackNot))
	assert.Empty(f.t, schema.Compare(start, f.snapshot(url)), "nothing is left of the nearest script")
}

// online asks the server to do it beside writers, which it refuses for the example.
func (f proof) online() {
	const beside = ", LOCK = NONE"
	for script, has := range map[string]bool{f.rule.Has: true, f.rule.HasNot: false} {
		err := f.run(f.fresh(), strings.TrimSuffix(strings.TrimSpace(script), ";")+beside+";")
		assert.Equal(f.t, has, err != nil, "%s: %v", script, err)
	}
}
