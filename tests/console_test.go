package tests

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/browser"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// page is the console in a real browser.
type page struct {
	t   *testing.T
	ctx context.Context
	w   *servicetest.World

	mu     sync.Mutex
	faults []string // that the browser told of
}

// pagePatience is how long a page may take to show what it should. It is long: a machine that
// does much else is no fault of the page's.
const pagePatience = time.Minute

// consoles are as many browsers as there may be at once.
var consoles = make(chan struct{}, 2)

func openConsole(t *testing.T) *page {
	t.Parallel() // it mostly waits
	consoles <- struct{}{}
	t.Cleanup(func() { <-consoles })
	if _, err := os.Stat(filepath.Join(pgtest.Root(), "console", "dist", "index.html")); err != nil {
		t.Fatal("the console is not built; make build builds it")
	}
	w := servicetest.Start(t)
	ctx, cancel := browser.Open(t.Context())
	t.Cleanup(cancel)
	ctx, stop := context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(stop)
	p := &page{t: t, ctx: ctx, w: w}
	require.NoError(t, chromedp.Listen(ctx, p.hear))
	t.Cleanup(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		assert.Empty(t, p.faults, "nothing throws, and the content policy has nothing to refuse")
	})
	return p
}

// hear keeps what the browser says of faults of the page's own.
func (p *page) hear(event any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		p.faults = append(p.faults, e.ExceptionDetails.Text)
	case *log.EventEntryAdded:
		if e.Entry.Source == log.EntrySourceSecurity {
			p.faults = append(p.faults, e.Entry.Text)
		}
	}
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, steps...))
}

// until waits until an expression is true in the page. It is evaluated every 50 ms: with every frame, as is
// usual, the browser would draw without end, and take a processor for itself.
func (p *page) until(expression string) error {
	_, err := chromedp.Run(p.ctx, chromedp.Poll[bool](expression,
		chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(pagePatience)))
	return err
}

// sees waits until the page shows a text.
func (p *page) sees(text string) {
	p.t.Helper()
	if err := p.until(fmt.Sprintf("document.body.innerText.includes(%q)", text)); err != nil {
		shown, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("the page should show %q; it shows:\n%s", text, shown)
	}
}

// press clicks the button whose text or label begins with some words, once it
// can be pressed.
func (p *page) press(words string) {
	p.t.Helper()
	find := fmt.Sprintf(`(() => { const b = [...document.querySelectorAll('button, [role=tab], [role=option]')]
		.find(b => (b.ariaLabel || b.innerText).trim().startsWith(%q) && !b.disabled && b.offsetParent);
		b?.dispatchEvent(new MouseEvent('mousedown', { bubbles: true })); b?.click(); return !!b })()`, words)
	require.NoError(p.t, p.until(find), "there is no button %q", words)
}

// fill puts a text into a field at once: a dialog that is still opening takes
// the focus away from whoever types. The newest dialog's field is meant; an
// older one may still be closing.
func (p *page) fill(name, text string) {
	p.t.Helper()
	enter := fmt.Sprintf(
		`(() => { const i = [...document.querySelectorAll('input[name=%q]')].at(-1); if (!i) return false;
		i.value = %q; i.dispatchEvent(new Event('input', { bubbles: true })); return true })()`,
		name, text,
	)
	require.NoError(p.t, p.until(enter), "there is no field %q", name)
}

func (p *page) goTo(path string) { p.do(chromedp.Navigate(p.w.Server + path)) }

func (p *page) signIn() {
	p.do(browser.SignIn(p.w.Server, "Ship Pilot", servicetest.Token))
}

func TestTheStoryInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id int PRIMARY KEY)", "1-create-vessel.back.sql": "DROP TABLE vessel",
		"2-create-berth.sql": "CREATE TABLE berth (id int); DO $$ BEGIN RAISE NOTICE 'eight " +
			"berths'; END $$;", "2-create-berth.back.sql": "DROP TABLE berth",
		"3-add-name.sql":      "ALTER TABLE vessel ADD COLUMN name text",
		"3-add-name.back.sql": "ALTER TABLE vessel DROP COLUMN name",
	})
	pgtest.Exec(
		t,
		p.w.URLs["production"],
		"SET search_path = public; CREATE TABLE vessel (id int PRIMARY KEY); CREATE TABLE berth (id int)",
	)

	p.do(
		chromedp.Navigate(p.w.Server+"/?token"),
		chromedp.WaitVisible(chromedp.CSS(`input[name="name"]`)),
		chromedp.SendKeys(
			chromedp.CSS(`input[name="name"]`),
			"eve",
		),
		chromedp.SendKeys(chromedp.CSS(`input[type="password"]`), "guessed"),
	)
	p.press("Sign in")
	p.sees("That is not the token")
	p.signIn()
	p.sees("1 of 3 environments needs you")
	p.sees("this is an existing database: it has 2 tables and no history")

	p.goTo("/lanes/harbour/development")
	p.press("Promote")
	p.sees("These steps will be applied to harbour / development")
	p.press("Apply 3 steps to development")
	p.sees("3 of 3 steps")
	p.sees("eight berths")
	assert.Equal(
		t, "2",
		pgtest.Query(t, p.w.URLs["development"], "SELECT count(*) FROM pg_class WHERE relname IN ('vessel', 'berth')"),
	)

	p.goTo("/lanes/harbour/production")
	p.press("Baseline")
	p.sees("Nothing is run.")
	p.do(chromedp.Click(chromedp.CSS(`[role="dialog"] [role="combobox"]`)))
	p.press("2 create berth")
	p.sees("2 steps will be covered and never run here.")
	p.press("Record step 2 as the baseline of production")
	p.sees("2, covers 2")
	p.press("Promote")
	p.press("Apply 1 step to production")
	p.sees("1 of 1 step")

	p.goTo("/lanes/harbour/production")
	p.press("Roll back")
	p.sees("ALTER TABLE vessel DROP COLUMN name")
	p.fill("confirm", "production")
	p.press("Roll 1 step back on production")
	p.sees("rolled back")
	p.sees("done")
	p.goTo("/lanes/harbour/production")
	p.sees("Ship Pilot")
	p.press("Ledger")
	p.sees("The chain of all 3 entries holds.")
	p.press("Gate")
	p.sees("The gate is clear")
	p.press("Preview")
	p.sees("ALTER TABLE vessel ADD COLUMN name text")
	highlighted, err := chromedp.Run(
		p.ctx,
		chromedp.Evaluate[int](`document.querySelectorAll('.sql .hljs-keyword').length`),
	)
	require.NoError(t, err)
	assert.Positive(t, highlighted)
	p.press("Promote")
	p.press("Apply 1 step to production")
	p.sees("1 of 1 step")
	p.goTo("/")
	p.sees("Nothing is wrong")
	p.press("Sign out")
	p.sees("Sign in")
}

func TestAFailureIsShownWhereItHappened(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 1;\nSELECT missing FROM pg_class;"})
	id := p.w.Promoted("staging").ID
	p.signIn()
	p.sees("1 of 3 environments needs you")
	p.goTo(fmt.Sprintf("/deployments/%d", id))
	p.sees(`column "missing" does not exist`)
	p.sees("2-b.sql:2:8")
	p.sees("SELECT missing FROM pg_class;")
	p.goTo("/lanes/harbour/staging")
	p.sees("Failed step")
	p.press("Deployments")
	p.sees(`step 2: column "missing" does not exist`)
	p.goTo("/nowhere")
	p.sees("There is no such page.")
}

func TestADeploymentIsWatchedLive(t *testing.T) {
	p := openConsole(t)
	holder := pgtest.Connect(t, p.w.URLs["staging"])
	_, err := holder.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	p.w.Submitted(
		map[string]string{
			"1-slow.sql": "/*---\nlock-timeout: none\n---*/\nCREATE TABLE slow (id int);\nSELECT pg_advisory_lock(7);\n" +
				"SELECT pg_advisory_unlock(7);",
		},
	)
	promoted, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	p.signIn()
	p.sees("deploying")
	p.goTo(fmt.Sprintf("/deployments/%d", promoted.Deployment.ID))
	p.sees("waits for a lock that is held by session")
	p.sees("0 of 1 step")
	_, err = holder.Exec(t.Context(), "SELECT pg_advisory_unlock(7)")
	require.NoError(t, err)
	p.sees("1 of 1 step")
	p.sees("done")
}

func TestARunningDeploymentIsCancelledInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-slow.sql": "CREATE TABLE slow (id int);\nSELECT pg_sleep(60);"})
	promoted, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	p.signIn()
	p.goTo(fmt.Sprintf("/deployments/%d", promoted.Deployment.ID))
	p.press("Cancel deployment…")
	p.sees("is cancelled and its step rolled back")
	p.press("Cancel deployment on staging")
	p.sees("by Ship Pilot; what was applied before stays")
	p.sees("cancelled")
	assert.Equal(t, "0", pgtest.Query(t, p.w.URLs["staging"], "SELECT count(*) FROM pg_class WHERE relname = 'slow'"))
}

func TestTheConsoleSaysWhenTheServiceIsAway(t *testing.T) {
	p := openConsole(t)
	p.signIn()
	p.sees("Nothing is wrong")
	p.w.Stop()
	p.sees("The service does not answer.")
}

func TestEveryTroubleHasItsNextMoveInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(
		map[string]string{
			"1-vessel.sql":     "CREATE TABLE vessel (id int)",
			"2-berth.sql":      "CREATE TABLE berth (id int)",
			"2-berth.back.sql": "DROP TABLE berth",
		},
	)
	pgtest.Exec(t, p.w.URLs["staging"], "CREATE TABLE public.berth (id int)")
	_, err := p.w.Baseline(t.Context(), "harbour", "staging", "0", false)
	require.NoError(t, err)
	require.Equal(t, deploy.Failed, p.w.Promoted("staging").Outcome)
	p.w.Submitted(map[string]string{"1-vessel.sql": "-- the fleet\nCREATE TABLE vessel (id int)"})
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.sees("something of it is there already")

	p.press("Amend")
	p.sees("Only comments and white space differ; what it runs is the same.")
	p.sees("-- the fleet")
	p.fill("reason", "only a comment")
	p.press("Record the new text of step 1 as right")
	p.sees("Failed step")
	p.press("Attest")
	p.sees("table berth is there")
	p.fill("reason", "made by hand on Sunday")
	p.press("Record step 2 as run by hand")
	p.sees("in order")
	assert.Equal(
		t, "made by hand on Sunday",
		pgtest.Query(
			t,
			p.w.URLs["staging"],
			"SELECT detail ->> 'reason' FROM vorrang.ledger WHERE action = 'attested'",
		),
	)
	p.press("Verify")
	p.sees("step 1 (vessel) is applied here, and pending in development")

	p.goTo("/lanes/harbour/development")
	p.press("Promote")
	p.sees("the steps before it stay")
	p.press("Apply 2 steps to development")
	p.sees("2 of 2 steps")
	p.goTo("/lanes/harbour/development")
	p.press("Rebuild")
	p.sees("rows included")
	p.fill("confirm", "development")
	p.press("Empty development and apply every step")
	p.sees("objects were dropped; the effect of 2 steps went with them")
	p.sees("2 of 2 steps")

	p.w.Submitted(map[string]string{"3-pilot.sql": "CREATE TABLE pilot (id int)"})
	p.goTo("/lanes/harbour/production")
	p.press("3")
	p.press("Withdraw")
	p.press("Take step 3 out of the catalogue")
	require.Eventually(t, func() bool {
		lane, err := p.w.Lane(t.Context(), "harbour")
		return err == nil && lane.Steps == 2
	}, 20*time.Second, 50*time.Millisecond)
}

func TestADoubtIsSettledInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(
		map[string]string{
			"1-index.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE berth (id int);\nSELECT pg_sleep(60);",
		},
	)
	promoted, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	enough := errors.New("enough")
	require.ErrorIs(t, p.w.Follow(t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
		if e.Statement == 2 {
			return enough
		}
		return nil
	}), enough)
	pgtest.Exec(
		t,
		p.w.URLs["staging"],
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query = 'SELECT pg_sleep(60)' AND datname = "+
			"current_database()",
	)
	p.w.Ended(promoted)
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.sees("step 1 is in doubt: its statement 2 of 2 began")
	p.press("Settle")
	p.sees("table berth is there")
	p.sees("the step has no check that could decide")
	p.do(chromedp.Click(chromedp.CSS(`[role="dialog"] input[value="applied"]`)))
	p.fill("reason", "it only slept")
	p.press("Record it in the ledger")
	p.sees("in order")
}

func TestAReleaseIsPromotedInTheConsole(t *testing.T) {
	p := openConsole(t)
	_, err := p.w.Declare(
		t.Context(), "lane.yaml",
		fmt.Appendf(
			nil,
			"lane: harbour\nenvironments: [{name: staging, target: 'file:%s'}, {name: production, target: 'file:%s'}]",
			p.w.Files["staging"],
			p.w.Files["production"],
		),
		"harbour",
	)
	require.NoError(t, err)
	p.w.Submitted(
		map[string]string{"1-vessel.sql": "CREATE TABLE vessel (id int)", "2-berth.sql": "CREATE TABLE berth (id int)"},
	)
	_, err = p.w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11", Through: "1", Notes: "The first vessels."})
	require.NoError(t, err)
	p.signIn()
	p.goTo("/releases/harbour")
	p.sees("The first vessels.")
	p.sees("new 1 vessel")
	p.goTo("/lanes/harbour/production")
	p.press("Promote")
	p.sees("release 2026.11: 1 step, through 1")
	p.sees("1 step is not applied in staging, the environment before: 1 (vessel)")
	p.w.Promoted("staging")
	p.goTo("/lanes/harbour/production")
	p.press("Promote")
	p.sees("The gate is clear")
	p.press("Apply 1 step to production")
	p.sees("of release 2026.11")
	p.sees("1 of 1 step")
	assert.Equal(t, "null", pgtest.Query(t, p.w.URLs["production"], "SELECT to_regclass('public.berth')"))
}

// Whoever signed in a while ago shows that it is them before they make a token.
func TestTheConsoleAsksForAPassword(t *testing.T) {
	p := openConsole(t)
	p.w.As("m.kai", "reader@harbour")
	p.goTo("/")
	p.sees("Password")
	p.fill("name", "m.kai")
	p.secret("secret", servicetest.Password)
	p.press("Sign in")
	p.sees("Board")
	pgtest.Exec(t, p.w.Records, "UPDATE records.session SET made_at = now() - interval '1 hour'")
	p.goTo("/account")
	p.sees("A token for your programs")
	p.fill("machine", "my laptop")
	p.press("Make a token")
	p.sees("Show that it is you")
	const asked = `performance.getEntriesByType("resource").filter((e) => e.name.includes("/session/tokens?")).length`
	p.do(chromedp.Evaluate[chromedp.Void]("window.asked = " + asked + "; void 0"))
	p.wait(asked + " > window.asked + 1") // the page reads its list again and again, also while somebody types
	p.secret("proof", "not the password")
	p.press("Go on")
	p.sees("That is not your password")
	p.picture("proof")
	p.secret("proof", servicetest.Password)
	p.press("Go on")
	p.sees("This is the token. It is shown once")
	p.press("Revoke token 2")
	p.sees("a test")
	p.picture("account")
}

// picture keeps what the page shows in the folder that VORRANG_PICTURES names.
func (p *page) picture(name string) {
	folder := os.Getenv("VORRANG_PICTURES")
	if folder == "" {
		return
	}
	image, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(filepath.Join(folder, name+".png"), image, 0o644))
}

func TestPeopleOpenAGateInTheConsole(t *testing.T) {
	p := openConsole(t)
	ctx := t.Context()
	p.w.Gates(map[string]string{"production": "approvals: 1, previous-environment: not-asked, backup: 1h"})
	p.w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	_, err := p.w.Cut(ctx, "harbour", client.Cutting{Name: "2026.11"})
	require.NoError(t, err)

	p.signIn()
	p.goTo("/people")
	p.sees("Nobody has a name of their own yet")
	for name, grants := range map[string]string{"p.holm": "approver@harbour, keeper@harbour",
		"l.berg": "releaser@harbour"} {
		p.press("Add a person")
		p.fill("person", name)
		p.fill("grant", grants)
		p.secret("password", servicetest.Password)
		p.press("Add " + name)
		p.sees(strings.Split(grants, ",")[0] + "\n×")
	}
	p.press("Make a machine's token")
	p.fill("machine", "nightly-backup")
	p.fill("machine-grant", "reporter@harbour/production")
	p.press("Make it")
	p.sees("It is shown once.")
	p.sees("vorrang_")

	as := func(name string) {
		p.press("Sign out")
		p.sees("Password")
		p.fill("name", name)
		p.secret("secret", servicetest.Password)
		p.press("Sign in")
		p.sees("Board")
	}
	as("p.holm")
	p.goTo("/lanes/harbour/production")
	p.press("Gate")
	p.sees("1 approval of release 2026.11 is asked, and 0 are given")
	p.press("Approve")
	p.press("Approve release 2026.11")
	p.sees("and 1 is given: by p.holm")
	p.press("Approve ways back")
	p.press("Approve the ways back")
	p.sees("every way back on production is approved already")
	p.press("Leave as it is")
	p.sees("no backup of this target was reported yet")
	p.press("Waive")
	p.fill("words", "the job is being repaired")
	p.press("Waive it for one deployment")
	p.sees("waived by p.holm for one deployment")
	p.sees("The gate is clear")
	p.press("Freeze")
	p.fill("until", time.Now().Add(48*time.Hour).Format("2006-01-02T15:04"))
	p.fill("reason", "a regatta")
	p.press("Freeze production")
	p.sees("production is frozen until")
	p.press("Promote")
	p.sees("production is frozen until")
	p.goTo("/lanes/harbour/production")
	p.press("Gate")
	p.press("Thaw")
	p.fill("words", "the regatta is over")
	p.press("End its freezes")
	p.sees("The gate is clear")
	p.press("Promote")
	p.press("Apply 1 step to production")
	p.sees("p.holm may not do this on harbour/production: it takes releaser or administrator")

	as("l.berg")
	p.goTo("/account")
	p.sees("releaser@harbour")
	p.fill("machine", "my laptop")
	p.press("Make a token")
	p.sees("Give it to vorrang login -token")
	p.goTo("/lanes/harbour/production")
	p.press("Promote")
	p.press("Apply 1 step to production")
	p.sees("1 of 1 step")
	p.press("Sign out")
	p.signIn()
	p.goTo("/audit")
	p.sees("the job is being repaired")
	p.sees("p.holm may not do this on harbour/production")
	p.goTo("/hooks")
	p.sees("No webhook is declared")
}

// secret puts a text into a password field, whose input PrimeVue names.
func (p *page) secret(name, text string) {
	p.t.Helper()
	p.fill(name, text)
}

func TestTheSchemaIsKnownInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-vessel.sql": "CREATE TABLE public.vessel (id int PRIMARY KEY, name text)",
		"2-call.sql": "CREATE TABLE public.call (id int PRIMARY KEY, vessel int REFERENCES public.vessel); ALTER TABLE " +
			"public.vessel ADD COLUMN flag text"})
	d := p.w.Promoted("staging")
	p.signIn()
	p.goTo(fmt.Sprintf("/deployments/%d", d.ID))
	p.press("What step 2 did to the schema")
	p.sees("column public.vessel.flag")

	pgtest.Exec(t, p.w.URLs["staging"], "ALTER TABLE public.vessel ADD COLUMN hotfix numeric")
	p.goTo("/lanes/harbour/staging")
	p.press("Schema")
	p.sees("1 object differs from what deployment 1 left")
	p.sees("column public.vessel.hotfix")
	p.sees("vorrang draft -lane harbour -env staging -drift keep")
	p.sees("hotfix added")
	p.goTo("/api/v1/lanes/harbour/environments/staging/map.svg")
	p.wait(`getComputedStyle(document.querySelector('text.head')).fontWeight === '700'`) // its style is let in
	p.goTo("/lanes/harbour/staging")
	p.press("Schema")
	p.do(chromedp.Click(chromedp.CSS(`g[data-table="public.vessel"]`), chromedp.NodeVisible))
	p.sees("Deployment 1, step 2")
	p.sees("added column flag")
	p.press("Accept")
	p.fill("words", "ticket 4711")
	p.press("It is right as it is")
	p.sees("No drift")
	p.goTo("/")
	p.sees("in order")
}

func TestManyStepsAreReadPageByPageInTheConsole(t *testing.T) {
	p := openConsole(t)
	files := map[string]string{"1-first-gauge.sql": "SELECT 1", "101-dredge.sql": "SELECT 101"}
	for n := 2; n <= 100; n++ {
		files[fmt.Sprintf("%d-set-tide.sql", n)] = fmt.Sprint("SELECT ", n)
	}
	p.w.Submitted(files)
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.sees("dredge")
	p.wait(`!document.body.innerText.includes("first gauge")`)
	p.press("Lower numbers")
	p.sees("first gauge")
	p.wait(`!document.body.innerText.includes("set tide")`)
	p.press("Higher numbers")
	p.sees("dredge")
	p.fill("search-steps", "FIRST")
	p.press("Search")
	p.sees("first gauge")
	p.wait(`!document.body.innerText.includes("dredge")`)
	p.press("waiting or in trouble") // which is asked for with the same search
	p.fill("search-steps", "quay")
	p.press("Search")
	p.sees("No step is found for “quay”.")
	p.goTo("/")
	p.sees("101 steps")
}

// TestEveryScheduledPromotionIsReachedInTheConsole: all that wait, and those before the newest of the others.
func TestEveryScheduledPromotionIsReachedInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-tide.sql": "SELECT 1"})
	var ids []int64
	for i := range 8 {
		begun, err := p.w.Promote(t.Context(), "harbour", "staging",
			client.Promotion{At: time.Now().Add(time.Duration(i+1) * time.Hour)})
		require.NoError(t, err)
		ids = append(ids, begun.Scheduled.ID)
	}
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.press("Gate")
	drops := func(n int) {
		p.wait(fmt.Sprintf(`[...document.querySelectorAll("button")].filter((b) => b.innerText === "Drop").length === %d`, n))
	}
	drops(8)
	for _, id := range ids {
		require.NoError(t, p.w.DropScheduled(t.Context(), "harbour", "staging", id))
	}
	drops(0)
	shown := func(n int) {
		p.wait(fmt.Sprintf(`document.querySelectorAll("section.scheduled b").length === %d`, n))
	}
	shown(6)
	p.press("Older")
	shown(2)
	p.press("Newer")
	shown(6)
	p.fill("search-scheduled promotions", "nobody")
	p.press("Search")
	p.sees("No scheduled promotion matches.")
}

// TestASilentTargetHoldsUpNoOtherInTheConsole: what is read is shown, and nothing is said of what is not.
func TestASilentTargetHoldsUpNoOtherInTheConsole(t *testing.T) {
	p := openConsole(t)
	p.w.Pass(-time.Minute)
	end := p.w.Silent("staging")
	p.signIn()
	p.sees("1 of 3 environments is being read · nothing is wrong in the others")
	p.sees("its target has not answered yet")
	end()
	p.sees("1 of 3 environments needs you")
	p.sees("not reached")
	p.w.Found("staging")
	p.sees("Nothing is wrong")
	p.w.Silent("staging")
	p.sees("its target is being read") // and how it was a minute ago
	p.sees("1 of 3 environments is being read")
}

// TestAnEnvironmentsPageDoesNotWaitForASilentTarget: it shows what is known, and offers nothing that depends on what
// is not.
func TestAnEnvironmentsPageDoesNotWaitForASilentTarget(t *testing.T) {
	p := openConsole(t)
	p.w.Pass(-time.Minute)
	p.w.Submitted(map[string]string{"1-berth.sql": "CREATE TABLE public.berth (id int)"})
	p.w.Promoted("staging")
	p.w.Submitted(map[string]string{
		"1-berth.sql": "CREATE TABLE public.berth (id int)", "2-pilot.sql": "CREATE TABLE public.pilot (id int)",
	})
	end := p.w.Silent("staging")
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.sees("The target has not answered yet.")
	p.wait(`[...document.querySelectorAll("button")].find((b) => b.innerText.includes("Promote")).disabled`)
	end()
	p.w.Found("staging")
	p.sees("stands at")
	p.wait(`![...document.querySelectorAll("button")].find((b) => b.innerText.includes("Promote")).disabled`)
	p.sees("pilot")
	p.w.Silent("staging")
	p.sees("The target is being read. This is its state as of")
	p.picture("environment-being-read")
}

// TestTheConsoleCallsNothingConsistentThatNobodyCompared: on the tab where an environment's history is verified.
func TestTheConsoleCallsNothingConsistentThatNobodyCompared(t *testing.T) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{"1-berth.sql": "CREATE TABLE public.berth (id int)"})
	p.w.Promoted("production")
	p.signIn()
	p.goTo("/lanes/harbour/staging")
	p.press("Verify")
	p.sees("Nothing was verified: there is no history yet.")
	p.w.Away("staging")
	p.goTo("/lanes/harbour/production")
	p.press("Verify")
	p.sees("not compared with the environment before: staging was not reached.")
	p.wait(`!document.body.innerText.includes("is consistent")`)
	p.w.Found("staging")
	p.w.Promoted("staging")
	p.goTo("/lanes/harbour/staging")
	p.press("Verify")
	p.sees("applied here, and pending in development")
}
