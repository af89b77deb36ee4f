package service

import (
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/time/rate"

	"vorrang/core/access"
	"vorrang/records"
	"vorrang/service/api"
)

const (
	sessionLength  = 12 * time.Hour
	ownTokenLength = 30 * 24 * time.Hour
	longestToken   = 366 * 24 * time.Hour
)

// tries bounds how often somebody may try to sign in, for a name and for an
// address.
type tries struct {
	mu    sync.Mutex
	known map[string]*rate.Limiter
}

const (
	triesAtOnce = 8
	triesEvery  = 6 * time.Second
	mostTried   = 10_000 // names and addresses that are remembered
)

// allow counts a try; false if there were too many.
func (t *tries) allow(key string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.known) >= mostTried {
		for known, limiter := range t.known {
			if limiter.Tokens() >= triesAtOnce {
				delete(t.known, known) // it has been quiet
			}
		}
	}
	if t.known == nil || len(t.known) >= mostTried {
		t.known = map[string]*rate.Limiter{}
	}
	limiter := t.known[key]
	if limiter == nil {
		limiter = rate.NewLimiter(rate.Every(triesEvery), triesAtOnce)
		t.known[key] = limiter
	}
	return limiter.Allow()
}

// clear forgets the tries of somebody who has signed in.
func (t *tries) clear(key string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.known, key)
}

// signIn opens a session, or gives a person's program a token.
func (s *Service) signIn(c call, in *api.SignIn) (*api.Session, error) {
	name := strings.ToLower(strings.TrimSpace(in.Name))
	allowed := s.tries.allow("from " + c.fiber.IP())
	if in.Password != "" {
		allowed = s.tries.allow("as "+name) && allowed
	}
	if !allowed {
		c.fiber.Set(fiber.HeaderRetryAfter, "60")
		err := refuse(http.StatusTooManyRequests, "too-many", "Too many tries", "wait a minute, then try again",
			"there were too many tries to sign in as %s, or from your address", in.Name)
		s.auditSignIn(c, name, err)
		return nil, err
	}
	session, err := s.prove(c, in, name)
	s.auditSignIn(c, name, err)
	if err == nil {
		s.tries.clear("as " + name)
		s.tries.clear("from " + c.fiber.IP())
	}
	return session, err
}

// prove lets somebody in who knows the password, or the administrator's token.
func (s *Service) prove(c call, in *api.SignIn, name string) (*api.Session, error) {
	if in.Token != "" {
		if !s.isToken(in.Token) {
			return nil, unauthorized("that is not the administrator's token")
		}
		who := caller{Name: cleanActor(in.Name, "administrator"), Via: viaAdministrator, Grants: everything}
		return s.openSession(c, who, nil)
	}
	person, err := s.Records.Person(c, name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	right, err := isPassword(c, in.Password, person.Password)
	if err != nil {
		return nil, err
	}
	if !right || person.Disabled != nil {
		return nil, unauthorized("the name or the password is not right")
	}
	if in.Machine != "" {
		return s.giveToken(c, person.Name, in.Machine)
	}
	return s.openSession(c, caller{Name: person.Name, Via: "a password", Grants: person.All(), Person: true}, &person)
}

// openSession keeps a new session, and sets its cookie.
func (s *Service) openSession(c call, who caller, person *access.Person) (*api.Session, error) {
	cookie := newSecret("")
	kept := records.Session{Person: person, Name: who.Name}
	if person == nil {
		kept.Key = s.tokenKey()
	}
	if err := s.Records.AddSession(c, hashed(cookie), kept, time.Now().Add(sessionLength)); err != nil {
		return nil, err
	}
	setCookie(c.fiber, cookie, int(sessionLength.Seconds()))
	return sessionOf(who), nil
}

// giveToken makes a person's own token, for the programs of a machine.
func (s *Service) giveToken(c call, person, machine string) (*api.Session, error) {
	token, expires := newSecret(tokenPrefix), time.Now().Add(ownTokenLength)
	_, err := s.Records.AddToken(c, hashed(token), access.Token{Name: cleanActor(machine, "a machine"), Owner: person, MadeBy: person, ExpiresAt: expires})
	return &api.Session{Name: person, Person: true, Grants: access.Grants{}, Token: token, ExpiresAt: &expires}, err
}

func sessionOf(who caller) *api.Session {
	return &api.Session{Name: who.Name, Via: who.Via, Person: who.Person, Grants: append(access.Grants{}, who.Grants...)}
}

type nothing struct{}

// signOut ends a session. A person's own token that asks is revoked; a
// machine's stays.
func (s *Service) signOut(c call, _ *nothing) (*nothing, error) {
	var err error
	switch {
	case c.who.session != "":
		err = s.Records.EndSession(c, c.who.session)
		setCookie(c.fiber, "", -1)
	case c.who.token != 0 && c.who.Person:
		_, err = s.Records.Revoke(c, c.who.token)
	}
	return &nothing{}, err
}

func setCookie(c fiber.Ctx, value string, maxAge int) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: maxAge,
		HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: c.Scheme() == "https"})
}

func (s *Service) session(c call, _ *nothing) (*api.Session, error) { return sessionOf(c.who), nil }

type ownTokenIn struct {
	Machine string `json:"machine" required:"true" description:"Whose programs use it; for the list of tokens."`
}

func (s *Service) makeOwnToken(c call, in *ownTokenIn) (*api.Session, error) {
	if !c.who.Person {
		return nil, refused("vorrang token makes a machine's", "%s is no person, and has no token of its own to make", c.actor)
	}
	return s.giveToken(c, c.actor, in.Machine)
}

type passwordIn struct {
	Old string `json:"old" required:"true" secret:"true"`
	New string `json:"new" required:"true" secret:"true" minLength:"12"`
}

func (s *Service) changePassword(c call, in *passwordIn) (*nothing, error) {
	if !c.who.Person {
		return nil, refused("", "%s is no person, and has no password", c.actor)
	}
	if !s.tries.allow("as " + c.actor) {
		return nil, refuse(http.StatusTooManyRequests, "too-many", "Too many tries", "wait a minute, then try again", "there were too many tries")
	}
	person, err := s.Records.Person(c, c.actor)
	if err != nil {
		return nil, err
	}
	right, err := isPassword(c, in.Old, person.Password)
	if err != nil {
		return nil, err
	}
	if !right {
		return nil, refused("", "that is not your password")
	}
	if person.Password, err = hashPassword(c, in.New); err != nil {
		return nil, err
	}
	return &nothing{}, s.Records.PutPerson(c, person, true)
}
