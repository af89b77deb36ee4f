package service

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/access"
	"vorrang/core/remedy"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

const (
	sessionLength  = 12 * time.Hour
	ownTokenLength = 30 * 24 * time.Hour
	longestToken   = 366 * 24 * time.Hour
)

// signIn opens a session, or gives a person's program a token.
func (s *identities) signIn(c call, in *api.SignIn) (*api.Session, error) {
	if !s.sameOrigin(c.fiber) || !c.fiber.Is("json") { // what another site's form can send is neither
		return nil, refuse(
			http.StatusForbidden, "forbidden", "Another site asked",
			by("send Content-Type: application/json"),
			"signing in comes from the console's own page, or from a program, as JSON",
		)
	}
	if in.Token != "" && s.isToken(in.Token) { // nobody guesses it, and nobody's guesses may keep it out
		who := caller{Name: cleanActor(in.Name, "administrator"), Via: viaAdministrator, Grants: everything}
		session, err := s.openSession(c, who, nil)
		s.book.auditSignIn(c, who.Name, 0, err)
		return session, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if in.Token != "" {
		name = "administrator"
	}
	var session *api.Session
	refused, err := s.slowly(c, name, func() (err error) {
		session, err = s.prove(c, in, name)
		return err
	})
	if !isTooMany(err) { // those are summed up in the next one that is checked
		s.book.auditSignIn(c, name, refused, err)
	}
	return session, err
}

// slowly looks at a try to be somebody, unless it comes too early after wrong
// ones. It says how many tries were refused before.
func (s *identities) slowly(c call, name string, try func() error) (refused int, err error) {
	address := s.networkOf(c.fiber)
	wait, refused, err := s.Records.AllowSignIn(c, signInLimits, name, address, time.Now())
	if err != nil {
		return 0, err
	}
	if wait > 0 {
		seconds := int(wait/time.Second) + 1
		c.fiber.Set(fiber.HeaderRetryAfter, strconv.Itoa(seconds))
		return 0, refuse(
			http.StatusTooManyRequests, "too-many", "Too many tries",
			by("wait %s, then try again", plural.Of(seconds, "second")),
			"there were too many wrong tries to be %s from your address",
			shortly(name),
		)
	}
	err = try()
	var reason *problemError
	switch {
	case err == nil:
		return refused, s.Records.RightSignIn(c, name, address)
	case errors.As(err, &reason) && reason.problem.Status != http.StatusTooManyRequests: // which is counted already
		return refused, err
	}
	return refused, errors.Join(err, s.Records.UncheckedSignIn(context.WithoutCancel(c), name, address, time.Now()))
}

func isTooMany(err error) bool {
	var reason *problemError
	return errors.As(err, &reason) && reason.problem.Status == http.StatusTooManyRequests
}

// prove lets somebody in who knows the password.
func (s *identities) prove(c call, in *api.SignIn, name string) (*api.Session, error) {
	if in.Token != "" {
		return nil, unauthorized("that is not the administrator's token")
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
		return s.giveToken(c, person, in.Machine)
	}
	return s.openSession(c, caller{Name: person.Name, Via: "a password", Grants: person.All(), Person: true}, &person)
}

// openSession keeps a new session, and sets its cookie.
func (s *identities) openSession(c call, who caller, person *access.Person) (*api.Session, error) {
	cookie := newSecret("")
	kept := records.Session{Person: person, Name: who.Name}
	if person == nil {
		kept.Key = s.tokenKey()
	}
	err := s.Records.AddSession(c, hashed(cookie), kept, time.Now().Add(sessionLength))
	if errors.Is(err, records.ErrNotFound) {
		return nil, unauthorized("the name or the password is not right any more")
	}
	if err != nil {
		return nil, err
	}
	s.setCookie(c.fiber, cookie, int(sessionLength.Seconds()))
	return sessionOf(who), nil
}

// giveToken makes a person's own token, for the programs of a machine.
func (s *identities) giveToken(c call, person access.Person, machine string) (*api.Session, error) {
	token, expires := newSecret(tokenPrefix), time.Now().Add(ownTokenLength)
	err := s.Records.AddOwnToken(c, hashed(token), person, cleanActor(machine, "a machine"), expires)
	if errors.Is(err, records.ErrNotFound) {
		err = unauthorized("the name or the password is not right any more")
	}
	return &api.Session{
		Name:      person.Name,
		Person:    true,
		Grants:    access.Grants{},
		Token:     token,
		ExpiresAt: &expires,
	}, err
}

func sessionOf(who caller) *api.Session {
	return &api.Session{
		Name:   who.Name,
		Via:    who.Via,
		Person: who.Person,
		Grants: append(access.Grants{}, who.Grants...),
	}
}

type nothing struct{}

// signOut ends a session. A person's own token that asks is revoked; a
// machine's stays.
func (s *identities) signOut(c call, _ *nothing) (*nothing, error) {
	var err error
	switch {
	case c.who.session != "":
		err = s.Records.EndSession(c, c.who.session)
		s.setCookie(c.fiber, "", -1)
	case c.who.token != 0 && c.who.Person:
		_, err = s.Records.Revoke(c, c.who.token)
	}
	return &nothing{}, err
}

func (s *identities) setCookie(c fiber.Ctx, value string, maxAge int) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: maxAge,
		HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: s.overTLS(c)})
}

func (s *identities) session(c call, _ *nothing) (*api.Session, error) { return sessionOf(c.who), nil }

type ownTokenIn struct {
	Machine string `json:"machine" required:"true" maxLength:"100" description:"Whose programs use it; for the list of tokens."`
}

func (s *identities) makeOwnToken(c call, in *ownTokenIn) (*api.Session, error) {
	if err := c.isPerson("token"); err != nil {
		return nil, err
	}
	person, err := s.Records.Person(c, c.actor)
	if err != nil {
		return nil, err
	}
	return s.giveToken(c, person, in.Machine)
}

func (s *identities) revokeOwnToken(c call, in *oneTokenIn) (*nothing, error) {
	if err := c.isPerson("token"); err != nil {
		return nil, err
	}
	was, err := s.Records.RevokeOwn(c, c.actor, in.Token)
	if err == nil && !was {
		err = notFound(
			"token of yours with the number",
			strconv.FormatInt(in.Token, 10),
			see(remedy.LookAtOwnTokens, "see which there are"),
		)
	}
	return &nothing{}, err
}

func (c call) isPerson(what string) error {
	if c.who.Person {
		return nil
	}
	return refused(nil, "%s is not a person, and has no %s of its own", c.actor, what)
}

type passwordIn struct {
	Old string `json:"old" required:"true" secret:"true" maxLength:"1000"`
	New string `json:"new" required:"true" secret:"true" minLength:"12" maxLength:"1000"`
}

func (s *identities) changePassword(c call, in *passwordIn) (*nothing, error) {
	if err := c.isPerson("password"); err != nil {
		return nil, err
	}
	var person access.Person
	_, err := s.slowly(c, c.actor, func() (err error) {
		person, err = s.knowsPassword(c, in.Old)
		return err
	})
	if err != nil {
		return nil, err
	}
	next, err := hashPassword(c, in.New)
	if err != nil {
		return nil, err
	}
	changed, err := s.Records.ChangePassword(c, c.actor, person.Password, next)
	if err == nil && !changed {
		err = refused(
			see(remedy.SignIn, "sign in again"),
			"your password was changed meanwhile, or you may not sign in any more",
		)
	}
	return &nothing{}, err
}

// knowsPassword is the caller, if a password is theirs.
func (s *identities) knowsPassword(c call, password string) (access.Person, error) {
	person, err := s.Records.Person(c, c.actor)
	if err != nil {
		return person, err
	}
	right, err := isPassword(c, password, person.Password)
	if err == nil && !right {
		err = errWrongPassword
	}
	return person, err
}

var errWrongPassword = refused(nil, "that is not your password")

const (
	// freshFor is how long after signing in somebody is taken to be who they are.
	freshFor = 10 * time.Minute
	// passwordHeader carries the caller's own password, percent-encoded, where a
	// call asks them to show who they are.
	passwordHeader = "Vorrang-Password"
)

// proven lets nobody make what opens the service, or change who may, who only
// holds a token or a session: they show that they are who they are, by having just
// signed in, or by their password.
func (s *identities) proven(c fiber.Ctx) error {
	who := callerOf(c)
	if who.Via == viaAdministrator || who.Person && time.Since(who.since) < freshFor {
		return c.Next()
	}
	if !who.Person {
		return refuse(
			http.StatusForbidden, "forbidden", "Not allowed",
			by("let an administrator do it"),
			"%s is a machine; a machine makes no tokens, and changes nobody's rights",
			who.Name,
		)
	}
	given, err := url.PathUnescape(c.Get(passwordHeader))
	if given == "" || err != nil {
		return refuse(
			http.StatusForbidden, "proof-needed", "Show that it is you",
			by(
				"the program and the console ask for your password; people who sign in elsewhere sign in again, and do it "+
					"within 10 minutes",
			),
			"this makes what opens the service, or changes who may: it takes your password, or a sign-in of the last 10 minutes",
		)
	}
	asking := call{Context: c.Context(), fiber: c, who: who, actor: who.Name}
	_, err = s.slowly(asking, who.Name, func() error { _, err := s.knowsPassword(asking, given); return err })
	if errors.Is(err, errWrongPassword) {
		return refuse(
			http.StatusForbidden, "proof-needed", "Show that it is you",
			by("try again"),
			"that is not your password",
		)
	}
	if err != nil {
		return err
	}
	return c.Next()
}
