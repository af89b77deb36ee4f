package service

import (
	"errors"
	"net/http"
	"time"

	"vorrang/core/access"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
)

// tokenPrefix marks tokens, so that scanners find them where they should not be.
const tokenPrefix = "vorrang_"

type peopleIn struct {
	Search string `query:"search" description:"Only those in whose name, grants or subject this stands."`
	After  string `query:"after" description:"Only those whose names come after this one: next of the page before."`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (s *identities) people(c call, in *peopleIn) (*api.People, error) {
	answer := &api.People{}
	list, err := s.Records.People(c, records.ListQuery{Search: in.Search, After: in.After, Limit: in.Limit + 1})
	list, answer.Next = page(list, in.Limit, func(p access.Person) string { return p.Name })
	answer.People = append([]access.Person{}, list...)
	return answer, err
}

type personIn struct {
	Person   string   `path:"person"`
	Password *string  `json:"password,omitempty" secret:"true" minLength:"12" description:"At least 12 characters; as it is, if absent."`
	Grant    []string `json:"grant,omitempty" description:"ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT, to be added."`
	Take     []string `json:"take,omitempty" description:"Grants to be taken back."`
	Disabled *bool    `json:"disabled,omitempty" description:"Nobody signs in under this name; ends its sessions and tokens."`
}

// putPerson keeps somebody who may sign in, new or changed.
func (s *identities) putPerson(c call, in *personIn) (*access.Person, error) {
	password := ""
	if in.Password != nil {
		var err error
		if password, err = hashPassword(c, *in.Password); err != nil {
			return nil, err
		}
	}
	granted, err := s.grants(c, "grant", in.Grant)
	if err != nil {
		return nil, err
	}
	person, err := s.Records.ChangePerson(c, in.Person, func(p *access.Person, isNew bool) error {
		if isNew {
			if err := access.CheckName(in.Person); err != nil {
				return badRequest(nil, "person: %s", err)
			}
			if in.Password == nil {
				return badRequest(
					see(remedy.LookAtPeople, "see who there is"),
					"password: %s is new here, and needs one",
					in.Person,
				)
			}
			*p = access.Person{Name: in.Person, CreatedBy: c.actor, CreatedAt: s.Now().UTC()}
		}
		if err := changeGrants(p, granted, in.Take); err != nil {
			return err
		}
		if in.Password != nil {
			if p.Subject != "" {
				return refused(nil, "%s signs in elsewhere, and has no password here", in.Person)
			}
			p.Password = password
		}
		if in.Disabled != nil {
			p.Disabled = nil
			if *in.Disabled {
				now := s.Now().UTC()
				p.Disabled = &now
			}
		}
		return nil
	})
	return &person, err
}

// changeGrants adds and takes back grants.
func changeGrants(person *access.Person, granted access.Grants, take []string) error {
	for _, text := range take {
		g, err := access.ParseGrant(text)
		if err != nil {
			return badRequest(nil, "take: %s", err)
		}
		kept := access.Grants{}
		for _, had := range person.Grants {
			if had != g {
				kept = append(kept, had)
			}
		}
		if len(kept) == len(person.Grants) {
			return refused(see(remedy.LookAtPeople, "see what is granted"), "%s does not have %s", person.Name, g)
		}
		person.Grants = kept
	}
	for _, g := range granted {
		if !person.Grants.Has(g) {
			person.Grants = append(person.Grants, g)
		}
	}
	if person.Grants == nil {
		person.Grants = access.Grants{}
	}
	return nil
}

// grants reads grants. Lanes and environments that are not there are an error,
// since a grant with a slip of the pen would grant nothing.
func (s *identities) grants(c call, field string, texts []string) (access.Grants, error) {
	list := access.Grants{}
	for _, text := range texts {
		g, err := access.ParseGrant(text)
		if err != nil {
			return nil, badRequest(nil, "%s: %s", field, err)
		}
		if g.Lane != "" {
			l, err := s.targets.lane(c, g.Lane)
			if err != nil {
				return nil, err
			}
			if _, known := l.Place(g.Environment); g.Environment != "" && !known {
				return nil, notFound("environment "+g.Environment+" in the lane", g.Lane, nil)
			}
		}
		list = append(list, g)
	}
	return list, nil
}

type tokensIn struct {
	Search string `query:"search" description:"Only those in whose name, person, grants or maker this stands."`
	Before int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (s *identities) tokens(c call, in *tokensIn) (*api.Tokens, error) { return s.tokensOf(c, "", in) }

func (s *identities) ownTokens(c call, in *tokensIn) (*api.Tokens, error) {
	return s.tokensOf(c, c.actor, in)
}

// tokensOf lists a person's tokens, or all where none is named.
func (s *identities) tokensOf(c call, person string, in *tokensIn) (*api.Tokens, error) {
	answer := &api.Tokens{}
	list, err := s.Records.Tokens(c, person, records.ListQuery{Search: in.Search, Before: in.Before, Limit: in.Limit + 1})
	list, answer.Next = page(list, in.Limit, func(t access.Token) int64 { return t.ID })
	answer.Tokens = append([]access.Token{}, list...)
	return answer, err
}

type tokenIn struct {
	Name    string   `json:"name" required:"true" description:"Stands in the ledger beside what the machine does."`
	Grant   []string `json:"grant" required:"true" description:"ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT."`
	Seconds int64    `json:"seconds" required:"true" minimum:"60" maximum:"31622400" description:"For how long it is good."`
}

// makeToken makes a machine's token. Its text is in the answer, and nowhere
// else.
func (s *identities) makeToken(c call, in *tokenIn) (*api.TokenMade, error) {
	if err := access.CheckName(in.Name); err != nil {
		return nil, badRequest(nil, "name: %s", err)
	}
	_, err := s.Records.Person(c, in.Name)
	if err == nil {
		return nil, refused(by("give the machine a name of its own"), "%s is a person's name", in.Name)
	}
	if !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	length := time.Duration(in.Seconds) * time.Second
	if length < time.Minute || length > longestToken {
		return nil, badRequest(nil, "seconds: a token is good for a minute at least, and a year at most")
	}
	grants, err := s.grants(c, "grant", in.Grant)
	if err != nil {
		return nil, err
	}
	if len(grants) == 0 {
		return nil, badRequest(nil, "grant: say what the machine may, as in reporter@harbour/production")
	}
	text := newSecret(tokenPrefix)
	made, err := s.Records.AddToken(
		c, hashed(text),
		access.Token{Name: in.Name, Grants: grants, MadeBy: c.actor, ExpiresAt: s.Now().Add(length).UTC()},
	)
	c.fiber.Status(http.StatusCreated)
	return &api.TokenMade{Token: made, Text: text}, err
}

type oneTokenIn struct {
	Token int64 `path:"token"`
}

func (s *identities) revokeToken(c call, in *oneTokenIn) (*nothing, error) {
	was, err := s.Records.Revoke(c, in.Token)
	if err == nil && !was {
		err = refuse(
			http.StatusNotFound, "not-found", "Not found",
			see(remedy.LookAtTokens, "see which there are"),
			"there is no token %d", in.Token,
		)
	}
	return &nothing{}, err
}
