package service_test

import (
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/openidtest"
	"vorrang/internal/servicetest"
	"vorrang/service"
)

// federated is a service whose people sign in at a provider.
func federated(t *testing.T) (*servicetest.World, *openidtest.Provider) {
	provider := openidtest.Start(t)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte(openidtest.Secret+"\n"), 0o600))
	return servicetest.StartWith(t, func(address string) *service.OpenID {
		o, err := service.ReadOpenID(
			"sign-in.yaml",
			[]byte("issuer: "+provider.URL+"\nclient: vorrang\nsecret: file:"+secret+"\npublic: "+address+
				"\nroles:\n  harbour-releases: [releaser@harbour, reader]\n  harbour-keepers: [keeper@harbour]\n"),
		)
		require.NoError(t, err)
		return o
	}), provider
}

// browse signs in as a browser does, and returns where it ends, and with which
// session.
func browse(t *testing.T, w *servicetest.World) (landed *url.URL, session []*http.Cookie) {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	answer, err := (&http.Client{Jar: jar}).Get(w.Server + "/api/v1/session/openid")
	require.NoError(t, err)
	defer answer.Body.Close()
	home, err := url.Parse(w.Server)
	require.NoError(t, err)
	return answer.Request.URL, jar.Cookies(home)
}

func problemIn(landed *url.URL) string { return landed.Query().Get("problem") }

func TestPeopleSignInByOpenIDConnect(t *testing.T) {
	w, provider := federated(t)
	ctx := t.Context()
	provider.As("4711", "L.Berg", "harbour-releases", "choir")
	landed, cookies := browse(t, w)
	assert.Equal(t, "/", landed.RequestURI())
	require.Len(t, cookies, 1)
	person := must(w.People(ctx, client.ListQuery{})).People[0]
	assert.Equal(t, "l.berg", person.Name)
	assert.Equal(t, provider.URL+" 4711", person.Subject)
	assert.Equal(
		t,
		[]string{"releaser@harbour", "reader"},
		[]string{person.FromGroups[0].String(), person.FromGroups[1].String()},
	)

	provider.As("4711", "L.Berg", "choir")
	browse(t, w)
	assert.Empty(t, must(w.People(ctx, client.ListQuery{})).People[0].FromGroups, "who left a group has left it at the next sign-in")

	provider.As("0815", "L.Berg", "harbour-keepers")
	landed, cookies = browse(t, w)
	assert.Equal(t, "name-taken", problemIn(landed))
	assert.Empty(t, cookies)
	password := servicetest.Password
	_, err := w.PutPerson(ctx, "l.berg", client.PersonChange{Password: &password})
	assert.ErrorContains(t, err, "signs in elsewhere")
	_, err = w.Login(ctx, "l.berg", "", "x")
	assert.ErrorContains(t, err, "the name or the password is not right")

	yes := true
	must(w.PutPerson(ctx, "l.berg", client.PersonChange{Disabled: &yes}))
	provider.As("4711", "L.Berg", "harbour-releases")
	landed, _ = browse(t, w)
	assert.Equal(t, "disabled", problemIn(landed))
}

func TestAForgedSignInIsRefused(t *testing.T) {
	w, provider := federated(t)
	provider.As("4711", "l.berg")
	for name, spoil := range map[string]func(map[string]any){
		"another audience":  func(claims map[string]any) { claims["aud"] = "another" },
		"another issuer":    func(claims map[string]any) { claims["iss"] = "https://evil.example" },
		"another sign-in":   func(claims map[string]any) { claims["nonce"] = "replayed" },
		"too old":           func(claims map[string]any) { claims["exp"] = time.Now().Add(-time.Hour).Unix() },
		"a name of no form": func(claims map[string]any) { claims["preferred_username"] = "l berg\n" },
	} {
		provider.Spoil = spoil
		landed, cookies := browse(t, w)
		assert.NotEmpty(t, problemIn(landed), name)
		assert.Empty(t, cookies, name)
	}
	provider.Spoil = nil
	answer, err := http.Get(w.Server + "/api/v1/session/openid/callback?state=x&code=y")
	require.NoError(t, err)
	defer answer.Body.Close()
	assert.Equal(t, "expired", problemIn(answer.Request.URL))

	// the link of a sign-in that somebody else began
	stopped := &http.Client{CheckRedirect: func(req *http.Request, _ []*http.Request) error {
		if req.URL.Path == "/api/v1/session/openid/callback" {
			return http.ErrUseLastResponse
		}
		return nil
	}}
	begun, err := stopped.Get(w.Server + "/api/v1/session/openid")
	require.NoError(t, err)
	defer begun.Body.Close()
	stolen, err := http.Get(begun.Header.Get("Location"))
	require.NoError(t, err)
	defer stolen.Body.Close()
	assert.Equal(t, "expired", problemIn(stolen.Request.URL))
}

func TestTheFileOfTheOtherWayIn(t *testing.T) {
	const good = "issuer: https://id.example\nclient: vorrang\nsecret: env:SECRET\npublic: https://vorrang.example\n"
	for text, message := range map[string]string{
		good + "roles: {a: [captain]}\n": `sign-in.yaml: roles: a: "captain" is not a role`,
		good + "password: x\n":           "sign-in.yaml:",
		good[:len(good)-len("env:SECRET\npublic: https://vorrang.example\n")] +
			"hunter2\npublic: https://v.example\n": "no secret may be in this file",
		"issuer: x\n": "it is an address such as",
	} {
		_, err := service.ReadOpenID("sign-in.yaml", []byte(text))
		assert.ErrorContains(t, err, message)
	}
	_, err := service.ReadOpenID("sign-in.yaml", []byte(good))
	assert.NoError(t, err)
}
