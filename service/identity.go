package service

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/access"
	"vorrang/core/remedy"
	"vorrang/internal/listening"
	"vorrang/records"
)

const (
	cookieName  = "vorrang_session"
	actorHeader = "Vorrang-Actor"
	maxActor    = 80 // bytes
)

// caller is who makes a call.
type caller struct {
	Name   string
	Via    string // how they proved who they are
	Person bool   // somebody who answers for what they approve, and no machine
	Grants access.Grants

	session string // the hash of its cookie; empty for a token
	token   int64  // the token's number, of a person's or a machine's

	since time.Time // of a session: when it was opened

	let access.Scope // what its call is about, by its path, and was let in for
}

// mayLook reports whether the caller may read a lane or an environment.
func (who caller) mayLook(lane, environment string) bool {
	return who.Grants.Allow(access.Looking, access.Scope{Lane: lane, Environment: environment})
}

// mayLookAtAll reports whether nothing is hidden from the caller.
func (who caller) mayLookAtAll() bool {
	return who.Grants.Allow(access.LookingAtAll, access.Scope{})
}

// callers with the administrator's token
const viaAdministrator = "the administrator's token"

type callerKey struct{}

// hidden reports whether a context is that of somebody's call who may not read
// an environment. What the service does by itself sees all.
func hidden(ctx context.Context, lane, environment string) bool {
	who, is := ctx.Value(callerKey{}).(caller)
	return is && !who.mayLook(lane, environment) && who.let != access.Scope{Lane: lane, Environment: environment}
}

func callerOf(c fiber.Ctx) caller {
	who, _ := c.Locals(callerKey{}).(caller)
	return who
}

// authorize is the one place where a call is let in: it finds out who calls,
// and whether they may.
func (s *identities) authorize(e endpoint) fiber.Handler {
	return func(c fiber.Ctx) error {
		who, err := s.identify(c)
		if err != nil {
			return err
		}
		c.Locals(callerKey{}, who)
		scope, err := s.scopeOf(c)
		if err != nil {
			return err
		}
		// whether a deployment is there is not told
		unseen := scope == access.Scope{} || !who.mayLook(scope.Lane, scope.Environment)
		if id := c.Params("fleet"); id != "" && unseen {
			return noFleetDeployment(id)
		}
		if id := c.Params("id"); id != "" && unseen {
			return noDeployment(id)
		}
		if !e.self && !who.Grants.Allow(e.need, scope) {
			err = forbidden(who, e.need, scope)
			s.book.auditDenied(c, e, who, scope, err)
			return err
		}
		who.let = scope
		c.SetContext(context.WithValue(c.Context(), callerKey{}, who))
		return s.book.audited(c, e, who, scope)
	}
}

// scopeOf is what a call is about, by its path.
func (s *identities) scopeOf(c fiber.Ctx) (access.Scope, error) {
	scope := access.Scope{Lane: c.Params("lane"), Environment: c.Params("environment")}
	name, placeOf := "id", s.Records.PlaceOf // of a deployment
	if c.Params("fleet") != "" {
		name, placeOf = "fleet", s.Records.PlaceOfFleet
	}
	id := c.Params(name)
	if id == "" {
		return scope, nil
	}
	number, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return scope, badRequest(nil, "%s: %q is not a whole number", name, id)
	}
	scope.Lane, scope.Environment, err = placeOf(c.Context(), number)
	if errors.Is(err, records.ErrNotFound) {
		return access.Scope{}, nil
	}
	return scope, err
}

func forbidden(who caller, need access.Need, scope access.Scope) error {
	place := "here"
	switch {
	case scope.Environment != "":
		place = "on " + scope.Lane + "/" + scope.Environment
	case scope.Lane != "":
		place = "for the whole lane " + scope.Lane
	}
	have := "nothing yet"
	if len(who.Grants) > 0 {
		have = strings.Join(who.Grants.Texts(), ", ")
	}
	grant := access.Grant{Role: access.Administrator, Scope: scope} // the least that allows it
	if len(need.Roles) > 0 {
		grant.Role = need.Roles[0]
	}
	next := remedy.Remedy{
		Act:       remedy.Grant,
		Arguments: remedy.Arguments{Person: who.Name, Grant: grant.String()},
		Reason:    "an administrator can grant it",
	}
	if !who.Person {
		next.Act, next.Reason = remedy.MakeToken, "an administrator can make a token that may"
	}
	return refuse(http.StatusForbidden, "forbidden", "Not allowed", todo{next},
		"%s may not do this %s: it takes %s; granted is %s", who.Name, place, need, have)
}

func unauthorized(detail string) error {
	return refuse(
		http.StatusUnauthorized, "unauthorized", "Sign in first",
		or(see(remedy.SignIn, "sign in"), by("programs send a token, which the client takes from VORRANG_TOKEN")),
		"%s", detail,
	)
}

// identify finds out who calls: by a bearer token, or by a session's cookie.
func (s *identities) identify(c fiber.Ctx) (caller, error) {
	if token, given := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); given {
		return s.byToken(c, token)
	}
	cookie := c.Cookies(cookieName)
	if cookie == "" {
		return caller{}, unauthorized("nobody is signed in")
	}
	who, err := s.bySession(c.Context(), hashed(cookie))
	if errors.Is(err, records.ErrNotFound) {
		return caller{}, unauthorized("the session has ended")
	}
	if err != nil {
		return caller{}, err
	}
	if c.Method() != fiber.MethodGet && !s.sameOrigin(c) {
		return caller{}, refuse(
			http.StatusForbidden, "forbidden", "Another site asked", nil,
			"a session's requests come from the console's own pages only",
		)
	}
	return who, nil
}

// bySession is whose a session is, and what they may now. One that the
// administrator's token opened ends with that token.
func (s *identities) bySession(ctx context.Context, key string) (caller, error) {
	session, err := s.Records.Session(ctx, key)
	switch {
	case err != nil:
		return caller{}, err
	case session.Person != nil:
		return caller{
			Name:    session.Name,
			Via:     "a session",
			Person:  true,
			Grants:  session.Person.All(),
			since:   session.MadeAt,
			session: key,
		}, nil
	case session.Key != s.tokenKey():
		return caller{}, records.ErrNotFound
	}
	return caller{Name: session.Name, Via: viaAdministrator, Grants: everything, session: key}, nil
}

// ofToken is whose a token is, and what they may now.
func ofToken(token access.Token) caller {
	who := caller{
		Name:   token.Name,
		Via:    "token " + strconv.FormatInt(token.ID, 10),
		Grants: token.Grants,
		token:  token.ID,
	}
	if token.Person != nil {
		who.Name, who.Person, who.Grants = token.Person.Name, true, token.Person.All()
	}
	return who
}

// everything is granted to whoever has the administrator's token.
var everything = access.Grants{{Role: access.Administrator}}

func (s *identities) byToken(c fiber.Ctx, token string) (caller, error) {
	if s.isToken(token) {
		return caller{
			Name:   cleanActor(c.Get(actorHeader), "administrator"),
			Via:    viaAdministrator,
			Grants: everything,
		}, nil
	}
	known, err := s.Records.Token(c.Context(), hashed(token))
	if errors.Is(err, records.ErrNotFound) {
		return caller{}, unauthorized("the token is not known; it may have expired, or been revoked")
	}
	if err != nil {
		return caller{}, err
	}
	return ofToken(known), nil
}

// isToken reports whether a text is the administrator's token.
func (s *Config) isToken(token string) bool {
	want, got := sha256.Sum256([]byte(s.Token)), sha256.Sum256([]byte(token))
	return s.Token != "" && subtle.ConstantTimeCompare(want[:], got[:]) == 1
}

// tokenKey ties sessions to the administrator's token that opened them.
func (s *Config) tokenKey() string {
	mac := hmac.New(sha256.New, []byte(s.Token))
	mac.Write([]byte("vorrang session"))
	return hex.EncodeToString(mac.Sum(nil))
}

// hashed is how a cookie or a token is kept: they hold 256 random bits, so a
// plain hash cannot be guessed.
func hashed(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// newSecret is 256 random bits after a prefix by which it can be recognised
// where it should not be.
func newSecret(prefix string) string {
	random := make([]byte, 32)
	_, _ = rand.Read(random) // never fails
	return prefix + base64.RawURLEncoding.EncodeToString(random)
}

// sameOrigin refuses what another site's page sends with the cookie.
func (s *Config) sameOrigin(c fiber.Ctx) bool {
	origin := c.Get(fiber.HeaderOrigin)
	if origin == "" {
		return c.Get("Sec-Fetch-Site") == "" || c.Get("Sec-Fetch-Site") == "same-origin"
	}
	from, err := url.Parse(origin)
	scheme := "http"
	if s.overTLS(c) {
		scheme = "https"
	}
	return err == nil && from.Host == c.Host() && from.Scheme == scheme
}

// stillMay reports whether somebody may still read a place: their session or
// token may have ended, or what it grants may have been taken back.
func (s *identities) stillMay(ctx context.Context, who caller, lane, environment string) bool {
	now, err := who, error(nil)
	switch {
	case who.session != "":
		now, err = s.bySession(ctx, who.session)
	case who.token != 0:
		var token access.Token
		token, err = s.Records.TokenNow(ctx, who.token)
		now = ofToken(token)
	}
	if err != nil {
		return !errors.Is(err, records.ErrNotFound) // the records are away
	}
	return now.mayLook(lane, environment)
}

// networkOf is what tries to sign in are counted by: a host has all addresses of an IPv6 /64.
func (s *Config) networkOf(c fiber.Ctx) string {
	address := s.addressOf(c)
	if at, err := netip.ParseAddr(address); err == nil {
		return listening.Network(at).String()
	}
	return address
}

// addressOf is where a request comes from: behind trusted proxies, what the
// first of them was told by the one that it does not trust.
func (s *Config) addressOf(c fiber.Ctx) string {
	address := c.RequestCtx().RemoteIP()
	hops := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	for i := len(hops) - 1; i >= 0 && s.trusted(address); i-- {
		hop := net.ParseIP(strings.TrimSpace(hops[i]))
		if hop == nil {
			break
		}
		address = hop
	}
	return address.String()
}

// trusted reports whether an address is that of a proxy of ours.
func (s *Config) trusted(address net.IP) bool {
	return slices.ContainsFunc(s.Proxies, func(n net.IPNet) bool { return n.Contains(address) })
}

// overTLS reports whether the caller speaks to us over TLS, or to a trusted proxy.
func (s *Config) overTLS(c fiber.Ctx) bool {
	return c.RequestCtx().IsTLS() ||
		s.trusted(c.RequestCtx().RemoteIP()) && c.Get(fiber.HeaderXForwardedProto) == "https"
}

// cleanActor keeps a self-given name to one short line.
func cleanActor(name, otherwise string) string {
	name = strings.Join(strings.Fields(name), " ")
	if name == "" {
		return otherwise
	}
	return strings.ToValidUTF8(name[:min(len(name), maxActor)], "")
}
