package tests

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

var sequences = flag.Int("sequences", 20, "how many random sequences of calls try to get around a gate")

// governedLane takes loose steps in development, and in production approved
// releases that went through staging.
const governedLane = `lane: %s
environments:
  - {name: development, target: "file:%s", disposable: true}
  - {name: staging, target: "file:%s", gate: {previous-environment: not-asked}}
  - {name: production, %s, gate: {approvals: {count: 1, authors: excluded}}}
`

// A step N of variant v makes the table sN_v, so that the target's own catalog
// says which text was run there.
func texts(number int, variant string) (forward, back string) {
	if variant == "f" { // it writes into the ledger that the next step was applied
		forward, back = texts(number, "a")
		next, _ := texts(number+1, "a")
		return strings.Replace(
			forward, "_a ()", "_f ()", 1,
		) + "; " + fmt.Sprintf(forgery, number+1, step.Sum([]byte(next))), strings.Replace(back, "_a", "_f", 1)
	}
	return fmt.Sprintf("CREATE TABLE s%d_%s ()", number, variant), fmt.Sprintf("DROP TABLE s%d_%s", number, variant)
}

var hashing = strings.NewReplacer("'", "''", "%", "%%").Replace(ledger.HashSQL)

// forgery is an entry of the newest deployment, with a chain that holds. It hides
// the ledger's name from the review.
var forgery = `DO $$ BEGIN EXECUTE replace('INSERT INTO X.ledger SELECT e.*, ` + hashing + ` FROM (SELECT max(seq) + 1 AS seq, clock_timestamp() AS at, ''applied''::text AS action,
	''%[1]d''::text AS step, ''s''::text AS slug, ''%[2]s''::text AS checksum, (SELECT deployment FROM X.ledger ORDER BY seq DESC LIMIT 1) AS deployment, session_user::text AS actor,
	1::bigint AS duration_ms, ''{}''::json AS detail, (SELECT hash FROM X.ledger ORDER BY seq DESC LIMIT 1) AS prev_hash FROM X.ledger HAVING max(seq) > 0) e', 'X', 'vor' || 'rang'); END $$`

// TestNoSequenceOfCallsGetsAroundTheGate lets people of every role but the
// administrator's make random calls, and holds what then is in production
// against the gate's rules, written down here a second time. In every other lane
// production is a fleet of two, each of which they hold for.
func TestNoSequenceOfCallsGetsAroundTheGate(t *testing.T) {
	t.Parallel() // it mostly waits
	const workers = 6
	w := servicetest.Start(t)
	people := map[string]*client.Client{}
	for name, grants := range map[string][]string{
		"author": {"author"}, "releaser": {"releaser"}, "approver": {"approver"}, "keeper": {"keeper"},
		"reader": {"reader"}, "other": {"approver", "releaser"},
		"all": {"reader", "author", "releaser", "approver", "keeper", "reporter"},
	} {
		people[name] = w.As(name, grants...)
	}
	machine, err := w.MakeToken(t.Context(), "machine", []string{"author", "releaser", "approver", "keeper"}, time.Hour)
	require.NoError(t, err)
	people["machine"] = client.New(w.Server, machine.Text, "approver")
	boss := w.As("boss", "administrator") // who only makes a token, and approves
	boss.Password = func() (string, error) { return servicetest.Password, nil }
	robot, err := boss.MakeToken(t.Context(), "robot", []string{"author", "releaser", "approver"}, time.Hour)
	require.NoError(t, err)
	people["robot"] = client.New(w.Server, robot.Text, "")
	names := slices.Sorted(maps.Keys(people))
	servers := []string{w.Server, w.Beside().Server, w.Beside().Server}
	var done, deployed, parts, refused, calls, bundles, forged atomic.Int64
	var wait sync.WaitGroup
	for worker := range workers {
		wait.Go(func() {
			g := &gambler{
				t:      t,
				world:  w,
				people: map[string]*client.Client{},
				boss:   boss,
				names:  append(slices.Clone(names), "guest", "northerner"),
				urls:   map[string]string{},
				files:  map[string]string{},
				conns:  map[string]*pgx.Conn{},
			}
			for i, name := range names { // everybody asks another one of the services
				own := *people[name]
				own.Server = servers[(worker+i)%len(servers)]
				g.people[name] = &own
			}
			for _, place := range []string{"development", "staging", "production", north, south} {
				g.urls[place] = pgtest.Database(t)
				g.conns[place] = pgtest.Connect(t, g.urls[place])
			}
			for n := done.Add(1); n <= int64(*sequences) && !t.Failed(); n = done.Add(1) {
				g.sequence(uint64(n), fmt.Sprintf("lane-%d-%d", worker, n))
				if n%500 == 0 {
					t.Logf("%d sequences", n)
				}
			}
			deployed.Add(int64(g.deployed))
			parts.Add(int64(g.parts))
			bundles.Add(int64(g.bundles))
			forged.Add(int64(g.forged))
			refused.Add(int64(g.refused))
			calls.Add(int64(g.calls))
		})
	}
	wait.Wait()
	t.Logf(
		"%d sequences, %d calls: %d deployments on production were held against the rules, of which %d on a fleet's "+
			"targets, %d bundles taken in, %d steps forged entries, %d calls refused",
		*sequences, calls.Load(), deployed.Load(), parts.Load(), bundles.Load(), forged.Load(), refused.Load(),
	)
	assert.Positive(t, bundles.Load())
	assert.Positive(t, forged.Load())
	assert.Greater(t, deployed.Load(), int64(*sequences/20), "a gate that lets nothing through is no gate")
	assert.Positive(t, parts.Load())
}

const north, south = "production.north", "production.south"

// gambler makes random calls on one lane, and keeps its own books of what they
// mean.
type gambler struct {
	t           *testing.T
	world       *servicetest.World
	people      map[string]*client.Client
	boss        *client.Client // made the robot's token
	names       []string
	urls, files map[string]string
	conns       map[string]*pgx.Conn
	random      *rand.Rand
	lane        string
	production  []string // the places that it has: itself, or a fleet's targets
	story       []string // what was called, for the report

	catalogue    map[int]version            // as it was last submitted
	releases     map[string]map[int]version // as they were cut
	approved     map[string]map[string]bool // by "place release", by whom
	waived       map[string]bool            // "place check release" that nobody has used
	backs        map[int]string             // "", "none" or who submitted one late, as the catalogue has it
	everApproved map[string]map[string]bool // approved, rolled back since or not
	looked       map[int]map[string]bool    // who approved of a step's late way back
	unfit        bool                       // the guest may not approve any more
	frozen       map[string]bool            // production, or places of it
	vouched      map[string]bool            // "place number" that somebody attested, amended or covered

	turn   int    // of what is usual
	newest string // release

	deployed, parts, refused, calls, bundles, forged int
}

// version is a step as somebody submitted it.
type version struct {
	variant, author string
	back            string // as in gambler.backs
}

func (g *gambler) sequence(seed uint64, name string) {
	g.random, g.lane, g.story = rand.New(rand.NewPCG(seed, 4)), name, []string{fmt.Sprintf("seed %d", seed)}
	g.catalogue, g.releases, g.approved = map[int]version{}, map[string]map[int]version{}, map[string]map[string]bool{}
	g.waived, g.vouched, g.frozen, g.unfit = map[string]bool{}, map[string]bool{}, map[string]bool{}, false
	g.backs, g.looked, g.everApproved = map[int]string{}, map[int]map[string]bool{}, map[string]map[string]bool{}
	for environment, conn := range g.conns {
		_, err := conn.Exec(
			context.Background(),
			"DROP SCHEMA IF EXISTS vorrang CASCADE; DROP SCHEMA public CASCADE; CREATE SCHEMA public",
		)
		require.NoError(g.t, err, environment)
	}
	for place, url := range g.urls { // an earlier lane's references lead nowhere any more
		_ = os.Remove(g.files[place])
		g.files[place] = filepath.Join(g.t.TempDir(), place)
		require.NoError(g.t, os.WriteFile(g.files[place], []byte(url), 0o600))
	}
	g.production = []string{"production"}
	targets := fmt.Sprintf("target: %q", "file:"+g.files["production"])
	if seed%2 == 0 {
		g.production = []string{north, south}
		targets = fmt.Sprintf("targets: [north: %q, south: %q], waves: {canary: %d, tolerate: %d}",
			"file:"+g.files[north], "file:"+g.files[south], g.random.IntN(2), g.random.IntN(2))
	}
	_, err := g.world.Declare(
		g.t.Context(), "lane.yaml", fmt.Appendf(nil, governedLane, name, g.files["development"], g.files["staging"], targets),
	)
	require.NoError(g.t, err)
	g.people["guest"] = g.world.As("guest-"+name, "approver@"+name)
	g.people["northerner"] = g.world.As("northerner-"+name, "releaser@"+name+"/"+g.production[0])
	g.submit("author", g.people["author"])
	g.turn, g.newest = 0, ""
	for range 12 + g.random.IntN(16) {
		if g.random.IntN(100) < 65 {
			g.usual()
		} else {
			g.call()
		}
		if g.t.Failed() {
			return
		}
	}
	var forged int
	require.NoError(
		g.t,
		g.conns["staging"].QueryRow(context.Background(), "SELECT count(*) FROM pg_class WHERE relname LIKE 's%\\_f' AND "+
			"relkind = 'r'").
			Scan(&forged),
	)
	g.forged += forged
}

func (g *gambler) pick(from ...string) string { return from[g.random.IntN(len(from))] }

// place is an environment, or in every other call one of its targets.
func (g *gambler) place(environment string) string {
	if environment == "production" && g.random.IntN(2) == 0 {
		return g.pick(g.production...)
	}
	return environment
}

// within are the places of production that an environment or a place means.
func (g *gambler) within(place string) (places []string) {
	for _, one := range g.production {
		if one == place || lane.EnvironmentOf(one) == place {
			places = append(places, one)
		}
	}
	return places
}

// now is what every place of production has.
func (g *gambler) now() map[string][]string {
	all := map[string][]string{}
	for _, place := range g.production {
		all[place] = g.stands(place)
	}
	return all
}

// changed forgets who approved of what is to come at a place of production, as it is not as it was.
func (g *gambler) changed(place string) {
	maps.DeleteFunc(g.approved, func(of string, _ map[string]bool) bool { return strings.HasPrefix(of, place+" ") })
}

// usual makes the next call on the way by which changes should reach production,
// mostly by who should make it.
func (g *gambler) usual() {
	name := func(usual string) string {
		if g.random.IntN(6) == 0 {
			return g.pick(g.names...)
		}
		return usual
	}
	g.turn++
	switch g.turn % 5 {
	case 1:
		n := name("releaser")
		g.promote(n, g.people[n], "staging", "", g.now())
	case 2:
		n, release := name("releaser"), fmt.Sprintf("r%d", len(g.releases)+1)
		if g.cut(n, g.people[n], release) == nil {
			g.newest = release
		}
	case 3:
		n := name(g.pick("approver", "other"))
		who := g.people[n]
		if g.random.IntN(6) == 0 {
			n, who = "boss", g.boss
		}
		_ = g.approve(n, who, "production", g.newest) // a refusal is in the story
	case 4:
		n := name("releaser")
		g.promote(n, g.people[n], "production", g.newest, g.now())
	case 0:
		n := name("author")
		g.submit(n, g.people[n])
	}
}

// call makes one random call.
func (g *gambler) call() {
	ctx, name := g.t.Context(), g.pick(g.names...)
	who, environment := g.people[name], g.place(g.pick("development", "staging", "production", "production"))
	release := g.pick("r1", "r2", "r3", "")
	number := strconv.Itoa(1 + g.random.IntN(5))
	before := g.now()
	var err error
	switch n := g.random.IntN(100); {
	case n < 7:
		g.submit(name, who)
		return
	case n < 11:
		g.bundle(name, who)
	case n < 12:
		_, err = g.people["robot"].MakeToken(ctx, "child", []string{"approver"}, time.Hour)
		assert.Error(g.t, err, "a machine makes no tokens")
		g.tell("robot", "makes a token", err)
	case n < 24:
		err = g.cut(name, who, g.pick("r1", "r2", "r3"))
	case n < 56:
		if g.random.IntN(3) == 0 {
			environment = "staging"
		}
		g.promote(name, who, environment, release, before)
		return
	case n < 72:
		if release == "" {
			g.approveBack(name, who)
			return
		}
		err = g.approve(name, who, g.place("production"), release)
	case n < 76:
		environment = g.place("production")
		_, err = who.WithdrawApproval(ctx, g.lane, environment, release)
		g.tell(name, "withdraws the approval of "+release+" for "+environment, err)
		for _, place := range g.within(environment) {
			if err == nil {
				delete(g.approved[place+" "+release], name)
			}
		}
	case n < 81:
		check := g.pick(
			"order", "previous-environment", "same-history", "soak", "approvals", "release", "checksums", "catalogue",
			"window", "freeze",
		)
		_, err = who.Waive(ctx, g.lane, environment, check, release, "because")
		g.tell(name, "waives "+check+" of "+release+" on "+environment, err)
		if err == nil {
			g.waived[environment+" "+check+" "+release] = true
		}
	case n < 85:
		_, err = who.Attest(
			ctx, g.lane, environment,
			client.Attestation{Step: number, Reason: "by hand", Acknowledge: true},
		)
		g.word(name, "attests", environment, number, err)
	case n < 88:
		_, err = who.Amend(ctx, g.lane, environment, number, "it is right", true)
		g.word(name, "amends", environment, number, err)
	case n < 92:
		promoted, refused := who.Rollback(ctx, g.lane, environment, client.Way{Last: 1 + g.random.IntN(2)}, environment)
		err = g.ended(promoted, refused)
		g.tell(name, "rolls back on "+environment, err)
		if g.within(environment) != nil && refused == nil && (err == nil || len(g.production) > 1) { // of a fleet a part may have gone back
			for place, stood := range before {
				now := g.stands(place)
				assert.Subset(g.t, stood, now, "a rollback brings nothing: %s", g.output())
				if slices.Contains(g.within(environment), place) && (err == nil || len(now) < len(stood)) {
					g.changed(place)
					g.waysBack(name, place)
				} else {
					assert.Equal(g.t, stood, now, "%s was not meant, or refused: %s", place, g.output())
				}
			}
			return
		}
	case n < 93:
		grants := client.PersonChange{Take: []string{"approver@" + g.lane}, Grant: []string{"reader@" + g.lane}}
		if g.unfit {
			grants = client.PersonChange{Take: grants.Grant, Grant: grants.Take}
		}
		_, err = g.world.PutPerson(ctx, "guest-"+g.lane, grants)
		g.tell("administrator", "changes what the guest may", err)
		g.unfit = g.unfit != (err == nil)
	case n < 94:
		err = g.ended(who.Rebuild(ctx, g.lane, environment, environment))
		g.tell(name, "rebuilds "+environment, err)
	case n < 96:
		environment = g.place("production")
		_, err = who.Freeze(ctx, g.lane, environment, time.Time{}, time.Now().Add(time.Hour), "a regatta")
		g.tell(name, "freezes "+environment, err)
		g.frozen[environment] = g.frozen[environment] || err == nil
	case n < 98:
		environment = g.place("production")
		_, err = who.Thaw(ctx, g.lane, environment, "it is over")
		g.tell(name, "thaws "+environment, err)
		g.frozen[environment] = g.frozen[environment] && err != nil
	case n < 99:
		_, err = who.Withdraw(ctx, g.lane, number)
		g.tell(name, "withdraws step "+number, err)
		if n, _ := strconv.Atoi(number); err == nil {
			delete(g.catalogue, n)
		}
	default:
		_, err = who.Declare(
			ctx, "lane.yaml",
			fmt.Appendf(
				nil,
				"lane: %s\nenvironments: [{name: production, target: %q, gate: {release: not-asked}}]",
				g.lane,
				"file:"+g.files["production"],
			),
			g.lane,
		)
		assert.Error(g.t, err, "nobody here is an administrator")
		g.tell(name, "declares a lane without a gate", err)
	}
	assert.Equal(g.t, before, g.now(), "only deployments change production: %s", g.output())
}

// tell writes a call into the story.
func (g *gambler) tell(name, did string, err error) {
	g.calls++
	result := "ok"
	if err != nil {
		g.refused++
		result = strings.SplitN(err.Error(), "\n", 2)[0]
		var answered *client.Error
		if assert.ErrorAs(g.t, err, &answered, "%s", g.output()) {
			assert.Less(g.t, answered.Status, 500, "%s %s: %v\n%s", name, did, err, g.output())
		}
	}
	g.story = append(g.story, name+" "+did+": "+result)
}

func (g *gambler) output() string { return strings.Join(g.story, "\n  ") }

// word notes that somebody vouched for a step.
func (g *gambler) word(name, did, environment, number string, err error) {
	g.tell(name, did+" step "+number+" on "+environment, err)
	if err == nil {
		g.vouched[environment+" "+number] = true
		g.changed(environment)
	}
}

func (g *gambler) submit(name string, who *client.Client) {
	folder, next := fstest.MapFS{}, map[int]version{}
	for number := 1; number <= 2+g.random.IntN(4); number++ {
		old, known := g.catalogue[number]
		chosen := version{variant: g.pick("a", "a", "a", "a", "a", "a", "b", "b", "f"), author: name}
		if known && old.variant == chosen.variant {
			chosen = old
		}
		if number > 1 && g.random.IntN(8) == 0 {
			continue // a number is left out, and may come late
		}
		next[number] = chosen
		forward, back := texts(number, chosen.variant)
		switch was, submitted := g.backs[number]; {
		case !submitted && g.random.IntN(4) == 0:
			chosen.back = "none"
		case was == "none" && g.random.IntN(2) == 0:
			chosen.back = name
		default:
			chosen.back = was
		}
		if chosen.back != "" {
			back += fmt.Sprintf("; CREATE TABLE IF NOT EXISTS late_%d ()", number)
		}
		next[number] = chosen
		folder[fmt.Sprintf("%d-s.sql", number)] = &fstest.MapFile{Data: []byte(forward)}
		if chosen.back != "none" {
			folder[fmt.Sprintf("%d-s.back.sql", number)] = &fstest.MapFile{Data: []byte(back)}
		}
	}
	var gone []string
	for number := range g.catalogue {
		if _, still := next[number]; !still {
			gone = append(gone, strconv.Itoa(number))
		}
	}
	_, err := who.Submit(g.t.Context(), g.lane, folder, gone...)
	g.tell(name, fmt.Sprintf("submits %v", next), err)
	if err == nil {
		g.catalogue = next
		for number, v := range next {
			g.backs[number] = v.back
		}
	}
}

// approveBack approves of the ways back of what is in production.
func (g *gambler) approveBack(name string, who *client.Client) {
	environment := g.place("production")
	approved, err := who.Approve(g.t.Context(), g.lane, environment, "", "")
	g.tell(name, "approves ways back on "+environment, err)
	if err != nil {
		return
	}
	for _, s := range approved.Steps {
		number, _ := strconv.Atoi(string(s.Number))
		if g.looked[number] == nil {
			g.looked[number] = map[string]bool{}
		}
		g.looked[number][name] = true
	}
}

// waysBack holds what a rollback left in production against the rule: a way back
// that came late ran only if somebody else had checked it.
func (g *gambler) waysBack(asked, place string) {
	rows, err := g.conns[place].Query(g.t.Context(), "SELECT relname FROM pg_class WHERE relname LIKE 'late%'")
	require.NoError(g.t, err)
	marks, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(g.t, err)
	for _, mark := range marks {
		number, _ := strconv.Atoi(strings.TrimPrefix(mark, "late_"))
		seen := false
		for by := range g.looked[number] {
			seen = seen || by != "machine" && by != "robot" && by != asked && by != g.backs[number]
		}
		for of, approvers := range g.everApproved {
			_, release, _ := strings.Cut(of, " ")
			seen = seen ||
				len(approvers) > 0 && g.releases[release][number].back != "" &&
					g.releases[release][number].back != "none"
		}
		assert.True(g.t, seen, "the late way back of step %d was checked: %s", number, g.output())
	}
	_, err = g.conns[place].Exec(g.t.Context(), "DROP TABLE IF EXISTS late_1, late_2, late_3, late_4, late_5")
	require.NoError(g.t, err)
}

func (g *gambler) cut(name string, who *client.Client, release string) error {
	through := 1 + g.random.IntN(5)
	_, err := who.Cut(g.t.Context(), g.lane, client.Cutting{Name: release, Through: strconv.Itoa(through)})
	g.tell(name, fmt.Sprintf("cuts %s through %d", release, through), err)
	if err == nil {
		sealed := map[int]version{}
		for number, v := range g.catalogue {
			if number <= through {
				sealed[number] = v
			}
		}
		assert.NotContains(g.t, g.releases, release, "a release never changes: %s", g.output())
		g.releases[release] = sealed
	}
	return err
}

// bundle takes in a release that somebody made up, in the approver's name: often of
// steps that the catalogue has, and now and then of others.
func (g *gambler) bundle(name string, who *client.Client) {
	made := map[int]version{}
	var files []step.File
	for number := 1; number <= 1+g.random.IntN(4); number++ {
		v, known := g.catalogue[number]
		if !known || g.random.IntN(6) == 0 {
			if variant := g.pick("a", "b"); !known || variant != v.variant {
				v = version{variant: variant, author: name}
			}
		}
		made[number] = v
		forward, back := texts(number, v.variant)
		if g.backs[number] != "" {
			back += fmt.Sprintf("; CREATE TABLE IF NOT EXISTS late_%d ()", number)
		}
		for file, text := range map[string]string{"%d-s.sql": forward, "%d-s.back.sql": back} {
			if read, _ := step.ReadFile(fmt.Sprintf(file, number), []byte(text)); g.backs[number] != "none" ||
				file == "%d-s.sql" {
				files = append(files, read)
			}
		}
	}
	steps, err := step.Assemble(files)
	require.NoError(g.t, err)
	var sealed []release.Sealed
	texts := map[step.Checksum][]byte{}
	for _, s := range steps {
		sealed = append(sealed, release.Of(s))
	}
	for _, f := range files {
		texts[f.Digest] = f.Bytes
	}
	r := release.Release{
		Lane:    g.lane,
		Name:    g.pick("r1", "r2", "r3"),
		Digest:  release.Digest(release.Sums(sealed)),
		CutBy:   "approver",
		CutAt:   time.Now(),
		Count:   len(steps),
		Through: steps[len(steps)-1].Number,
	}
	var packed bytes.Buffer
	require.NoError(
		g.t,
		release.Write(
			&packed, r,
			[]byte("lane: x\n"),
			sealed, nil,
			func(digest step.Checksum) ([]byte, error) { return texts[digest], nil },
		),
	)
	taken, err := who.SubmitBundle(g.t.Context(), g.lane, &packed)
	g.tell(name, fmt.Sprintf("takes in %s of %v", r.Name, made), err)
	if err != nil || taken.Known {
		return
	}
	assert.NotContains(g.t, g.releases, r.Name, "a release never changes: %s", g.output())
	for number, v := range made {
		if old, known := g.catalogue[number]; !known || old.variant != v.variant {
			g.catalogue[number], g.backs[number] = v, ""
		}
	}
	g.releases[r.Name], g.newest = made, r.Name
	g.bundles++
}

func (g *gambler) approve(name string, who *client.Client, environment, release string) error {
	_, err := who.Approve(g.t.Context(), g.lane, environment, release, "")
	g.tell(name, "approves "+release+" for "+environment, err)
	if err != nil {
		return err
	}
	for _, place := range g.within(environment) {
		of := place + " " + release
		if g.approved[of] == nil {
			g.approved[of] = map[string]bool{}
		}
		g.approved[of][name] = true
		if g.everApproved[of] == nil {
			g.everApproved[of] = map[string]bool{}
		}
		g.everApproved[of][name] = true
	}
	return nil
}

func (g *gambler) promote(name string, who *client.Client, environment, release string, before map[string][]string) {
	staging := g.stands("staging")
	promoted, err := who.Promote(g.t.Context(), g.lane, environment, client.Promotion{Release: release})
	refused := err != nil
	err = g.ended(promoted, err)
	g.tell(name, "promotes "+release+" to "+environment, err)
	for place, stood := range before {
		after := g.stands(place)
		if refused || !slices.Contains(g.within(environment), place) {
			assert.Equal(g.t, stood, after, "nothing changed: %s", g.output())
			continue
		}
		brought := slices.DeleteFunc(slices.Clone(after), func(table string) bool { return slices.Contains(stood, table) })
		if len(brought) == 0 {
			continue
		}
		g.deployed++
		if place != "production" {
			g.parts++
		}
		assert.False(g.t, name == "northerner" && place != g.production[0], "they may only there: %s", g.output())
		g.rules(name, place, release, stood, brought, staging, err == nil)
		for _, check := range []string{"order", "previous-environment", "same-history", "freeze"} {
			delete(g.waived, place+" "+check+" "+release)
		}
	}
}

// rules is the gate's, written down a second time. Of a release that did not come as a whole the first steps came.
func (g *gambler) rules(promoter, place, release string, before, brought, staging []string, whole bool) {
	sealed, cut := g.releases[release]
	if !assert.True(g.t, cut, "only releases come in: %s", g.output()) {
		return
	}
	frozen := g.frozen[place] || g.frozen["production"]
	assert.False(g.t, frozen && !g.waived[place+" freeze "+release], "nothing comes in while it is frozen: %s", g.output())
	valid := 0
	for approver := range g.approved[place+" "+release] {
		wrote := false
		for _, table := range brought {
			author := sealed[numberOf(table)].author
			wrote = wrote || author == approver || author == "robot" && approver == "boss"
		}
		hers := promoter == "robot" && approver == "boss" // who made the robot's token
		if approver != promoter && !hers && approver != "machine" && approver != "robot" && !wrote &&
			!(approver == "guest" && g.unfit) {
			valid++
		}
	}
	assert.Positive(g.t, valid, "somebody who neither asked nor wrote it approved: %s", g.output())
	highest := 0
	for _, table := range before {
		highest = max(highest, numberOf(table))
	}
	for _, table := range brought {
		number := numberOf(table)
		v, in := sealed[number]
		assert.True(g.t, in, "%s is in the release: %s", table, g.output())
		assert.Equal(g.t, fmt.Sprintf("s%d_%s", number, v.variant), table, "what ran is what was sealed: %s", g.output())
		assert.True(
			g.t,
			slices.Contains(staging, table) || g.vouched["staging "+strconv.Itoa(number)] ||
				g.waived[place+" previous-environment "+release],
			"%s went through staging: %s",
			table, g.output(),
		)
		assert.True(
			g.t,
			number > highest || g.waived[place+" order "+release] || g.vouchedAny(place),
			"%s comes in order: %s",
			table, g.output(),
		)
	}
	last := slices.Max(brought)
	for number, v := range sealed {
		if !whole && number > numberOf(last) {
			continue
		}
		table := fmt.Sprintf("s%d_%s", number, v.variant)
		assert.True(
			g.t,
			slices.Contains(brought, table) || slices.Contains(before, table) ||
				g.vouched[place+" "+strconv.Itoa(number)],
			"%s of the release was not skipped: %s",
			table, g.output(),
		)
	}
}

func (g *gambler) vouchedAny(environment string) bool {
	for word := range g.vouched {
		if strings.HasPrefix(word, environment+" ") {
			return true
		}
	}
	return false
}

func numberOf(table string) int {
	number, _ := strconv.Atoi(table[1:strings.Index(table, "_")])
	return number
}

// ended waits for a deployment's end. One that was not done is an error of the
// kind that a refusal is.
func (g *gambler) ended(promoted *api.Promoted, err error) error {
	if err == nil && promoted.Fleet != nil {
		f := promoted.Fleet
		err := g.world.FollowFleet(g.t.Context(), f.ID, func(now *api.FleetDeployment) error { f = now; return nil })
		if err == nil && f.Outcome != deploy.Done {
			refusal := &client.Error{}
			refusal.Status, refusal.Detail = 409, fmt.Sprintf("deployment F%d ended as %s: %s %v", f.ID, f.Outcome, f.Message, f.Counts)
			return refusal
		}
		return err
	}
	if err != nil || promoted.Deployment == nil {
		return err
	}
	id := promoted.Deployment.ID
	if err := g.world.Follow(g.t.Context(), id, 0, func(deploy.Event) error { return nil }); err != nil {
		return err
	}
	d, err := g.world.Deployment(g.t.Context(), id)
	if err == nil && d.Outcome != deploy.Done {
		refusal := &client.Error{}
		refusal.Status, refusal.Detail = 409, fmt.Sprintf("deployment %d ended as %s: %v", id, d.Outcome, d.Failure)
		return refusal
	}
	return err
}

// stands lists the steps' tables in a target, as the database itself says.
func (g *gambler) stands(environment string) []string {
	rows, err := g.conns[environment].Query(
		context.Background(),
		`SELECT relname::text FROM pg_class WHERE relname ~ '^s[0-9]+_' AND relkind = 'r' ORDER BY 1`,
	)
	require.NoError(g.t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(g.t, err)
	return tables
}
