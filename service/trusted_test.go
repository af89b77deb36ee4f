package service_test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/internal/advice"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// governed is a lane whose production takes approved releases only, with the
// release 2026.11 approved by k.brandt and promoted by r.voss.
func governed(t *testing.T) (w *servicetest.World, author, releaser, approver *client.Client) {
	w = servicetest.Start(t)
	w.Gates(
		map[string]string{
			"development": "release: not-asked",
			"staging":     "release: not-asked, previous-environment: not-asked",
			"production":  "previous-environment: not-asked, approvals: {count: 1, authors: excluded}",
		},
	)
	author, releaser, approver = w.As("a.lund", "author@harbour"), w.As(
		"r.voss", "releaser@harbour",
	), w.As("k.brandt", "approver@harbour", "keeper@harbour")
	w.Write(
		map[string]string{
			"1-create-berth.sql":      "CREATE TABLE berth (id int);",
			"1-create-berth.back.sql": "DROP TABLE berth;",
			"2-create-pilot.sql":      "CREATE TABLE pilot (id int);",
		},
	)
	must(author.Submit(t.Context(), "harbour", os.DirFS(w.Steps)))
	must(releaser.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11"}))
	must(approver.Approve(t.Context(), "harbour", "production", "2026.11", ""))
	return w, author, releaser, approver
}

func promoteTo(t *testing.T, w *servicetest.World, as *client.Client) error {
	promoted, err := as.Promote(t.Context(), "harbour", "production", client.Promotion{Release: "2026.11"})
	if err == nil {
		require.Equal(t, deploy.Done, w.Ended(promoted).Outcome)
	}
	return err
}

func TestAWayBackThatNobodyApprovedDoesNotRun(t *testing.T) {
	w, author, releaser, approver := governed(t)
	ctx := t.Context()
	require.NoError(t, promoteTo(t, w, releaser))
	back := client.Way{Last: 1}
	w.Write(map[string]string{"2-create-pilot.back.sql": "DROP TABLE pilot; CREATE TABLE theft (id int);"})
	must(author.Submit(ctx, "harbour", os.DirFS(w.Steps)))
	_, err := releaser.Rollback(ctx, "harbour", "production", back, "production")
	require.ErrorContains(t, err, "was not approved as it is now")
	preview := must(releaser.PreviewBack(ctx, "harbour", "production", back))
	check := gate.Result{Checks: preview.Gate}.Find(gate.Approvals)
	assert.Equal(
		t,
		"production asks for approvals, and the way back of step 2 (0 of 1) was not approved as it is now",
		check.Evidence,
	)
	assert.Contains(t, advice.Text(check.Remedies), "vorrang approve -lane harbour -env production -ways-back")
	also := w.As("a.lund", "approver@harbour")
	_, err = also.Approve(ctx, "harbour", "production", "", "I wrote it")
	require.ErrorContains(t, err, "your approval would not count: a.lund wrote the way back of step 2")
	approved := must(approver.Approve(ctx, "harbour", "production", "", "checked it"))
	assert.Len(t, approved.Steps, 1)
	_, err = approver.Approve(ctx, "harbour", "production", "", "")
	require.ErrorContains(t, err, "every way back on production is approved already")
	must(approver.WithdrawApproval(ctx, "harbour", "production", ""))
	_, err = releaser.Rollback(ctx, "harbour", "production", back, "production")
	require.ErrorContains(t, err, "was not approved as it is now")
	assert.Equal(t, "false", pgtest.Query(t, w.URLs["production"], "SELECT (to_regclass('theft') IS NOT NULL)::text"))
	must(approver.Approve(ctx, "harbour", "production", "", "it is meant"))
	promoted := must(releaser.Rollback(ctx, "harbour", "production", client.Way{Last: 2}, "production"))
	assert.Equal(t, deploy.Done, w.Ended(promoted).Outcome, "beside the one that was approved with its step")
}

func TestAnApprovalCountsAsLongAsItsGiverMayApprove(t *testing.T) {
	w, _, releaser, _ := governed(t)
	ctx := t.Context()
	holds := func(message string) {
		t.Helper()
		var refused *client.Error
		require.ErrorAs(t, promoteTo(t, w, releaser), &refused)
		assert.Contains(t, gate.Result{Checks: refused.Checks}.Find(gate.Approvals).Evidence, message)
	}
	yes, no := true, false
	must(w.PutPerson(ctx, "k.brandt", client.PersonChange{Disabled: &yes}))
	holds("k.brandt may not sign in any more")
	must(
		w.PutPerson(
			ctx, "k.brandt",
			client.PersonChange{
				Disabled: &no,
				Take:     []string{"approver@harbour"},
				Grant:    []string{"approver@harbour/staging"},
			},
		),
	)
	holds("k.brandt is not an approver here any more")
	must(w.PutPerson(ctx, "k.brandt", client.PersonChange{Grant: []string{"approver@harbour/production"}}))
	require.NoError(t, promoteTo(t, w, releaser))
}

func TestWhoMadeAMachinesTokenCountsAsTheMachine(t *testing.T) {
	w, _, _, _ := governed(t)
	ctx := t.Context()
	fresh := func(name string) *client.Client { // signed in on the console a moment ago
		c := w.As(name, "administrator")
		c.Password = func() (string, error) { return servicetest.Password, nil }
		return c
	}
	boss := fresh("b.roth")
	robot := client.New(
		w.Server,
		must(boss.MakeToken(ctx, "robot", []string{"releaser@harbour", "author@harbour"}, time.Hour)).Text,
		"",
	)
	must(w.As("k.brandt2", "approver@harbour").Approve(ctx, "harbour", "production", "2026.11", ""))
	_, err := w.As("k.brandt").WithdrawApproval(ctx, "harbour", "production", "2026.11")
	require.NoError(t, err)
	must(w.As("k.brandt2").WithdrawApproval(ctx, "harbour", "production", "2026.11"))
	must(boss.Approve(ctx, "harbour", "production", "2026.11", ""))
	var refused *client.Error
	require.ErrorAs(t, promoteTo(t, w, robot), &refused)
	assert.Contains(
		t,
		gate.Result{Checks: refused.Checks}.Find(gate.Approvals).Evidence,
		"b.roth made the token of robot, who asks for the promotion",
	)
	w.Write(map[string]string{"3-create-tide.sql": "CREATE TABLE tide (id int);"})
	must(robot.Submit(ctx, "harbour", os.DirFS(w.Steps)))
	must(robot.Cut(ctx, "harbour", client.Cutting{Name: "2026.12"}))
	_, err = boss.Approve(ctx, "harbour", "production", "2026.12", "")
	require.ErrorContains(t, err, "b.roth wrote step 3")
}

func TestATokenMakesNoToken(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	stolen := w.As("m.kai", "administrator")
	var refused *client.Error
	password := "the wake is at four"
	for what, try := range map[string]func(c *client.Client) error{
		"a machine's token": func(c *client.Client) error {
			_, err := c.MakeToken(ctx, "robot", []string{"administrator"}, time.Hour)
			return err
		},
		"a person": func(c *client.Client) error {
			_, err := c.PutPerson(ctx, "e.ve", client.PersonChange{Password: &password, Grant: []string{"administrator"}})
			return err
		},
	} {
		stolen.Password = nil
		require.ErrorAs(t, try(stolen), &refused, what)
		assert.Equal(t, "proof-needed", refused.Kind(), what)
		stolen.Password = func() (string, error) { return "a guess", nil }
		require.ErrorContains(t, try(stolen), "that is not your password", what)
		stolen.Password = func() (string, error) { return servicetest.Password, nil }
		require.NoError(t, try(stolen), what)
	}
	machine := client.New(
		w.Server,
		must(stolen.MakeToken(ctx, "provisioner", []string{"administrator"}, time.Hour)).Text,
		"",
	)
	_, err := machine.MakeToken(ctx, "child", []string{"reader"}, time.Hour)
	require.ErrorContains(t, err, "a machine makes no tokens")
	own := must(stolen.OwnTokens(ctx, client.ListQuery{}))
	require.Len(t, own.Tokens, 1, "everybody can see their own tokens")
	assert.Empty(t, must(stolen.OwnTokens(ctx, client.ListQuery{Search: "no such program"})).Tokens)
	require.ErrorContains(t, w.As("l.berg", "reader").RevokeOwn(ctx, own.Tokens[0].ID), "there is no token of yours")
	require.NoError(t, stolen.RevokeOwn(ctx, own.Tokens[0].ID))
	_, err = stolen.Session(ctx)
	require.Error(t, err)
}

// A stream ends with what opened it.
func TestAStreamEndsWithItsToken(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-wait.sql": "SELECT pg_sleep(60);"})
	promoted := must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{}))
	watcher := must(w.MakeToken(t.Context(), "watcher", []string{"reader@harbour/staging"}, time.Hour))
	request, err := http.NewRequestWithContext(
		t.Context(), http.MethodGet,
		w.Server+"/api/v1/deployments/1/events",
		nil,
	)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+watcher.Text)
	request.Header.Set("Accept", "text/event-stream")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.NoError(t, w.Revoke(t.Context(), watcher.ID))
	var heard strings.Builder
	_, err = answer.Body.Read(make([]byte, 1))
	require.NoError(t, err)
	buffer := make([]byte, 4096)
	for err == nil {
		var n int
		n, err = answer.Body.Read(buffer)
		heard.Write(buffer[:n])
	}
	assert.NotContains(t, heard.String(), "event: ended", "the stream ended, and the deployment did not")
	_, err = w.Cancel(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
}

func TestAnotherSiteSignsNobodyIn(t *testing.T) {
	w := servicetest.Start(t)
	w.As("m.kai", "reader")
	body := `{"name":"m.kai","password":"` + servicetest.Password + `"}`
	for name, c := range map[string]struct {
		kind, origin string
		code         int
	}{
		"the console":         {"application/json", w.Server, http.StatusOK},
		"a program":           {"application/json", "", http.StatusOK},
		"another site":        {"application/json", "http://evil.example", http.StatusForbidden},
		"the same, by TLS":    {"application/json", strings.Replace(w.Server, "http:", "https:", 1), http.StatusForbidden},
		"a form":              {"text/plain", "", http.StatusForbidden},
		"a form of this site": {"application/x-www-form-urlencoded", w.Server, http.StatusForbidden},
	} {
		request, err := http.NewRequestWithContext(
			t.Context(), http.MethodPost,
			w.Server+"/api/v1/session",
			strings.NewReader(body),
		)
		require.NoError(t, err)
		request.Header.Set("Content-Type", c.kind)
		if c.origin != "" {
			request.Header.Set("Origin", c.origin)
		}
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, c.code, answer.StatusCode, name)
	}
}

// Who a step acts as, and who may do what, is the lane's matter and not a step's.
func TestAStepChangesNoRoleUnlessItsLaneSaysSo(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Write(
		map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int);\nDO $$ BEGIN EXECUTE 'RESET ROLE'; END $$;"},
	)
	_, err := w.Submit(ctx, "harbour", os.DirFS(w.Steps))
	var refused *client.Error
	require.ErrorAs(t, err, &refused)
	require.Len(t, refused.Errors, 1)
	assert.Equal(t, 2, refused.Errors[0].Line)
	assert.Contains(
		t, refused.Errors[0].Message,
		"RESET ROLE: this lane's steps may not change as whom the session goes on; role: in lane.yaml says whose the "+
			"objects are",
	)
	_, err = w.Declare(
		ctx, "lane.yaml",
		fmt.Appendf(
			nil,
			"lane: harbour\nsteps-may: [session-user]\nenvironments: [{name: development, target: 'file:%s'}]",
			w.Files["development"],
		),
	)
	require.ErrorContains(t, err, "confirm", "it is a loosening")
	w.LetSteps("session-user")
	must(w.Submit(ctx, "harbour", os.DirFS(w.Steps)))
	assert.Equal(t, deploy.Done, w.Promoted("development").Outcome)
}
