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
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/target/postgres"
)

var wanderings = flag.Int("wanderings", 24, "how many sequences wander over a lane")

// mostMoves is within how many of its own advices a lane must be in order again.
const mostMoves = 5

// TestWhateverHappensVorrangSaysSoAndKnowsTheWayOut drives lanes by commands and
// by hand edits on their target. After each action, if Vorrang says that all is in
// order, the schema is what psql makes of the applied steps; if it says that
// something is wrong, its own first advices lead to in order.
func TestWhateverHappensVorrangSaysSoAndKnowsTheWayOut(t *testing.T) {
	const workers = 4
	expected := &oracle{t: t, known: map[string]schema.Schema{}}
	var wait sync.WaitGroup
	var mu sync.Mutex
	next, compared, advised := 0, 0, 0
	for range workers {
		wait.Go(func() {
			for {
				mu.Lock()
				next++
				seed := next
				mu.Unlock()
				if seed > *wanderings || t.Failed() {
					return
				}
				t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
					w := newWanderer(t, uint64(seed), expected)
					w.wander()
					mu.Lock()
					compared, advised = compared+w.compared, advised+w.advised
					mu.Unlock()
				})
			}
		})
	}
	wait.Wait()
	t.Logf("%d sequences: in order and as psql makes it %d times, advice followed %d times", *wanderings, compared, advised)
	assert.Greater(t, compared, *wanderings, "mostly all is in order")
	assert.Greater(t, advised, *wanderings/4, "and now and then it is not")
}

// wanderer is one lane with one environment, and its books.
type wanderer struct {
	t        *testing.T
	random   *rand.Rand
	world    *servicetest.World
	url      string
	files    map[string]string // the step folder
	applied  map[string]string // forward files as they were when they were last applied
	steps    int
	tainted  bool     // somebody said that the schema is right as it is
	dumps    []string // databases to restore from
	story    []string
	expected *oracle

	compared, advised int
}

func newWanderer(t *testing.T, seed uint64, expected *oracle) *wanderer {
	w := &wanderer{t: t, random: rand.New(rand.NewPCG(seed, 10)), world: servicetest.Start(t), files: map[string]string{}, applied: map[string]string{},
		story: []string{fmt.Sprintf("seed %d", seed)}, expected: expected}
	w.world.Gates(map[string]string{"staging": "release: not-asked, drift: refused"})
	w.url = w.world.URLs["staging"]
	for range 3 {
		w.write()
	}
	w.submit()
	return w
}

// write adds a step of a random kind. Some fail as long as the database is broken,
// which stands for a cause that can be put right.
func (w *wanderer) write() {
	w.steps++
	n := w.steps
	name := fmt.Sprintf("%d-step", n)
	switch w.random.IntN(4) {
	case 0, 1:
		w.files[name+".sql"] = fmt.Sprintf("CREATE TABLE t%[1]d (id int PRIMARY KEY, name text DEFAULT 'x');\nCREATE VIEW v%[1]d AS SELECT id FROM t%[1]d;", n)
		w.files[name+".back.sql"] = fmt.Sprintf("DROP VIEW v%[1]d;\nDROP TABLE t%[1]d;", n)
	case 2:
		w.files[name+".sql"] = fmt.Sprintf("/*---\nmode: autocommit\n---*/\nCREATE TABLE t%[1]d (id int);\nALTER TABLE t%[1]d ADD COLUMN name text;\nCREATE INDEX CONCURRENTLY i%[1]d ON t%[1]d (name);", n)
		w.files[name+".back.sql"] = fmt.Sprintf("DROP INDEX CONCURRENTLY i%[1]d;\nDROP TABLE t%[1]d;", n)
	case 3:
		w.files[name+".sql"] = fmt.Sprintf("/*---\nmode: autocommit\n---*/\nCREATE TABLE t%[1]d (id int);\nCREATE TYPE y%[1]d AS ENUM ('a');\n%[2]s\nALTER TABLE t%[1]d ADD COLUMN kind y%[1]d;", n, fails)
		w.files[name+".back.sql"] = fmt.Sprintf("ALTER TABLE t%[1]d DROP COLUMN kind;\nDROP TYPE y%[1]d;\nDROP TABLE t%[1]d;", n)
	}
}

// fails is a statement that fails while the database's comment says so.
const fails = "SELECT 1 / (coalesce(shobj_description(oid, 'pg_database'), '') <> 'broken')::int FROM pg_database WHERE datname = current_database();"

func (w *wanderer) breaks(on bool) {
	name := w.url[strings.LastIndexByte(w.url, '/')+1:]
	comment := "NULL"
	if on {
		comment = "'broken'"
	}
	pgtest.Exec(w.t, w.url, fmt.Sprintf("COMMENT ON DATABASE %s IS %s", name, comment))
}

func (w *wanderer) tell(format string, args ...any) {
	w.story = append(w.story, fmt.Sprintf(format, args...))
}

func (w *wanderer) submit() {
	entries, err := os.ReadDir(w.world.Steps)
	require.NoError(w.t, err)
	files := maps.Clone(w.files)
	for _, entry := range entries {
		if _, still := files[entry.Name()]; !still {
			files[entry.Name()] = ""
		}
	}
	w.world.Submitted(files)
}

// wander does random things, and looks after each.
func (w *wanderer) wander() {
	for range 8 {
		w.act()
		w.look()
		if w.t.Failed() {
			return
		}
	}
}

func (w *wanderer) ended(promoted interface{}, err error) {
	if err != nil {
		w.tell("  refused: %s", strings.SplitN(err.Error(), "\n", 2)[0])
	}
}

func (w *wanderer) promote() {
	promoted, err := w.world.Promote(w.t.Context(), "harbour", "staging", client.Promotion{OnFailure: []plan.Policy{plan.Stop, plan.BackOut}[w.random.IntN(2)]})
	w.ended(promoted, err)
	if err == nil && !promoted.Nothing {
		ended := w.world.Ended(promoted)
		w.tell("  %s", ended.Outcome)
		if ended.Outcome == deploy.Failed {
			w.tell("  %s", ended.Failure)
		}
	}
}

func (w *wanderer) rollback(way client.Way) {
	promoted, err := w.world.Rollback(w.t.Context(), "harbour", "staging", way, "staging")
	w.ended(promoted, err)
	if err == nil && !promoted.Nothing {
		ended := w.world.Ended(promoted)
		w.tell("  %s %v", ended.Outcome, ended.Failure)
	}
}

func (w *wanderer) act() {
	n := 1 + w.random.IntN(w.steps)
	hand := func(sql string) {
		w.tell("by hand: %s", sql)
		pgtest.Exec(w.t, w.url, "DO $$ BEGIN "+sql+" EXCEPTION WHEN OTHERS THEN NULL; END $$")
	}
	switch w.random.IntN(16) {
	case 0, 1, 2, 3:
		w.tell("promote")
		w.promote()
	case 4:
		w.tell("promote, and it fails")
		w.breaks(true)
		w.promote()
		w.breaks(false)
	case 5, 6:
		w.tell("roll back %d", 1+n%2)
		w.rollback(client.Way{Last: 1 + n%2})
	case 7:
		w.tell("roll back to %d", n)
		w.rollback(client.Way{To: fmt.Sprint(n)})
	case 8:
		w.tell("a new step")
		w.write()
		w.submit()
	case 9:
		hand(fmt.Sprintf("DROP TABLE t%d CASCADE;", n))
	case 10:
		hand(fmt.Sprintf("ALTER TABLE t%d ADD COLUMN by_hand int;", n))
	case 11:
		hand(fmt.Sprintf("DROP INDEX i%d;", n))
	case 12:
		w.edit(n)
	case 13:
		w.dump()
	case 14:
		w.restore()
	case 15:
		w.tell("by hand: the newest ledger row is deleted")
		pgtest.Exec(w.t, w.url, "DO $$ BEGIN SET LOCAL session_replication_role = replica; DELETE FROM vorrang.ledger WHERE seq = (SELECT max(seq) FROM vorrang.ledger); EXCEPTION WHEN OTHERS THEN NULL; END $$")
	}
}

// edit changes a step's comment, or what it does.
func (w *wanderer) edit(n int) {
	name := fmt.Sprintf("%d-step.sql", n)
	if w.random.IntN(2) == 0 {
		w.tell("step %d gets a comment", n)
		w.files[name] += "\n-- a comment"
	} else {
		w.tell("step %d makes another table too", n)
		more, back := fmt.Sprintf("more%d_%d", n, len(w.files[name])), fmt.Sprintf("%d-step.back.sql", n)
		w.files[name] += "\nCREATE TABLE " + more + " (id int);"
		w.files[back] = "DROP TABLE " + more + ";\n" + w.files[back]
	}
	w.submit()
}

func (w *wanderer) database() string { return w.url[strings.LastIndexByte(w.url, '/')+1:] }

func (w *wanderer) dump() {
	name := fmt.Sprintf("%s_dump_%d", w.database(), len(w.dumps))
	w.tell("a backup is taken")
	pgtest.Exec(w.t, pgtest.Shared(w.t).URL("postgres"), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+w.database()+"'")
	pgtest.Exec(w.t, pgtest.Shared(w.t).URL("postgres"), fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, w.database()))
	w.dumps = append(w.dumps, name)
}

func (w *wanderer) restore() {
	if len(w.dumps) == 0 {
		return
	}
	name := w.dumps[w.random.IntN(len(w.dumps))]
	w.tell("a backup is restored")
	pgtest.Exec(w.t, pgtest.Shared(w.t).URL("postgres"), "DROP DATABASE "+w.database()+" WITH (FORCE)")
	pgtest.Exec(w.t, pgtest.Shared(w.t).URL("postgres"), fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", w.database(), name))
}

// wrong is what Vorrang says is wrong: the first advice of each, and nothing if
// all is in order.
func (w *wanderer) wrong() (what, advice string) {
	ctx := w.t.Context()
	status, err := w.world.Status(ctx, "harbour", "staging", "all")
	require.NoError(w.t, err)
	for _, trouble := range status.Trouble {
		return trouble.Kind + ": " + trouble.Message, trouble.Next
	}
	for _, s := range status.Steps {
		if s.Checksum != "" && s.Applied == s.Checksum {
			name := fmt.Sprintf("%s-step.sql", s.Number)
			w.applied[name] = w.files[name]
		}
	}
	verified, err := w.world.Verify(ctx, "harbour", "staging")
	require.NoError(w.t, err)
	for _, d := range verified.Deviations {
		if d.Kind != "history" { // development has nothing
			return string(d.Kind) + ": " + d.What, d.Settle
		}
	}
	return "", ""
}

// look holds what Vorrang says against the target.
func (w *wanderer) look() {
	for move := 0; ; move++ {
		what, advice := w.wrong()
		if what == "" {
			break
		}
		if !assert.Less(w.t, move, mostMoves, "it is still wrong after %d moves: %s\n→ %s\n%s", move, what, advice, strings.Join(w.story, "\n")) {
			return
		}
		w.tell("  wrong: %s", what)
		w.follow(advice)
		w.advised++
	}
	if w.tainted {
		return
	}
	status, err := w.world.Status(w.t.Context(), "harbour", "staging", "all")
	require.NoError(w.t, err)
	var texts []string
	for _, s := range status.Steps {
		if s.State == "applied" || s.State == "attested" {
			texts = append(texts, w.files[fmt.Sprintf("%s-step.sql", s.Number)])
		}
	}
	now, err := snapshotAt(w.t.Context(), w.url)
	require.NoError(w.t, err)
	var differences []string
	for _, d := range schema.Compare(w.expected.made(texts), now) {
		differences = append(differences, d.String())
	}
	assert.Empty(w.t, differences, "Vorrang says that all is in order\n%s", strings.Join(w.story, "\n"))
	w.compared++
}

// advised finds a command in an advice.
var advised = regexp.MustCompile(`vorrang ([a-z]+(?: -[a-z-]+(?: (?:"…"|[^\s;,"]+))?)*)`)

// follow does what the first words of an advice say, as a person would.
func (w *wanderer) follow(advice string) {
	w.tell("  → %s", advice)
	switch {
	case strings.HasPrefix(advice, "put the applied text back"):
		for name, text := range w.applied {
			if _, there := w.files[name]; there {
				w.files[name] = text
			}
		}
		w.submit()
		return
	case strings.HasPrefix(advice, "give it a number above"):
		w.renumber()
		return
	case strings.HasPrefix(advice, "fix the cause"):
		w.breaks(false)
	}
	found := advised.FindStringSubmatch(advice)
	if !assert.NotNil(w.t, found, "an advice without a command: %s\n%s", advice, strings.Join(w.story, "\n")) {
		return
	}
	args := strings.Fields(strings.ReplaceAll(found[1], `"…"`, "by-hand"))
	switch args[0] {
	case "adopt":
		w.tainted = true
		args = append(args, "-reason", "it-is-meant")
	case "drift": // it says the ways out; this is the one that keeps what is there
		w.tainted = true
		args[0] = "accept"
		args = append(args, "-reason", "it-is-meant")
	case "attest":
		w.tainted = true
		args = append(args, "-acknowledge")
	case "settle": // what the evidence allows
		w.tainted = true
		for _, as := range [][]string{{"-as", "applied"}, {"-as", "not-applied"}, {"-as", "undone"}, {"-as", "undone", "-acknowledge"}} {
			if slices.Contains(args, "-as") {
				as = as[2:]
			}
			if w.vorrang(append(append(slices.Clone(args), as...), "-reason", "by-hand")) {
				return
			}
		}
		return
	case "accept", "baseline":
		w.tainted = true
	}
	w.vorrang(args)
}

// renumber gives the late steps numbers above all others.
func (w *wanderer) renumber() {
	status, err := w.world.Status(w.t.Context(), "harbour", "staging", "open")
	require.NoError(w.t, err)
	for _, s := range status.Steps {
		if !slices.Contains(s.Flags, plan.Late) {
			continue
		}
		w.steps++
		for _, kind := range []string{".sql", ".back.sql"} {
			old := fmt.Sprintf("%s-step%s", s.Number, kind)
			w.files[fmt.Sprintf("%d-step%s", w.steps, kind)] = w.files[old]
			delete(w.files, old)
		}
	}
	w.submit()
}

// vorrang runs the client, and reports whether it went well.
func (w *wanderer) vorrang(args []string) bool {
	run := exec.CommandContext(w.t.Context(), filepath.Join(built(w.t), "vorrang"), args...)
	run.Env = append(os.Environ(), "VORRANG_SERVER="+w.world.Server, "VORRANG_TOKEN="+servicetest.Token, "VORRANG_ACTOR=pilot")
	run.Dir = w.world.Steps
	said, err := run.CombinedOutput() // it may be refused, or fail; what it leads to is looked at
	w.tell("    vorrang %s\n      %s", strings.Join(args, " "), strings.ReplaceAll(strings.TrimSpace(string(said)), "\n", "\n      "))
	return err == nil
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
	command := exec.Command("/usr/lib/postgresql/15/bin/psql", "-Xq", "-v", "ON_ERROR_STOP=1", url)
	command.Stdin = strings.NewReader(strings.Join(texts, "\n;\n"))
	said, err := command.CombinedOutput()
	require.NoError(o.t, err, "%s", said)
	s, err := snapshotAt(context.Background(), url)
	require.NoError(o.t, err)
	o.known[key] = s
	return s
}

func snapshotAt(ctx context.Context, url string) (schema.Schema, error) {
	session, err := postgres.Connect(ctx, url, "a test")
	if err != nil {
		return schema.Schema{}, err
	}
	defer session.Close()
	return session.Snapshot(ctx, nil)
}
