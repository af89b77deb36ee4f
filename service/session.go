package service

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/service/api"
)

const (
	cookieName    = "vorrang_session"
	sessionLength = 12 * time.Hour
	actorHeader   = "Vorrang-Actor"
	maxActor      = 80 // bytes
)

type actorKey struct{}

// authorize is the one place where a request is let in: by the bearer token,
// or by a session cookie that the token signed.
func (s *Service) authorize(c fiber.Ctx) error {
	if token, given := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); given {
		if !s.isToken(token) {
			return unauthorized("the bearer token is not the right one")
		}
		c.Locals(actorKey{}, cleanActor(c.Get(actorHeader), "administrator"))
		return c.Next()
	}
	name, valid := s.readCookie(c.Cookies(cookieName), time.Now())
	if !valid {
		return unauthorized("nobody is signed in")
	}
	if c.Method() != fiber.MethodGet && !sameOrigin(c) {
		return refuse(http.StatusForbidden, "unauthorized", "Another site asked", "", "a session's requests come from the console's own pages only")
	}
	c.Locals(actorKey{}, name)
	return c.Next()
}

func unauthorized(detail string) error {
	return refuse(http.StatusUnauthorized, "unauthorized", "Sign in first",
		"send the header  Authorization: Bearer TOKEN ; vorrang takes the token from VORRANG_TOKEN", "%s", detail)
}

func (s *Service) isToken(token string) bool {
	want, got := sha256.Sum256([]byte(s.Token)), sha256.Sum256([]byte(token))
	return subtle.ConstantTimeCompare(want[:], got[:]) == 1
}

// sameOrigin refuses what another site's page sends with the cookie.
func sameOrigin(c fiber.Ctx) bool {
	origin := c.Get(fiber.HeaderOrigin)
	if origin == "" {
		return c.Get("Sec-Fetch-Site") == "" || c.Get("Sec-Fetch-Site") == "same-origin"
	}
	from, err := url.Parse(origin)
	return err == nil && from.Host == c.Host()
}

func actorOf(c fiber.Ctx) string {
	name, _ := c.Locals(actorKey{}).(string)
	return name
}

// cleanActor keeps a self-given name to one short line.
func cleanActor(name, otherwise string) string {
	name = strings.Join(strings.Fields(name), " ")
	if name == "" {
		return otherwise
	}
	return strings.ToValidUTF8(name[:min(len(name), maxActor)], "")
}

// cookie is NAME.EXPIRY.SIGNATURE; it holds no secret.
func (s *Service) cookie(name string, expires time.Time) string {
	body := base64.RawURLEncoding.EncodeToString([]byte(name)) + "." + strconv.FormatInt(expires.Unix(), 10)
	return body + "." + s.sign(body)
}

func (s *Service) sign(body string) string {
	mac := hmac.New(sha256.New, []byte("vorrang session\x00"+s.Token))
	mac.Write([]byte(body))
	return hex.EncodeToString(mac.Sum(nil))
}

func (s *Service) readCookie(cookie string, now time.Time) (name string, valid bool) {
	at := strings.LastIndexByte(cookie, '.')
	if at < 0 || !hmac.Equal([]byte(s.sign(cookie[:at])), []byte(cookie[at+1:])) {
		return "", false
	}
	encoded, expiry, _ := strings.Cut(cookie[:at], ".")
	expires, err := strconv.ParseInt(expiry, 10, 64)
	if err != nil || now.Unix() >= expires {
		return "", false
	}
	decoded, err := base64.RawURLEncoding.DecodeString(encoded)
	return string(decoded), err == nil
}

func (s *Service) signIn(c call, in *api.SignIn) (*api.Session, error) {
	if !s.isToken(in.Token) {
		return nil, unauthorized("that is not the token")
	}
	name := cleanActor(in.Name, "administrator")
	s.setCookie(c.fiber, s.cookie(name, time.Now().Add(sessionLength)), int(sessionLength.Seconds()))
	return &api.Session{Name: name}, nil
}

type nothing struct{}

func (s *Service) signOut(c call, _ *nothing) (*nothing, error) {
	s.setCookie(c.fiber, "", -1)
	return &nothing{}, nil
}

func (s *Service) setCookie(c fiber.Ctx, value string, maxAge int) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: maxAge,
		HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: c.Scheme() == "https"})
}

func (s *Service) session(c call, _ *nothing) (*api.Session, error) {
	return &api.Session{Name: c.actor}, nil
}
