// Package openidtest is a small OpenID Connect provider for tests: it lets
// everybody in as whom the test says, and checks what a provider checks.
package openidtest

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"
)

// What every client of the provider is called, and proves itself with.
const (
	Client = "vorrang"
	Secret = "the-client's-secret-of-the-tests"
)

// Provider is a running provider.
type Provider struct {
	URL string

	mu     sync.Mutex
	claims map[string]any
	codes  map[string]url.Values // what the authorization was asked for
	key    *rsa.PrivateKey
	Spoil  func(claims map[string]any) // changes what is signed; nil for nothing
}

// Start starts a provider.
func Start(t testing.TB) *Provider {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &Provider{key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	p.URL = server.URL
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(
			w,
			map[string]any{
				"issuer":                                p.URL,
				"authorization_endpoint":                p.URL + "/authorize",
				"token_endpoint":                        p.URL + "/token",
				"jwks_uri":                              p.URL + "/keys",
				"id_token_signing_alg_values_supported": []string{"RS256"},
			},
		)
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(
			w,
			jose.JSONWebKeySet{
				Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}},
			},
		)
	})
	mux.HandleFunc("/authorize", p.authorize)
	mux.HandleFunc("/token", p.token)
	return p
}

// As lets the next people in as somebody, with these groups.
func (p *Provider) As(subject, name string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = map[string]any{"sub": subject, "preferred_username": name, "groups": groups}
}

func answer(w http.ResponseWriter, body any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body)
}

// authorize sends the browser back with a code at once.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	asked := r.URL.Query()
	if asked.Get("response_type") != "code" || asked.Get("client_id") != Client ||
		asked.Get("code_challenge_method") != "S256" ||
		asked.Get("nonce") == "" {
		http.Error(w, "the authorization request is not as it should be", http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	code := rand.Text()
	p.codes[code] = asked
	http.Redirect(
		w, r,
		asked.Get("redirect_uri")+"?"+url.Values{"state": {asked.Get("state")}, "code": {code}}.Encode(),
		http.StatusFound,
	)
}

// token changes a code for an identity token, once, and only for whoever knows
// the verifier of its challenge.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	asked, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	id, secret, basic := r.BasicAuth()
	if !basic {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if id, err := url.QueryUnescape(id); err != nil || id != Client {
		known = false
	}
	if secret, err := url.QueryUnescape(secret); err != nil || secret != Secret {
		known = false
	}
	challenge := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if !known || base64.RawURLEncoding.EncodeToString(challenge[:]) != asked.Get("code_challenge") ||
		r.FormValue("redirect_uri") != asked.Get("redirect_uri") {
		w.WriteHeader(http.StatusBadRequest)
		answer(w, map[string]string{"error": "invalid_grant"})
		return
	}
	claims := map[string]any{"iss": p.URL, "aud": Client, "nonce": asked.Get("nonce"),
		"iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
	for name, value := range p.claims {
		claims[name] = value
	}
	if p.Spoil != nil {
		p.Spoil(claims)
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "1"}},
		nil,
	)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	signed, err := jwt.Signed(signer).Claims(claims).Serialize()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": signed})
}
