package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gofiber/fiber/v3"
	"go.yaml.in/yaml/v4"
	"golang.org/x/oauth2"
	"golang.org/x/sync/singleflight"

	"vorrang/core/access"
	"vorrang/core/lane"
	"vorrang/records"
	"vorrang/service/api"
)

// OpenID is how people sign in by OpenID Connect: with the authorization code
// flow and PKCE. docs/operations.md describes the file that it is read from.
type OpenID struct {
	Issuer string              `yaml:"issuer"`
	Client string              `yaml:"client"`
	Secret string              `yaml:"secret"` // where it is: env:NAME or file:PATH
	Public string              `yaml:"public"` // the service's own address, as browsers see it
	Name   string              `yaml:"name"`   // the claim that people are called by here
	Groups string              `yaml:"groups"` // the claim that lists their groups
	Scopes []string            `yaml:"scopes"` // beside openid
	Roles  map[string][]string `yaml:"roles"`  // what groups grant
}

// ReadOpenID reads the file; its name is for errors.
func ReadOpenID(name string, text []byte) (*OpenID, error) {
	o := &OpenID{Name: "preferred_username", Groups: "groups", Scopes: []string{"profile", "email"}}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(o); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for field, value := range map[string]string{"issuer": o.Issuer, "public": o.Public} {
		if address, err := url.Parse(value); err != nil || address.Host == "" {
			return nil, fmt.Errorf("%s: %s: it is an address such as https://…, not %q", name, field, value)
		}
	}
	if o.Client == "" {
		return nil, fmt.Errorf("%s: client: name the client that the provider knows this service as", name)
	}
	if !lane.IsReference(o.Secret) {
		return nil, fmt.Errorf("%s: secret: no secret may be in this file; write env:NAME or file:PATH", name)
	}
	for group, grants := range o.Roles {
		for _, text := range grants {
			if _, err := access.ParseGrant(text); err != nil {
				return nil, fmt.Errorf("%s: roles: %s: %w", name, group, err)
			}
		}
	}
	return o, nil
}

// grants is what groups grant together.
func (o *OpenID) grants(groups []string) access.Grants {
	list := access.Grants{}
	for _, group := range groups {
		for _, text := range o.Roles[group] {
			if g, err := access.ParseGrant(text); err == nil && !list.Has(g) {
				list = append(list, g)
			}
		}
	}
	return list
}

const (
	openIDCookie   = "vorrang_openid"
	openIDPath     = "/api/v1/session/openid"
	openIDPatience = 10 * time.Minute // to sign in over there
	mostUnderWay   = 1000
)

// openIDSignIn is the provider, once it has been found.
type openIDSignIn struct {
	asking singleflight.Group // the provider

	mu       sync.Mutex // is never held while the provider is asked
	provider *oidc.Provider
}

// find asks the provider for its addresses and keys, the first time. Whoever asks
// meanwhile waits for the same answer, and nobody else waits.
func (d *openIDSignIn) find(ctx context.Context, o *OpenID) (*oidc.Provider, error) {
	d.mu.Lock()
	known := d.provider
	d.mu.Unlock()
	if known != nil {
		return known, nil
	}
	answer := d.asking.DoChan("", func() (any, error) {
		client := &http.Client{Timeout: 10 * time.Second}
		provider, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), client), o.Issuer)
		if err != nil {
			return nil, refuse(
				http.StatusBadGateway, "unreachable",
				"The provider does not answer",
				by("try again, or sign in by name and password"),
				"the OpenID Connect provider %s cannot be used: %s",
				o.Issuer, err,
			)
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		d.provider = provider
		return provider, nil
	})
	select {
	case result := <-answer:
		provider, _ := result.Val.(*oidc.Provider) // nil with an error
		return provider, result.Err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (o *OpenID) config(provider *oidc.Provider) (*oauth2.Config, error) {
	secret, err := o.Secret, error(nil)
	if lane.IsReference(secret) {
		secret, err = resolve(secret, mostReferred) // by the service's own settings, which may refer to anything
	}
	return &oauth2.Config{
		ClientID: o.Client, ClientSecret: secret, Endpoint: provider.Endpoint(),
		RedirectURL: strings.TrimSuffix(o.Public, "/") + openIDPath + "/callback",
		Scopes:      append([]string{oidc.ScopeOpenID}, o.Scopes...),
	}, err
}

func (s *identities) waysIn(call, *nothing) (*api.WaysIn, error) {
	ways := &api.WaysIn{Token: s.Token != ""}
	if s.OpenID != nil {
		ways.OpenID = s.OpenID.Issuer
	}
	return ways, nil
}

// openID sends the browser to the provider.
func (s *identities) openID(c call, _ *nothing) (*nothing, error) {
	if s.OpenID == nil {
		return nil, notFound(
			"way to sign in", "by OpenID Connect",
			by("the service's operator sets one up: docs/people.md"),
		)
	}
	wait, _, err := s.Records.AllowSignIn(c, signInLimits, "", s.networkOf(c.fiber), time.Now())
	if err != nil {
		return nil, err
	}
	if wait > 0 {
		return nil, s.home(c, tooManySignIns)
	}
	provider, err := s.openIDSignIn.find(c, s.OpenID)
	if err != nil {
		return nil, s.away(c, err)
	}
	config, err := s.OpenID.config(provider)
	if err != nil {
		return nil, s.away(c, err)
	}
	state, cookie := newSecret(""), newSecret("")
	u := records.UnderWay{
		Cookie:   hashed(cookie),
		Nonce:    newSecret(""),
		Verifier: oauth2.GenerateVerifier(),
		Expires:  time.Now().Add(openIDPatience),
	}
	kept, err := s.Records.LeaveForOpenID(c, state, u, mostUnderWay)
	if err != nil {
		return nil, err
	}
	if !kept {
		return nil, s.home(c, tooManySignIns)
	}
	c.fiber.Cookie(
		&fiber.Cookie{Name: openIDCookie, Value: cookie, Path: openIDPath, MaxAge: int(openIDPatience.Seconds()),
			HTTPOnly: true, SameSite: fiber.CookieSameSiteLaxMode, Secure: s.overTLS(c.fiber)},
	)
	return nil, c.fiber.Redirect().
		Status(http.StatusFound).
		To(config.AuthCodeURL(state, oidc.Nonce(u.Nonce), oauth2.S256ChallengeOption(u.Verifier)))
}

// Why a sign-in elsewhere failed, in words that the console has sentences for: a
// sentence in the address could be anybody's.
const (
	tooManySignIns    = "too-many"
	providerAway      = "provider-away"
	signInExpired     = "expired"
	providerRefused   = "provider-refused"
	nameUnusable      = "name-unusable"
	nameTaken         = "name-taken"
	personDisabled    = "disabled"
	signInNotRecorded = "not-recorded"
)

// away says that the provider cannot be used, and logs why.
func (s *identities) away(c call, err error) error {
	s.Log.Warn("the OpenID Connect provider cannot be used", "error", err)
	return s.home(c, providerAway)
}

// home sends the browser to the console, which shows what was wrong.
func (s *identities) home(c call, problem string) error {
	to := "/"
	if problem != "" {
		to += "?problem=" + problem
	}
	return c.fiber.Redirect().Status(http.StatusSeeOther).To(to)
}

type callbackIn struct {
	State string `query:"state"`
	Code  string `query:"code"`
	Error string `query:"error"`
}

func (callbackIn) addedTo() {}

// openIDBack takes the browser back from the provider.
func (s *identities) openIDBack(c call, in *callbackIn) (*nothing, error) {
	if s.OpenID == nil {
		return nil, notFound(
			"way to sign in", "by OpenID Connect",
			by("the service's operator sets one up: docs/people.md"),
		)
	}
	name, why, err := s.finishSignIn(c, in)
	s.book.auditSignIn(c, cmp.Or(name, "somebody"), 0, err)
	if err != nil {
		return nil, s.home(c, why)
	}
	return nil, s.home(c, "")
}

// finishSignIn opens a session, or says why not: in a word for the browser, and in an
// error for the audit.
func (s *identities) finishSignIn(c call, in *callbackIn) (name, why string, err error) {
	u, err := s.Records.BackFromOpenID(c, in.State, hashed(c.fiber.Cookies(openIDCookie)))
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return "", signInNotRecorded, err
	}
	if err != nil {
		return "", signInExpired, unauthorized(
			"this sign-in was not begun in this browser, or took too long; begin again",
		)
	}
	if in.Error != "" || in.Code == "" {
		return "", providerRefused, unauthorized(
			"the provider said no: " + cmp.Or(oneLine(in.Error), "it gave no code"),
		)
	}
	claims, subject, err := s.claims(c, u, in.Code)
	if err != nil {
		return "", providerRefused, err
	}
	name, _ = claims[s.OpenID.Name].(string)
	name = strings.ToLower(name)
	if err := access.CheckName(name); err != nil {
		return "", nameUnusable, unauthorized(fmt.Sprintf("the claim %s: %s", s.OpenID.Name, err))
	}
	person, err := s.Records.SignedInElsewhere(
		c, name,
		s.OpenID.Issuer+" "+subject,
		s.OpenID.grants(texts(claims[s.OpenID.Groups])),
	)
	if errors.Is(err, records.ErrTaken) {
		return name, nameTaken, unauthorized("the name " + name + " belongs to somebody else here")
	}
	if err != nil {
		return name, signInNotRecorded, err
	}
	if person.Disabled != nil {
		return person.Name, personDisabled, unauthorized(person.Name + " may not sign in any more")
	}
	_, err = s.openSession(c, caller{Name: person.Name, Person: true, Grants: person.All()}, &person)
	return person.Name, signInNotRecorded, err
}

// claims changes the code for an identity token, and checks it.
func (s *identities) claims(ctx context.Context, u records.UnderWay, code string) (claims map[string]any, subject string, err error) {
	provider, err := s.openIDSignIn.find(ctx, s.OpenID)
	if err != nil {
		return nil, "", err
	}
	config, err := s.OpenID.config(provider)
	if err != nil {
		return nil, "", err
	}
	ctx = oidc.ClientContext(ctx, &http.Client{Timeout: 10 * time.Second})
	tokens, err := config.Exchange(ctx, code, oauth2.VerifierOption(u.Verifier))
	if err != nil {
		s.Log.Warn("a code was not taken", "issuer", s.OpenID.Issuer, "error", err)
		return nil, "", unauthorized("the provider did not take its code back; begin again")
	}
	raw, _ := tokens.Extra("id_token").(string)
	token, err := provider.Verifier(&oidc.Config{ClientID: s.OpenID.Client}).Verify(ctx, raw)
	if err != nil {
		return nil, "", unauthorized("the provider's identity token does not hold: " + err.Error())
	}
	if token.Nonce != u.Nonce {
		return nil, "", unauthorized("the provider's identity token is for another sign-in")
	}
	return claims, token.Subject, token.Claims(&claims)
}

// texts reads a claim that is a text or a list of texts.
func texts(claim any) []string {
	var list []string
	switch claim := claim.(type) {
	case string:
		list = append(list, claim)
	case []any:
		for _, one := range claim {
			if text, is := one.(string); is {
				list = append(list, text)
			}
		}
	}
	return slices.Compact(list)
}
