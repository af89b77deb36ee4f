package tests

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
	"vorrang/target/postgres"
)

var (
	wanderings     = flag.Int("wanderings", 10, "how many sequences wander over a lane")
	firstWandering = flag.Int("wander-after", 0, "the number before the first sequence's")
)

// mostMoves is within how many of its own advices a lane must be in order again.
const mostMoves = 5

// TestWhateverHappensVorrangSaysSoAndKnowsTheWayOut drives lanes by commands and
// by hand edits on their targets. After each action, if Vorrang says that all is in
// order, the schema is what psql makes of the applied steps; if it says that
// something is wrong, its own first advices lead to in order.
func TestWhateverHappensVorrangSaysSoAndKnowsTheWayOut(t *testing.T) {
	t.Parallel() // it mostly waits
	const workers = 4
	expected := &oracle{t: t, known: map[string]schema.Schema{}}
	var wait sync.WaitGroup
	var next, compared, advised atomic.Int64
	for range workers {
		wait.Go(func() {
			urls := map[string]string{}
			for _, environment := range wandered {
				urls[environment] = pgtest.Database(t)
			}
			var world *servicetest.World
			var person *client.Client
			for played := 0; !t.Failed(); played++ {
				seed := next.Add(1)
				if seed > int64(*wanderings) {
					return
				}
				if played%20 == 0 { // the service of a few lanes is as quick as that of one
					if world != nil {
						world.Stop() // and its connections go
					}
					world = servicetest.Start(t)
					person = world.As("m.kai", "reader", "author", "releaser", "approver", "keeper", "reporter")
				}
				t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
					w := newWanderer(t, world, person.Token, urls, uint64(*firstWandering)+uint64(seed), expected)
					w.wander()
					compared.Add(int64(w.compared))
					advised.Add(int64(w.advised))
				})
			}
		})
	}
	wait.Wait()
	t.Logf(
		"%d sequences: in order and as psql makes it %d times, advice followed %d times",
		*wanderings, compared.Load(), advised.Load(),
	)
	assert.Greater(t, compared.Load(), int64(*wanderings), "mostly all is in order")
	assert.Greater(t, advised.Load(), int64(*wanderings/4), "and now and then it is not")
}

// wandered are the environments of a lane that wanders: loose steps go to the
// first, which may be rebuilt, and releases to the second.
var wandered = []string{"development", "staging"}

// wanderer is one lane, and its books.
type wanderer struct {
	t        *testing.T
	random   *rand.Rand
	world    *servicetest.World
	token    string // of a person, for the client
	lane     string
	folder   string                       // of the steps
	urls     map[string]string            // of the targets, by environment
	files    map[string]string            // the step folder
	applied  map[string]map[string]string // forward files as they were when an environment last had them
	steps    int
	releases int
	tainted  map[string]bool     // somebody said that the schema is right as it is
	dumps    map[string][]string // databases to restore from
	story    []string
	expected *oracle

	stands   map[string]*api.EnvironmentStatus // what was said when all was in order last
	sessions map[string]*postgres.Session      // that look at the targets

	compared, advised int
	held              int // how deep in what held commands say
}

func newWanderer(
	t *testing.T, world *servicetest.World, token string, urls map[string]string, seed uint64, expected *oracle,
) *wanderer {
	w := &wanderer{
		t:        t,
		token:    token,
		random:   rand.New(rand.NewPCG(seed, 10)),
		world:    world,
		lane:     fmt.Sprintf("harbour-%d", seed),
		folder:   t.TempDir(),
		urls:     urls,
		files:    map[string]string{},
		applied:  map[string]map[string]string{},
		stands:   map[string]*api.EnvironmentStatus{},
		sessions: map[string]*postgres.Session{},
		tainted:  map[string]bool{},
		dumps:    map[string][]string{},
		story:    []string{fmt.Sprintf("seed %d", seed)},
		expected: expected,
	}
	t.Cleanup(func() {
		for _, environment := range wandered {
			w.leave(environment)
		}
		if t.Failed() {
			t.Log(strings.Join(w.story, "\n"))
		}
	})
	text := "lane: " + w.lane + "\nenvironments:\n"
	for _, environment := range wandered {
		w.applied[environment] = map[string]string{}
		w.replace(environment, "template1")
		file := filepath.Join(t.TempDir(), environment) // gone with the test: an earlier lane reaches no target
		require.NoError(t, os.WriteFile(file, []byte(urls[environment]), 0o600))
		release := map[bool]string{true: "not-asked", false: "required"}[environment == wandered[0]]
		text += fmt.Sprintf(
			"  - {name: %s, target: 'file:%s', scratch: 'file:%s', disposable: %t, gate: {drift: refused, release: %s}}\n",
			environment, file, file, environment == wandered[0], release,
		)
	}
	_, err := world.Declare(t.Context(), "lane.yaml", []byte(text), w.lane)
	require.NoError(t, err)
	w.put(
		"1-work",
		"CREATE TABLE work (id int PRIMARY KEY, marks int[] NOT NULL DEFAULT '{}');\n"+
			"INSERT INTO work SELECT generate_series(1, 20);",
		"DROP TABLE work;",
	)
	w.steps = 1
	for range 3 {
		w.write()
	}
	w.submit()
	return w
}

func (w *wanderer) put(name, forward, back string) {
	w.files[name+".sql"], w.files[name+".back.sql"] = forward, back
}

const autocommit = "/*---\nmode: autocommit\n---*/\n"

// write adds a step of a random kind. Some fail as long as the database is broken,
// which stands for a cause that can be put right.
func (w *wanderer) write() {
	w.steps++
	n := w.steps
	name := fmt.Sprintf("%d-step", n)
	switch w.random.IntN(6) {
	case 0, 1:
		w.put(
			name,
			fmt.Sprintf(
				"CREATE TABLE t%[1]d (id int PRIMARY KEY, name text DEFAULT 'x');\nCREATE VIEW v%[1]d AS SELECT id FROM t%[1]d;",
				n,
			),
			fmt.Sprintf("DROP VIEW v%[1]d;\nDROP TABLE t%[1]d;", n),
		)
	case 2:
		w.put(
			name,
			fmt.Sprintf(
				autocommit+"CREATE TABLE t%[1]d (id int);\nALTER TABLE t%[1]d ADD COLUMN name text;\n"+
					"CREATE INDEX CONCURRENTLY i%[1]d ON t%[1]d (name);",
				n,
			),
			fmt.Sprintf("DROP INDEX CONCURRENTLY i%[1]d;\nDROP TABLE t%[1]d;", n),
		)
	case 3:
		w.put(
			name,
			fmt.Sprintf(
				autocommit+"CREATE TABLE t%[1]d (id int);\nCREATE TYPE y%[1]d AS ENUM ('a');\nSELECT 1 / (NOT %[2]s)::int;\n"+
					"ALTER TABLE t%[1]d ADD COLUMN kind y%[1]d;",
				n, broken,
			),
			fmt.Sprintf("ALTER TABLE t%[1]d DROP COLUMN kind;\nDROP TYPE y%[1]d;\nDROP TABLE t%[1]d;", n),
		)
	case 4:
		w.put(
			name,
			fmt.Sprintf(
				"/*---\nmode: batches\nbatch-size: 7\npause: 0s\n---*/\nUPDATE work SET marks = marks || %[1]d WHERE id IN "+
					"(SELECT id FROM work WHERE NOT %[1]d = ANY (marks) ORDER BY id LIMIT :batch)"+
					" AND 1 = 1 / (id < 8 OR NOT %[2]s)::int;",
				n, broken,
			),
			fmt.Sprintf("UPDATE work SET marks = array_remove(marks, %d);", n),
		)
	case 5: // a way back that can fail half-way
		w.put(name, fmt.Sprintf(autocommit+"CREATE TABLE t%[1]d (id int);\nCREATE TABLE u%[1]d (id int);", n),
			fmt.Sprintf("DROP TABLE u%[1]d;\nSELECT 1 / (NOT %[2]s)::int;\nDROP TABLE t%[1]d;", n, broken))
	}
}

// broken says whether the database's comment is "broken".
const broken = "(SELECT coalesce(shobj_description(oid, 'pg_database'), '') = 'broken' FROM pg_database WHERE " +
	"datname = current_database())"

func (w *wanderer) breaks(environment string, on bool) {
	comment := "NULL"
	if on {
		comment = "'broken'"
	}
	pgtest.Exec(w.t, w.urls[environment], fmt.Sprintf("COMMENT ON DATABASE %s IS %s", w.database(environment), comment))
}

func (w *wanderer) tell(format string, args ...any) {
	w.story = append(w.story, fmt.Sprintf(format, args...))
}

// submit sends the folder as the books have it, and leaves it at that if the
// service refuses: what a release has sealed is not changed.
func (w *wanderer) submit() (accepted bool) {
	entries, err := os.ReadDir(w.folder)
	require.NoError(w.t, err)
	var gone []string
	for _, entry := range entries {
		if _, still := w.files[entry.Name()]; !still {
			require.NoError(w.t, os.Remove(filepath.Join(w.folder, entry.Name())))
			number, _, _ := strings.Cut(entry.Name(), "-")
			gone = append(gone, number)
		}
	}
	for name, text := range w.files {
		require.NoError(w.t, os.WriteFile(filepath.Join(w.folder, name), []byte(text), 0o644))
	}
	gone = slices.Compact(gone)
	foretold, refused := w.world.TrySubmit(w.t.Context(), w.lane, os.DirFS(w.folder), gone...)
	submitted, err := w.world.Submit(w.t.Context(), w.lane, os.DirFS(w.folder), gone...)
	w.told(err)
	if err != nil {
		require.True(w.t, refused != nil || len(foretold.Refused) > 0, "a trial did not say that a submission is refused: %s", err)
		return false
	}
	require.NoError(w.t, refused, "what is submitted can be tried before")
	foretold.Trial, foretold.Submission = false, submitted.Submission
	require.Equal(w.t, submitted, foretold, "a trial says what a submission does")
	return true
}

// change submits changed files, or puts them back as they were.
func (w *wanderer) change(how func()) {
	before, steps := maps.Clone(w.files), w.steps
	how()
	if !w.submit() {
		w.files, w.steps = before, steps
		require.True(w.t, w.submit(), "what was there is accepted")
	}
}

func (w *wanderer) told(err error) {
	if err != nil {
		w.tell("  refused: %s", strings.SplitN(err.Error(), "\n", 2)[0])
	}
}

// wander does random things, and looks after each.
func (w *wanderer) wander() {
	for range 10 {
		w.act()
		w.look()
		if w.t.Failed() {
			return
		}
	}
}

func (w *wanderer) ended(promoted *api.Promoted, err error) {
	w.told(err)
	if err == nil && !promoted.Nothing {
		ended := w.world.Ended(promoted)
		w.tell("  %s %v", ended.Outcome, ended.Failure)
	}
}

func (w *wanderer) promote(environment string) {
	how := client.Promotion{OnFailure: []plan.Policy{plan.Stop, plan.BackOut}[w.random.IntN(2)]}
	if environment != wandered[0] && w.releases > 0 {
		how.Release = fmt.Sprint("r", w.releases)
	}
	w.ended(w.world.Promote(w.t.Context(), w.lane, environment, how))
}

func (w *wanderer) rollback(environment string, way client.Way) {
	w.ended(w.world.Rollback(w.t.Context(), w.lane, environment, way, environment))
}

// act does one random thing in one of the environments.
func (w *wanderer) act() {
	n := 1 + w.random.IntN(w.steps)
	environment := wandered[w.random.IntN(len(wandered))]
	w.tell("%s:", environment)
	hand := func(sql string) {
		w.tell("by hand: %s", sql)
		pgtest.Exec(w.t, w.urls[environment], "DO $$ BEGIN "+sql+" EXCEPTION WHEN OTHERS THEN NULL; END $$")
	}
	switch w.random.IntN(27) {
	case 0, 1, 2, 3:
		w.tell("promote")
		w.promote(environment)
	case 4:
		w.tell("promote, and it fails")
		w.breaks(environment, true)
		w.promote(environment)
		w.breaks(environment, false)
	case 5, 6:
		w.tell("roll back %d", 1+n%2)
		w.rollback(environment, client.Way{Last: 1 + n%2})
	case 7:
		w.tell("roll back to %d, and it fails", n)
		w.breaks(environment, w.random.IntN(2) == 0)
		w.rollback(environment, client.Way{To: fmt.Sprint(n)})
		w.breaks(environment, false)
	case 8:
		w.tell("a new step")
		w.change(w.write)
	case 9:
		hand(fmt.Sprintf("DROP TABLE t%d CASCADE;", n))
	case 10:
		hand(fmt.Sprintf("ALTER TABLE t%d ADD COLUMN by_hand int;", n))
	case 11:
		hand(fmt.Sprintf("DROP INDEX i%d;", n))
	case 12:
		w.change(func() { w.edit(n) })
	case 13:
		w.dump(environment)
	case 14:
		w.restore(environment)
	case 15:
		w.tell("by hand: the newest ledger row is deleted")
		pgtest.Exec(
			w.t, w.urls[environment],
			"DO $$ BEGIN SET LOCAL session_replication_role = replica; DELETE FROM vorrang.ledger WHERE seq = (SELECT "+
				"max(seq) FROM vorrang.ledger); EXCEPTION WHEN OTHERS THEN NULL; END $$",
		)
	case 16, 17, 18: // the usual way to staging
		w.tell("promote development, cut, promote staging")
		w.promote(wandered[0])
		w.cut("")
		w.promote(wandered[1])
	case 19:
		w.cut(fmt.Sprint(n))
	case 20:
		w.tell("withdraw %d", n)
		_, err := w.world.Withdraw(w.t.Context(), w.lane, fmt.Sprint(n))
		w.told(err)
		if err == nil {
			w.change(func() {
				maps.DeleteFunc(
					w.files,
					func(name, _ string) bool { return strings.HasPrefix(name, fmt.Sprint(n, "-")) },
				)
			})
		}
	case 21:
		w.vorrang([]string{"rebuild", "-env", wandered[0], "-confirm", wandered[0]})
	case 22:
		w.ask(environment)
	case 23:
		w.waive(wandered[1])
	case 24:
		w.vorrang([]string{"baseline", "-env", environment, "-at", fmt.Sprint(n), "-check"})
	case 25:
		w.tell("by hand: the ledger is dropped")
		pgtest.Exec(w.t, w.urls[environment], "DROP SCHEMA IF EXISTS vorrang CASCADE")
	case 26:
		w.byHand(environment, n)
	}
}

// byHand runs a step as somebody with psql would, and says so.
func (w *wanderer) byHand(environment string, n int) {
	for _, slug := range []string{"step", "work"} {
		text, there := w.files[fmt.Sprintf("%d-%s.sql", n, slug)]
		if !there {
			continue
		}
		w.tell("by hand: psql runs step %d", n)
		if said, err := psql(w.urls[environment], text); err != nil {
			w.tell("  %s", said)
		} else {
			attest := []string{"attest", "-step", fmt.Sprint(n), "-env", environment, "-reason", "by-hand"}
			if strings.Contains(text, "batches") { // it leaves nothing in the catalogs that Vorrang could see
				attest = append(attest, "-acknowledge")
			}
			w.vorrang(attest)
		}
	}
}

// cut makes a release through a step, or through all.
func (w *wanderer) cut(through string) {
	w.tell("cut through %q", through)
	_, err := w.world.Cut(w.t.Context(), w.lane, client.Cutting{Name: fmt.Sprint("r", w.releases+1), Through: through})
	w.told(err)
	if err == nil {
		w.releases++
	}
}

// ask runs what only looks, and what is said of a gate. None of it may fail.
func (w *wanderer) ask(environment string) {
	looks := [][]string{
		{
			"status",
		}, {"status", "-env", environment, "-all"}, {"preview", "-to", environment}, {"gate", "-to", environment},
		{
			"ledger", "-env", environment,
		}, {"ledger", "-env", environment, "-effects"}, {"verify", "-env", environment}, {"drift", "-env", environment},
		{
			"compare", "-from", wandered[0], "-with", wandered[1],
		}, {"deployments"}, {"releases"}, {"submit", "-dry-run", "-dir", "."}, {"probe", "-env", environment},
		{"lanes"}, {"engines"}, {"whoami"}, {"tokens", "-own"}, {"scheduled"},
		{
			"freeze", "-env", environment, "-until", "2099-01-01", "-reason", "the-tide",
		}, {"thaw", "-env", environment, "-reason", "it-fell"},
		{"backup", "-env", environment, "-label", "nightly", "-taken-at", "2026-11-23T03:00:00Z"},
	}
	if w.releases > 0 {
		newest := fmt.Sprint("r", w.releases)
		looks = append(
			looks,
			[]string{"releases", newest, "-env", environment},
			[]string{"export", newest, "-o", filepath.Join(w.t.TempDir(), "bundle")},
			[]string{"await", "-env", environment, "-release", newest, "-timeout", "1ms"},
		)
	}
	for _, args := range looks {
		said, code := w.run(args)
		assert.Contains(w.t, []int{0, 3}, code, "vorrang %s: %s", strings.Join(args, " "), said)
	}
}

// waive waives whatever holds an environment's newest release, and promotes it.
func (w *wanderer) waive(environment string) {
	release := fmt.Sprint("r", w.releases)
	asked, err := w.world.Gate(w.t.Context(), w.lane, environment, release)
	w.told(err)
	if err != nil {
		return
	}
	for _, check := range asked.Waivable {
		assert.True(
			w.t,
			w.vorrang(
				[]string{"waive", string(check), "-env", environment, "-release", release, "-reason", "a-hotfix"},
			),
			"%s", check,
		)
	}
	w.promote(environment)
}

// edit changes a step's comment, or what it does.
func (w *wanderer) edit(n int) {
	name := fmt.Sprintf("%d-step.sql", n)
	switch {
	case w.files[name] == "":
	case w.random.IntN(2) == 0 || strings.Contains(w.files[name], "batches"):
		w.tell("step %d gets a comment", n)
		w.files[name] += "\n-- a comment"
	default:
		w.tell("step %d makes another table too", n)
		more, back := fmt.Sprintf("more%d_%d", n, len(w.files[name])), fmt.Sprintf("%d-step.back.sql", n)
		w.files[name] += "\nCREATE TABLE " + more + " (id int);"
		w.files[back] = "DROP TABLE " + more + ";\n" + w.files[back]
	}
}

func (w *wanderer) database(environment string) string {
	return w.urls[environment][strings.LastIndexByte(w.urls[environment], '/')+1:]
}

func (w *wanderer) dump(environment string) {
	name := fmt.Sprintf("%s_dump_%d", w.database(environment), len(w.dumps[environment]))
	w.tell("a backup is taken")
	w.leave(environment)
	server := pgtest.Shared(w.t).URL("postgres")
	pgtest.Exec(
		w.t, server,
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+w.database(environment)+"'",
	)
	pgtest.Exec(w.t, server, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, w.database(environment)))
	w.dumps[environment] = append(w.dumps[environment], name)
	w.t.Cleanup(func() { pgtest.Exec(w.t, server, "DROP DATABASE "+name) })
}

// restore puts a backup in an environment's place: often one of its own, and now
// and then that of another, as when staging is refreshed from production.
func (w *wanderer) restore(environment string) {
	from := environment
	if w.random.IntN(3) == 0 {
		from = wandered[w.random.IntN(len(wandered))]
	}
	dumps := w.dumps[from]
	if len(dumps) == 0 {
		return
	}
	w.tell("a backup of %s is restored", from)
	w.replace(environment, dumps[w.random.IntN(len(dumps))])
}

// leave ends the session that looks at a target.
func (w *wanderer) leave(environment string) {
	if session := w.sessions[environment]; session != nil {
		session.Close()
		delete(w.sessions, environment)
	}
}

// replace puts a copy of a database in the place of an environment's.
func (w *wanderer) replace(environment, template string) {
	w.leave(environment)
	server := pgtest.Shared(w.t).URL("postgres")
	pgtest.Exec(w.t, server, "DROP DATABASE "+w.database(environment)+" WITH (FORCE)")
	pgtest.Exec(w.t, server, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", w.database(environment), template))
}

// wrong is what Vorrang says is wrong, and where: the first advice, and nothing if
// all is in order.
func (w *wanderer) wrong() (where, what, next string) {
	for _, environment := range wandered {
		status, err := w.world.Status(w.t.Context(), w.lane, environment, "all")
		require.NoError(w.t, err)
		for _, trouble := range status.Trouble {
			return environment, trouble.Kind + ": " + trouble.Message, advice.Text(trouble.Remedies)
		}
		for _, s := range status.Steps {
			if s.Checksum != "" && s.Applied == s.Checksum {
				name := fmt.Sprintf("%s-%s.sql", s.Number, s.Slug)
				w.applied[environment][name] = w.files[name]
			}
		}
		w.stands[environment] = status
	}
	verified, err := w.world.Verify(w.t.Context(), w.lane, "")
	require.NoError(w.t, err)
	for _, d := range verified.Deviations {
		return d.Environment, string(d.Kind) + ": " + d.What, advice.Text(d.Remedies)
	}
	return "", "", ""
}

// look holds what Vorrang says against the targets.
func (w *wanderer) look() {
	for move := 0; ; move++ {
		where, what, advice := w.wrong()
		if what == "" {
			break
		}
		if !assert.Less(
			w.t, move, mostMoves*len(wandered),
			"it is still wrong after %d moves: %s\n→ %s",
			move, what, advice,
		) {
			return
		}
		w.tell("  wrong in %s: %s", where, what)
		w.follow(where, advice)
		w.advised++
	}
	for _, environment := range wandered {
		if !w.tainted[environment] {
			w.hold(environment)
		}
	}
}

var marking = regexp.MustCompile(`marks \|\| (\d+)`)

// hold compares an environment that is in order with what psql makes of its steps.
func (w *wanderer) hold(environment string) {
	status := w.stands[environment]
	var texts []string
	rows := false // whether there is a table of which batches change rows
	for _, s := range status.Steps {
		has := s.State == "applied" || s.State == "attested" || s.State == "covered"
		text := w.files[fmt.Sprintf("%s-%s.sql", s.Number, s.Slug)]
		if has {
			texts = append(texts, text)
		}
		rows = rows || has && s.Slug == "work"
		if rows && strings.Contains(text, "batches") && s.State != "covered" {
			mark := marking.FindStringSubmatch(text)[1] // its number when it was written
			marked := pgtest.Query(
				w.t, w.urls[environment],
				fmt.Sprintf("SELECT count(*) FROM work WHERE %s = ANY (marks)", mark),
			)
			assert.Equal(w.t, map[bool]string{true: "20", false: "0"}[has], marked, "the rows of step %s", s.Number)
		}
	}
	if w.sessions[environment] == nil {
		session, err := postgres.Connect(w.t.Context(), w.urls[environment], "a test")
		require.NoError(w.t, err)
		w.sessions[environment] = session
	}
	now, err := w.sessions[environment].Snapshot(w.t.Context(), nil)
	require.NoError(w.t, err)
	var differences []string
	for _, d := range schema.Compare(w.expected.made(texts), now) {
		differences = append(differences, d.String())
	}
	assert.Empty(w.t, differences, "Vorrang says that all is in order in %s", environment)
	w.compared++
}

// advised finds a command in an advice.
var advised = regexp.MustCompile(`vorrang ((?:waive )?[a-z]+(?: -[a-z-]+(?: (?:"…"|[^\s;,"]+))?)*(?: NAME)?)`)

// lacking finds the step of which something is gone.
var lacking = regexp.MustCompile(`what step (\d+) `)

// follow does what the first words of an advice say, as a person would.
func (w *wanderer) follow(environment, advice string) {
	w.tell("  → %s", advice)
	switch {
	case strings.HasPrefix(advice, "put the applied text back"):
		w.change(func() {
			for name, text := range w.applied[environment] {
				if _, there := w.files[name]; there {
					w.files[name] = text
				}
			}
		})
		return
	case strings.HasPrefix(advice, "give it a number above"):
		w.change(func() { w.renumber(environment) })
		return
	case strings.Contains(advice, "make it again by hand"):
		for _, slug := range []string{"step", "work"} { // what is there already is refused
			_, _ = psql(
				w.urls[environment],
				"\\set ON_ERROR_STOP off\n"+w.files[fmt.Sprintf("%s-%s.sql", lacking.FindStringSubmatch(advice)[1], slug)],
			)
		}
	case strings.HasPrefix(advice, "fix the cause"):
		w.breaks(environment, false)
	}
	found := advised.FindStringSubmatch(advice)
	if !assert.NotNil(w.t, found, "an advice without a command: %s", advice) {
		return
	}
	args := strings.Fields(
		strings.NewReplacer(`"…"`, "by-hand", "NAME", w.newest(strings.HasPrefix(found[1], "cut"))).Replace(found[1]),
	)
	switch args[0] {
	case "adopt":
		w.tainted[environment] = true
		args = append(args, "-reason", "it-is-meant")
	case "drift": // it says the ways out; this is the one that keeps what is there
		w.tainted[environment] = true
		args[0] = "accept"
		args = append(args, "-reason", "it-is-meant")
	case "attest":
		w.tainted[environment] = true
		args = append(args, "-acknowledge")
	case "settle": // what the evidence allows
		w.tainted[environment] = true
		for _, as := range [][]string{{"-as", "applied"}, {"-as", "not-applied"}, {"-as", "undone"},
			{"-as", "undone", "-acknowledge"}} {
			if slices.Contains(args, "-as") {
				as = as[2:]
			}
			if w.vorrang(append(append(slices.Clone(args), as...), "-reason", "by-hand")) {
				return
			}
		}
		return
	case "accept":
		w.tainted[environment] = true
	case "baseline":
		w.baseline(environment)
		return
	}
	w.obey(environment, args)
	if _, then, _ := strings.Cut(advice, found[0]); strings.HasPrefix(then, ", then vorrang") {
		w.follow(environment, strings.TrimPrefix(then, ", then "))
	}
}

// obey runs a command, and follows what it says if it is held.
func (w *wanderer) obey(environment string, args []string) {
	said, code := w.run(args)
	w.heard(args, said)
	if _, advice, held := strings.Cut(said, "→ "); held && code == 3 && w.held < mostMoves {
		w.held++
		w.follow(environment, strings.SplitN(advice, "\n", 2)[0])
		w.held--
	}
}

func (w *wanderer) heard(args []string, said string) {
	w.tell("    vorrang %s\n      %s", strings.Join(args, " "), strings.ReplaceAll(said, "\n", "\n      "))
}

// newest names the newest release, or one that is about to be cut.
func (w *wanderer) newest(next bool) string {
	if next {
		w.releases++
	}
	return fmt.Sprint("r", w.releases)
}

// fits finds what a refused baseline says fits best.
var fits = regexp.MustCompile(`if the differences are meant: vorrang baseline .* -at (\d+)`)

// baseline finds the last step that a target contains, or says that it is right
// as it is, at the number that fits best.
func (w *wanderer) baseline(environment string) {
	at, best := []string{"baseline", "-env", environment, "-at"}, "0"
	for n := w.steps; n > 0; n-- {
		args := append(slices.Clone(at), fmt.Sprint(n), "-check")
		said, code := w.run(args)
		w.heard(args, said)
		if code == 0 {
			return
		}
		if found := fits.FindStringSubmatch(said); found != nil {
			best = found[1]
		}
	}
	w.tainted[environment] = true
	w.vorrang(append(at, best))
}

// renumber gives the late steps numbers above all others, and what needs the first
// of all steps goes with it.
func (w *wanderer) renumber(environment string) {
	status, err := w.world.Status(w.t.Context(), w.lane, environment, "open")
	require.NoError(w.t, err)
	first := slices.ContainsFunc(
		status.Steps,
		func(s api.StepStatus) bool { return s.Slug == "work" && slices.Contains(s.Flags, plan.Late) },
	)
	for _, s := range status.Steps {
		if !first && !slices.Contains(s.Flags, plan.Late) {
			continue
		}
		w.steps++
		for _, kind := range []string{".sql", ".back.sql"} {
			old := fmt.Sprintf("%s-%s%s", s.Number, s.Slug, kind)
			w.files[fmt.Sprintf("%d-%s%s", w.steps, s.Slug, kind)] = w.files[old]
			delete(w.files, old)
		}
	}
}

// vorrang runs the client, and reports whether it went well.
func (w *wanderer) vorrang(args []string) bool {
	said, code := w.run(args)
	w.heard(args, said)
	return code == 0
}

// run runs the client: what it says, and its exit code.
func (w *wanderer) run(args []string) (said string, code int) {
	run := exec.CommandContext(w.t.Context(), filepath.Join(built(w.t), "vorrang"), args...)
	run.Env = append(os.Environ(), "VORRANG_SERVER="+w.world.Server, "VORRANG_TOKEN="+w.token, "VORRANG_LANE="+w.lane)
	run.Dir = w.folder
	text, _ := run.CombinedOutput() // its exit code says what went wrong
	return strings.TrimSpace(string(text)), run.ProcessState.ExitCode()
}

// oracle makes schemas of steps without Vorrang.
type oracle struct {
	t     *testing.T
	mu    sync.Mutex
	known map[string]schema.Schema
}

func (o *oracle) made(texts []string) schema.Schema {
	o.mu.Lock()
	defer o.mu.Unlock()
	key := strings.Join(texts, "\x00")
	if s, known := o.known[key]; known {
		return s
	}
	url := pgtest.Database(o.t)
	said, err := psql(url, strings.Join(texts, "\n;\n"))
	require.NoError(o.t, err, "%s", said)
	s, err := snapshotAt(context.Background(), url)
	require.NoError(o.t, err)
	o.known[key] = s
	return s
}

func psql(url, text string) (said string, err error) {
	command := exec.Command("/usr/lib/postgresql/15/bin/psql", "-Xq", "-v", "ON_ERROR_STOP=1", "-v", "batch=1000", url)
	command.Stdin = strings.NewReader(
		"SET search_path = public;\n" + text,
	) // the user is named like the ledger's schema
	output, err := command.CombinedOutput()
	return string(output), err
}

func snapshotAt(ctx context.Context, url string) (schema.Schema, error) {
	session, err := postgres.Connect(ctx, url, "a test")
	if err != nil {
		return schema.Schema{}, err
	}
	defer session.Close()
	return session.Snapshot(ctx, nil)
}
