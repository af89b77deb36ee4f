package tests

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/internal/pgtest"
	"vorrang/service/api"
)

// What these tests play is played in every turn and variant in service/, within the
// process of the tests; here it is played against a process of its own, whose life and
// memory are watched. docs/security.md says which is where.

const secret = "hunter2"

// harbour is a besieged service with people, whose production asks for approvals, with
// release 2026.11 approved of by k.brandt.
type harbour struct {
	*besieged
	production                 string // the URL of the target
	author, releaser, approver *client.Client
}

func startHarbour(t *testing.T) *harbour {
	t.Setenv("PRODUCTION", pgtest.Database(t))
	h := &harbour{besieged: besiege(t), production: os.Getenv("PRODUCTION")}
	_, err := h.Declare(t.Context(), "lane.yaml", []byte(`lane: harbour
environments:
  - {name: staging, target: env:TARGET, gate: {release: not-asked}}
  - {name: production, target: env:PRODUCTION, gate: {previous-environment: not-asked, approvals: {count: 1, authors: excluded}}}
`), "harbour")
	require.NoError(t, err)
	h.author, h.releaser, h.approver = h.as("a.lund", "author@harbour"), h.as(
		"r.voss", "releaser@harbour",
	), h.as("k.brandt", "approver@harbour")
	h.submit(map[string]string{"1-create-berth.sql": "CREATE TABLE berth (id int);"})
	_, err = h.author.Submit(t.Context(), "harbour", files("2-create-pilot.sql", "CREATE TABLE pilot (id int);"))
	require.NoError(t, err)
	_, err = h.releaser.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11"})
	require.NoError(t, err)
	_, err = h.approver.Approve(t.Context(), "harbour", "production", "2026.11", "")
	require.NoError(t, err)
	return h
}

const harboursPassword = "the tide is at six"

func (b *besieged) as(name string, grants ...string) *client.Client {
	password := harboursPassword
	_, err := b.PutPerson(b.t.Context(), name, client.PersonChange{Password: &password, Grant: grants})
	require.NoError(b.t, err)
	session, err := client.New(b.Server, "", "").Login(b.t.Context(), name, password, "an attack")
	require.NoError(b.t, err)
	return client.New(b.Server, session.Token, "somebody else")
}

// files is a folder with the lane's first step and others.
func files(pairs ...string) fstest.MapFS {
	folder := fstest.MapFS{"1-create-berth.sql": {Data: []byte("CREATE TABLE berth (id int);")}}
	for i := 0; i < len(pairs); i += 2 {
		folder[pairs[i]] = &fstest.MapFile{Data: []byte(pairs[i+1])}
	}
	return folder
}

// check is what a gate that refused a call says of one check.
func check(t *testing.T, err error, id gate.ID) string {
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	return gate.Result{Checks: refused.Checks}.Find(id).Evidence
}

func TestAttackWhatWasNotApproved(t *testing.T) {
	h := startHarbour(t)
	ctx := t.Context()
	promote := func(as *client.Client) error {
		promoted, err := as.Promote(ctx, "harbour", "production", client.Promotion{Release: "2026.11"})
		if err == nil {
			require.Equal(t, deploy.Done, h.ended(promoted).Outcome)
		}
		return err
	}
	// who approved may not any more
	yes, no := true, false
	_, err := h.PutPerson(ctx, "k.brandt", client.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	assert.Contains(t, check(t, promote(h.releaser), gate.Approvals), "k.brandt may not sign in any more")
	_, err = h.PutPerson(ctx, "k.brandt", client.PersonChange{Disabled: &no})
	require.NoError(t, err)
	require.NoError(t, promote(h.releaser))

	// a way back that came after the approval
	late := files(
		"2-create-pilot.sql",
		"CREATE TABLE pilot (id int);",
		"2-create-pilot.back.sql",
		"DROP TABLE pilot; CREATE TABLE theft (id int);",
	)
	_, err = h.author.Submit(ctx, "harbour", late)
	require.NoError(t, err)
	_, err = h.releaser.Rollback(ctx, "harbour", "production", client.Way{Last: 1}, "production")
	assert.Contains(t, check(t, err, gate.Approvals), "the way back of step 2 (0 of 1) was not approved as it is now")
	assert.Equal(t, "true", pgtest.Query(t, h.production, "SELECT (to_regclass('public.theft') IS NULL)::text"))

	// a release of the author's own, and what builds one
	var bundle bytes.Buffer
	require.NoError(t, h.Export(ctx, "harbour", "2026.11", &bundle))
	_, err = h.author.SubmitBundle(ctx, "harbour", &bundle)
	assert.ErrorContains(t, err, "it takes releaser or administrator")
	_, err = h.author.CompareRelease(ctx, "harbour", "staging", "2026.11", false)
	assert.Error(t, err, "an author builds nothing on a server")

	// a token that is stolen makes no other, and a person who is disabled stays so
	thief := h.as("m.kai", "administrator")
	var refused *client.Error
	_, err = thief.MakeToken(ctx, "robot", []string{"administrator"}, time.Hour)
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "proof-needed", refused.Kind())
	var all sync.WaitGroup
	leaver := h.as("l.berg", "reader")
	all.Go(func() { _ = leaver.ChangePassword(ctx, harboursPassword, "another tide is at nine") }) // before or after
	all.Go(func() {
		_, err := h.PutPerson(ctx, "l.berg", client.PersonChange{Disabled: &yes})
		assert.NoError(t, err)
	})
	all.Wait()
	for _, password := range []string{harboursPassword, "another tide is at nine"} {
		_, err = h.Login(ctx, "l.berg", password, "x")
		assert.Error(t, err)
	}
	_, err = leaver.Session(ctx)
	assert.Error(t, err, "whichever came first")
}

// What steps try against the ledger, the lock and psql.
func TestAttackByAStep(t *testing.T) {
	h := startHarbour(t)
	ctx := t.Context()
	theft := filepath.Join(t.TempDir(), "theft")
	folder := files(
		"2-create-pilot.sql",
		"CREATE TABLE pilot (id int);",
		"3-quotes.sql",
		"CREATE TABLE said (what text);\nINSERT INTO said VALUES (E'it\\'s\n\\! touch "+theft+"\n'), (':HOST');\nSELECT "+
			"pg_advisory_unlock_all();",
	)
	_, err := h.Submit(ctx, "harbour", folder)
	require.NoError(t, err)
	preview, err := h.Standalone(ctx, "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	psql := func(text string) string {
		file := filepath.Join(t.TempDir(), "deploy.sql")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		output, _ := exec.CommandContext(ctx, "psql", "-X", "-q", "-v", "file="+file, "-f", file, h.target).
			CombinedOutput()
			// what it says is checked
		return string(output)
	}
	assert.Contains(t, psql(strings.Replace(preview.Standalone, ":HOST", ":PORT", 1)), "this file was edited")
	assert.Contains(t, psql(preview.Standalone), "the deployment is done")
	assert.NoFileExists(t, theft)

	for name, sql := range map[string]string{
		"the ledger":       "DELETE FROM vorrang.ledger;",
		"its trigger":      "ALTER TABLE vorrang.ledger DISABLE TRIGGER ALL;",
		"a role":           "ALTER ROLE CURRENT_USER SET search_path = evil;",
		"as whom it runs":  "RESET ROLE;",
		"an event trigger": "CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION evil();",
	} {
		folder["4-forge.sql"] = &fstest.MapFile{Data: []byte(sql)}
		_, err := h.Submit(ctx, "harbour", folder)
		var refused *client.Error
		require.ErrorAs(t, err, &refused, name)
		require.Len(t, refused.Errors, 1, name)
		assert.Equal(t, "4-forge.sql", refused.Errors[0].File, name)
	}
	folder["4-forge.sql"] = &fstest.MapFile{
		Data: []byte(
			"DO $$ BEGIN EXECUTE 'CREATE RULE forged AS ON INSERT TO vor' || 'rang.ledger DO INSTEAD NOTHING'; END $$;",
		),
	}
	_, err = h.Submit(ctx, "harbour", folder)
	require.NoError(t, err)
	promoted, err := h.Promote(ctx, "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	failed := h.ended(promoted)
	require.Equal(t, deploy.Failed, failed.Outcome, "its row is read back before it is committed")
	assert.Equal(
		t, "true",
		pgtest.Query(t, h.target, "SELECT (NOT EXISTS (SELECT FROM pg_rules WHERE rulename = 'forged'))::text"),
	)
}

func TestAttackWhatMustNotBeTold(t *testing.T) {
	h := startHarbour(t)
	ctx := t.Context()
	pgtest.Exec(t, h.production, "CREATE TABLE secret_of_production (id int)")
	reader := h.as("o.eye", "reader@harbour/staging")
	const lane = "/api/v1/lanes/harbour"
	for there, absent := range map[string]string{
		lane + "/environments/production/map":             lane + "/environments/moon/map",
		lane + "/comparison?from=staging&with=production": lane + "/comparison?from=staging&with=moon",
		lane + "/releases/2026.11?environment=production": lane + "/releases/2026.11?environment=moon",
	} {
		code, text := h.send("GET", there, nil, "Authorization", "Bearer "+reader.Token)
		same, _ := h.send("GET", absent, nil, "Authorization", "Bearer "+reader.Token)
		assert.Equal(t, same, code, there)
		assert.NotContains(t, text, "secret_of_production", there)
	}
	code, _ := h.send("GET", "/metrics", nil, "Authorization", "Bearer "+reader.Token)
	assert.Equal(t, http.StatusForbidden, code)

	folder := t.TempDir()
	pipe, planted := filepath.Join(folder, "pipe"), filepath.Join(folder, "planted")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(planted, []byte("postgres://pilot:a@"+secret+"@127.0.0.1:1/x"), 0o600))
	for target, message := range map[string]string{"env:VORRANG_RECORDS_URL": "is the service's own",
		"file:/dev/zero": "is not an ordinary file", "file:" + pipe: "is not an ordinary file",
		"file:" + planted: "percent-encoded"} {
		_, err := h.Declare(
			ctx, "lane.yaml",
			fmt.Appendf(nil, "lane: moon\nenvironments: [{name: far, target: %q}]\n", target),
			"moon",
		)
		require.NoError(t, err, target)
		probe, err := h.Probe(ctx, "moon", "far")
		assert.Contains(t, fmt.Sprint(probe, err), message, target)
		assert.NotContains(t, fmt.Sprint(probe, err), secret, target)
	}
	_, text := h.send("GET", "/api/v1/lanes", nil, "Authorization", secret+"\x7f")
	assert.NotContains(t, text, secret)
	_, err := h.PutHook(
		ctx,
		api.Hook{Name: "inward", URL: h.Server + "/" + secret, Secret: "env:TARGET", Events: []string{"done"}},
	)
	require.NoError(t, err)
	promoted, err := h.Promote(ctx, "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, h.ended(promoted).Outcome)
	require.Eventually(t, func() bool {
		sent, err := h.Deliveries(ctx, "inward", client.ListQuery{Limit: 10})
		require.NoError(t, err)
		return len(sent.Deliveries) > 0 && strings.Contains(sent.Deliveries[0].Message, "no hook may lead to") &&
			!strings.Contains(sent.Deliveries[0].Message, secret)
	}, 30*time.Second, 50*time.Millisecond)
}

// What reaches the terminal, and what leaves the folder.
func TestAttackTheClient(t *testing.T) {
	h := startHarbour(t)
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	vorrang := func(args ...string) string {
		output, _ := command(
			t,
			h.Server,
			token,
			folder,
			append([]string{"vorrang"}, args...)...).CombinedOutput()
		// what it says is checked
		return string(output)
	}
	write("1-create-berth.sql", "CREATE TABLE berth (id int);")
	write("2-create-pilot.sql", "CREATE TABLE pilot (id int);")
	write(
		"3-say.sql",
		"DO $$ BEGIN RAISE NOTICE '%', E'\\x1b]0;owned\\x07\\r\\u202E gone'; RAISE EXCEPTION '%', E'\\x1b[2J\\nstep 3 "+
			"done'; END $$;",
	)
	assert.Contains(t, vorrang("submit", "-dir", folder), "submission")
	for _, output := range []string{vorrang("promote", "-env", "staging", "-yes"), vorrang("status", "-env", "staging"),
		vorrang("lanes")} {
		for _, bad := range []string{"\x1b[2J", "\x1b]", "\x07", "\r", "\u202E", "\nstep 3 done"} {
			assert.NotContains(t, output, bad)
		}
	}
	outside := filepath.Join(t.TempDir(), "outside.sql")
	require.NoError(t, os.WriteFile(outside, []byte("SELECT '"+secret+"';"), 0o600))
	link := filepath.Join(folder, "4-link.sql")
	require.NoError(t, os.Symlink(outside, link))
	assert.Contains(t, vorrang("submit", "-dir", folder), "4-link.sql")
	require.NoError(t, os.Remove(link))
	require.NoError(t, syscall.Mkfifo(link, 0o600))
	assert.Contains(t, vorrang("submit", "-dir", folder), "4-link.sql", "it does not wait for the pipe")
	_, err := h.Step(t.Context(), "harbour", "4", 1000)
	assert.Error(t, err, "neither was sent")
}

func TestAttackFromAnotherPage(t *testing.T) {
	h := startHarbour(t)
	signIn := `{"name":"r.voss","password":"` + harboursPassword + `"}`
	for name, headers := range map[string][]string{
		"another origin": {"Content-Type", "application/json", "Origin", "http://evil.example"},
		"another scheme": {"Content-Type", "application/json", "Origin", "https://" +
			strings.TrimPrefix(h.Server, "http://")},
		"a form":          {"Content-Type", "text/plain", "Origin", h.Server},
		"across the site": {"Content-Type", "application/json", "Sec-Fetch-Site", "cross-site"},
	} {
		code, text := h.send("POST", "/api/v1/session", strings.NewReader(signIn), headers...)
		assert.Contains(t, []int{http.StatusForbidden, http.StatusUnsupportedMediaType}, code, "%s: %s", name, text)
	}
	request, err := http.NewRequestWithContext(
		t.Context(), http.MethodGet,
		h.Server+"/?problem=%3Cscript%3E"+secret,
		nil,
	)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	policy := answer.Header.Get("Content-Security-Policy")
	for _, message := range []string{"nonce-", "base-uri", "form-action", "frame-ancestors"} {
		assert.Contains(t, policy, message)
	}
	assert.NotContains(t, policy, "unsafe-inline")
	output, err := exec.CommandContext(t.Context(), h.program, "-listen", "0.0.0.0:0").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(output), "passwords would pass unencrypted")
}
