package service_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/access"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// who is the table of who may make which call, written down a second time: r
// reader, a author, l releaser, p approver, k keeper, t reporter. The
// administrator may all. Calls about oneself take no role:
// "self", and signing in takes nothing: "open".
var who = map[string]string{
	"POST /api/v1/session":                                "open",
	"GET /api/v1/session/ways":                            "open",
	"GET /api/v1/session/openid":                          "open",
	"GET /api/v1/session/openid/callback":                 "open",
	"GET /api/v1/session":                                 "self",
	"DELETE /api/v1/session":                              "self",
	"POST /api/v1/session/tokens":                         "self",
	"GET /api/v1/session/tokens":                          "self",
	"DELETE /api/v1/session/tokens/{token}":               "self",
	"POST /api/v1/session/password":                       "self",
	"GET /api/v1/engines":                                 "self",
	"GET /api/v1/engines/{engine}/findings":               "self",
	"GET /api/v1/people":                                  "",
	"GET /api/v1/services":                                "",
	"PUT /api/v1/people/{person}":                         "",
	"GET /api/v1/tokens":                                  "",
	"POST /api/v1/tokens":                                 "",
	"DELETE /api/v1/tokens/{token}":                       "",
	"GET /api/v1/audit":                                   "",
	"GET /api/v1/hooks":                                   "",
	"PUT /api/v1/hooks/{hook}":                            "",
	"DELETE /api/v1/hooks/{hook}":                         "",
	"GET /api/v1/deliveries":                              "",
	"POST /api/v1/lanes":                                  "",
	"GET /api/v1/lanes":                                   "ralpk",
	"GET /api/v1/deployments":                             "ralpk",
	"GET /api/v1/deployments/{id}":                        "ralpk",
	"GET /api/v1/lanes/{lane}":                            "ralpk",
	"POST LANE/submissions":                               "a",
	"POST LANE/bundles":                                   "l",
	"POST LANE/submissions/trial":                         "ralpk",
	"POST LANE/texts/known":                               "ralpk",
	"POST LANE/reviews":                                   "ralpk",
	"POST LANE/steps/{step}/withdrawal":                   "a",
	"GET LANE/steps/{step}":                               "ralpk",
	"GET LANE/releases":                                   "ralpk",
	"POST LANE/releases":                                  "l",
	"GET LANE/releases/{release}":                         "ralpk",
	"GET LANE/releases/{release}/bundle":                  "ralpk",
	"POST LANE/releases/{release}/signatures":             "alpk",
	"GET LANE/verification":                               "ralpk",
	"GET ENV":                                             "ralpk",
	"GET ENV/probe":                                       "ralpk",
	"GET ENV/steps":                                       "ralpk",
	"GET ENV/ledger":                                      "ralpk",
	"GET ENV/ledger/setup":                                "ralpk",
	"GET ENV/gate":                                        "ralpk",
	"GET ENV/preview":                                     "ralpk",
	"GET ENV/steps/{step}/evidence":                       "ralpk",
	"POST ENV/promotions":                                 "l",
	"POST ENV/rollbacks":                                  "l",
	"POST ENV/rebuilds":                                   "l",
	"POST ENV/attestations":                               "k",
	"POST ENV/amendments":                                 "k",
	"GET ENV/adoption":                                    "ralpk",
	"POST ENV/adoptions":                                  "k",
	"POST ENV/settlements":                                "k",
	"POST ENV/baselines":                                  "k",
	"POST ENV/rehearsals":                                 "alpk",
	"GET ENV/rehearsals":                                  "ralpk",
	"GET ENV/rehearsals/{rehearsal}":                      "ralpk",
	"GET ENV/rehearsals/{rehearsal}/events":               "ralpk",
	"POST ENV/rehearsals/{rehearsal}/cancellation":        "alpk",
	"POST ENV/approvals":                                  "p",
	"POST ENV/approvals/withdrawal":                       "p",
	"POST ENV/waivers":                                    "k",
	"POST LANE/drafts":                                    "alpk",
	"GET ENV/drift":                                       "ralpk",
	"POST ENV/acceptances":                                "k",
	"GET ENV/effects":                                     "ralpk",
	"GET ENV/schemas":                                     "ralpk",
	"GET ENV/map":                                         "ralpk",
	"GET ENV/map.svg":                                     "ralpk",
	"GET LANE/comparison":                                 "ralpk",
	"POST LANE/comparisons":                               "alpk",
	"GET LANE/scheduled":                                  "ralpk",
	"DELETE ENV/scheduled/{scheduled}":                    "l",
	"PUT ENV/aside":                                       "k",
	"DELETE ENV/aside":                                    "k",
	"POST ENV/freezes":                                    "lpk",
	"POST ENV/thaw":                                       "pk",
	"POST ENV/backups":                                    "kt",
	"GET /api/v1/deployments/{id}/events":                 "ralpk",
	"GET ENV/report":                                      "ralpk",
	"GET /api/v1/deployments/{id}/footprints":             "ralpk",
	"POST /api/v1/deployments/{id}/cancellation":          "l",
	"GET /api/v1/fleet-deployments":                       "ralpk",
	"GET /api/v1/fleet-deployments/{fleet}":               "ralpk",
	"POST /api/v1/fleet-deployments/{fleet}/pause":        "l",
	"POST /api/v1/fleet-deployments/{fleet}/resumption":   "l",
	"POST /api/v1/fleet-deployments/{fleet}/cancellation": "l",
}

var letters = map[access.Role]string{
	access.Reader:   "r",
	access.Author:   "a",
	access.Releaser: "l",
	access.Approver: "p",
	access.Keeper:   "k",
	access.Reporter: "t",
}

func TestEveryRouteIsHeldAgainstATableOfWhoMay(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	w.Promoted("staging") // deployment 1
	pgtest.Exec(t, w.Records, `INSERT INTO records.fleet_deployment (lane, environment, direction, wish, waves, outcome, actor, who,
		service) VALUES ('harbour', 'staging', 'forward', '{}', '{}', 'done', 'pilot', '{}', 1)`)
	expand := strings.NewReplacer(
		"ENV",
		"/api/v1/lanes/{lane}/environments/{environment}",
		"LANE", "/api/v1/lanes/{lane}",
	)
	table := map[string]string{}
	for route, may := range who {
		table[expand.Replace(route)] = may
	}
	tokens := map[string]string{}
	tokens["nobody"] = w.As("nobody").Token
	person := func(name string, grants ...string) {
		tokens[name] = must(w.MakeToken(t.Context(), name, grants, time.Hour)).Text // no passwords to be hashed
	}
	tokens["administrator"] = servicetest.Token // a machine's token makes none
	for role := range letters {
		person(string(role), string(role)+"@harbour")
		person(string(role)+"-there", string(role)+"@harbour/staging")
		person(string(role)+"-elsewhere", string(role)+"@harbour/production")
	}
	ask := func(method, path, token string) (int, string) {
		req, err := http.NewRequestWithContext(
			t.Context(), method, w.Server+path,
			bytes.NewReader([]byte(`{"unknown": 1}`)),
		)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer answer.Body.Close()
		var problem struct{ Detail string }
		_ = json.NewDecoder(answer.Body).Decode(&problem) // not every answer is one
		return answer.StatusCode, problem.Detail
	}
	asked := 0
	for path, methods := range operations(t) {
		for _, method := range methods {
			route := method + " " + path
			may, listed := table[route]
			if !assert.True(t, listed, "%s is not in the table", route) || may == "self" || may == "open" {
				continue
			}
			filled := strings.NewReplacer("{lane}", "harbour", "{environment}", "staging", "{step}", "1", "{id}", "1", "{fleet}", "1",
				"{release}", "none",
				"{person}", "Not A Name", "{token}", "999", "{hook}", "none", "{scheduled}", "999", "{approval}", "999").
				Replace(path)
			expect := func(name string, allowed bool) {
				code, message := ask(method, filled, tokens[name])
				hidden := code == http.StatusNotFound && strings.Contains(path, "{id}") &&
					strings.HasPrefix(message, "there is no deployment 1") ||
					code == http.StatusNotFound && strings.Contains(path, "{fleet}") &&
						strings.HasPrefix(message, "there is no deployment to a fleet")
				assert.Equal(
					t, allowed, code != http.StatusForbidden && !hidden,
					"%s as %s: %d %s",
					route, name, code, message,
				)
				asked++
			}
			expect("nobody", false)
			expect("administrator", true)
			environmental := strings.Contains(path, "{environment}") || strings.Contains(path, "{id}") || strings.Contains(path, "{fleet}")
			looking := len(may) == len(letters)-1 // all but the reporter
			for role, letter := range letters {
				allowed := strings.Contains(may, letter)
				expect(string(role), allowed)
				expect(string(role)+"-there", allowed && (environmental || looking))
				expect(string(role)+"-elsewhere", allowed && looking && !environmental)
			}
		}
	}
	assert.Greater(t, asked, 500)
}

func TestSigningInAndWhatItOpens(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1"})
	pilot := w.As("m.kai", "releaser@harbour/staging", "reader@harbour/development")
	session, err := pilot.Session(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "m.kai", session.Name, "nobody names themselves")
	assert.True(t, session.Person)

	lanes, err := pilot.Lanes(t.Context())
	require.NoError(t, err)
	var seen []string
	for _, e := range lanes.Lanes[0].Environments {
		seen = append(seen, e.Environment)
	}
	assert.Equal(t, []string{"development", "staging"}, seen, "production is not theirs to read")
	w.Promoted("production")
	list, err := pilot.Deployments(t.Context(), client.DeploymentQuery{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, list.Deployments)
	promoted, err := pilot.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	assert.Equal(t, "m.kai", w.Ended(promoted).Actor)
	var answered *client.Error
	_, err = pilot.Promote(t.Context(), "harbour", "production", client.Promotion{})
	require.ErrorAs(t, err, &answered)
	assert.Equal(
		t,
		"m.kai may not do this on harbour/production: it takes releaser or administrator; granted is "+
			"releaser@harbour/staging, reader@harbour/development",
		answered.Detail,
	)

	yes := true
	_, err = w.PutPerson(t.Context(), "m.kai", client.PersonChange{Disabled: &yes})
	require.NoError(t, err)
	_, err = pilot.Session(t.Context())
	require.ErrorAs(t, err, &answered)
	assert.Equal(t, "unauthorized", answered.Kind(), "the token ended with the person")
	_, err = w.Login(t.Context(), "m.kai", servicetest.Password, "x")
	assert.ErrorContains(t, err, "the name or the password is not right")
}

func TestPasswordsAreNotTriedForEver(t *testing.T) {
	w := servicetest.Start(t)
	w.As("m.kai", "reader")
	var last error
	for range 12 {
		_, last = w.Login(t.Context(), "m.kai", "a wrong password", "x")
	}
	var answered *client.Error
	require.ErrorAs(t, last, &answered)
	assert.Equal(t, http.StatusTooManyRequests, answered.Status)
	_, err := w.Login(t.Context(), "m.kai", servicetest.Password, "x")
	require.ErrorAs(t, err, &answered)
	assert.Equal(t, http.StatusTooManyRequests, answered.Status, "the right one has to wait too")
	audit, err := w.Audit(t.Context(), client.AuditSearch{Actor: "m.kai", Operation: "signIn"})
	require.NoError(t, err)
	assert.Less(t, len(audit.Acts), 9, "tries that were not checked are not kept one by one")
	_, err = client.New(w.Server, "", "").Session(t.Context())
	assert.Error(t, err)
}

func TestPeopleChangeTheirPasswords(t *testing.T) {
	w := servicetest.Start(t)
	pilot := w.As("m.kai", "reader")
	assert.ErrorContains(
		t,
		pilot.ChangePassword(t.Context(), "a wrong password", "ebb and flow and ebb"),
		"that is not your password",
	)
	assert.ErrorContains(
		t,
		pilot.ChangePassword(t.Context(), servicetest.Password, "short"),
		"it must have 12 characters or more",
	)
	require.NoError(t, pilot.ChangePassword(t.Context(), servicetest.Password, "ebb and flow and ebb"))
	_, err := pilot.Session(t.Context())
	assert.Error(t, err, "the tokens of before have ended")
	_, err = w.Login(t.Context(), "m.kai", "ebb and flow and ebb", "x")
	assert.NoError(t, err)
}

func TestMachinesHaveTokensOfTheirOwn(t *testing.T) {
	w := servicetest.Start(t)
	w.As("m.kai", "reader")
	for grant, message := range map[string]string{"reporter@moon": "there is no lane moon",
		"reporter@harbour/moon": "there is no environment moon", "pilot": "is not a role", "": "say what the machine may"} {
		_, err := w.MakeToken(
			t.Context(), "backup-job",
			slices.DeleteFunc([]string{grant}, func(g string) bool { return g == "" }),
			time.Hour,
		)
		assert.ErrorContains(t, err, message)
	}
	_, err := w.MakeToken(t.Context(), "m.kai", []string{"releaser"}, time.Hour)
	assert.ErrorContains(t, err, "m.kai is a person's name")
	made, err := w.MakeToken(t.Context(), "backup-job", []string{"reporter@harbour/production"}, time.Hour)
	require.NoError(t, err)
	job := client.New(w.Server, made.Text, "m.kai")
	reported, err := job.Backup(t.Context(), "harbour", "production", "nightly", time.Now().Add(-time.Minute))
	require.NoError(t, err)
	assert.Equal(t, "backup-job", reported.By)
	_, err = job.Backup(t.Context(), "harbour", "staging", "nightly", time.Now())
	assert.ErrorContains(t, err, "may not do this on harbour/staging")

	require.Eventually(t, func() bool { // it is kept a little later
		return must(w.Tokens(t.Context(), client.ListQuery{})).Tokens[0].UsedAt != nil
	}, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, w.Revoke(t.Context(), made.ID))
	assert.ErrorContains(t, w.Revoke(t.Context(), made.ID), "there is no token")
	_, err = job.Session(t.Context())
	assert.ErrorContains(t, err, "the token is not known")
	before := time.Now().Truncate(time.Second)
	short, err := w.MakeToken(t.Context(), "short-lived", []string{"reader"}, time.Minute)
	require.NoError(t, err)
	assert.WithinRange(t, short.ExpiresAt, before.Add(time.Minute), time.Now().Add(time.Minute))
}

func TestTheAuditSaysWhoDidWhat(t *testing.T) {
	w := servicetest.Start(t)
	author := w.As("a.lund", "author@harbour")
	w.Write(map[string]string{"1-a.sql": "SELECT 1"})
	_, err := author.Submit(t.Context(), "harbour", os.DirFS(w.Steps))
	require.NoError(t, err)
	_, err = author.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.Error(t, err)
	keeper := w.As("k.brandt", "keeper@harbour")
	_, err = keeper.Attest(
		t.Context(), "harbour", "staging",
		client.Attestation{Step: "7", Reason: "by hand, on Sunday"},
	)
	require.Error(t, err)
	audit, err := w.Audit(t.Context(), client.AuditSearch{Lane: "harbour"})
	require.NoError(t, err)
	var output []string
	for _, a := range audit.Acts {
		assert.NotEmpty(t, a.Address)
		output = append(output, a.Actor+" "+a.Operation+" "+a.Environment+" "+a.Result)
	}
	assert.Equal(t, []string{
		"k.brandt attest staging there is no step 7 in the catalogue",
		"a.lund promote staging a.lund may not do this on harbour/staging: it takes releaser or administrator; granted is " +
			"author@harbour",
		"a.lund submit  done",
	}, output)
	assert.JSONEq(t, `{"step": "7", "reason": "by hand, on Sunday"}`, string(audit.Acts[0].Detail))
	found, err := w.Audit(t.Context(), client.AuditSearch{Text: "on SUNDAY"})
	require.NoError(t, err)
	assert.Len(t, found.Acts, 1)
	var lines bytes.Buffer
	require.NoError(t, w.ExportAudit(t.Context(), client.AuditSearch{}, &lines))
	assert.Equal(t, strings.Count(lines.String(), "\n"), strings.Count(lines.String(), `{"id":`))
	assert.Contains(t, lines.String(), `"operation":"putPerson"`)
	assert.NotContains(t, lines.String(), servicetest.Password)
	_, err = author.Audit(t.Context(), client.AuditSearch{})
	assert.ErrorContains(t, err, "it takes administrator")
}
