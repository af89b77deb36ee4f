// Package access says who may do what: roles, and the lanes and environments
// that they reach. It knows no passwords and no requests.
package access

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Role is a part that somebody plays.
type Role string

const (
	Reader        Role = "reader"        // looks at everything
	Author        Role = "author"        // submits and withdraws steps
	Releaser      Role = "releaser"      // cuts, promotes, rolls back, rebuilds
	Approver      Role = "approver"      // approves releases, freezes and thaws
	Keeper        Role = "keeper"        // repairs: baseline, attest, amend, settle, waive
	Reporter      Role = "reporter"      // reports backups; for the job that takes them
	Administrator Role = "administrator" // all of these, and declares lanes, people and hooks
)

// Roles is every role, the administrator last.
var Roles = []Role{Reader, Author, Releaser, Approver, Keeper, Reporter, Administrator}

// Scope is what a role reaches: everything, a lane with all its environments,
// or one environment of a lane.
type Scope struct {
	Lane        string `json:"lane,omitempty"`        // empty for all
	Environment string `json:"environment,omitempty"` // empty for all of the lane
}

// covers reports whether everything in another scope is in this one. What an environment is covers
// each target of its fleet: ENVIRONMENT.TARGET.
func (s Scope) covers(other Scope) bool {
	fleet, _, _ := strings.Cut(other.Environment, ".")
	return (s.Lane == "" || s.Lane == other.Lane) &&
		(s.Environment == "" || s.Environment == other.Environment || s.Environment == fleet)
}

// touches reports whether the scopes have something in common.
func (s Scope) touches(other Scope) bool {
	return s.covers(other) || other.Environment == "" && other.covers(s)
}

// Grant is a role with what it reaches.
type Grant struct {
	Role Role `json:"role"`
	Scope
}

// String is "releaser", "releaser@harbour" or "releaser@harbour/production".
func (g Grant) String() string {
	text := string(g.Role)
	if g.Lane != "" {
		text += "@" + g.Lane
	}
	if g.Environment != "" {
		text += "/" + g.Environment
	}
	return text
}

// MarshalText writes a grant as String does.
func (g Grant) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads a grant as ParseGrant does.
func (g *Grant) UnmarshalText(text []byte) (err error) {
	*g, err = ParseGrant(string(text))
	return err
}

// ParseGrant reads what String writes.
func ParseGrant(text string) (Grant, error) {
	role, scope, scoped := strings.Cut(text, "@")
	g := Grant{Role: Role(role)}
	if !slices.Contains(Roles, g.Role) {
		return g, fmt.Errorf("%q is not a role; the roles are %s", role, names(Roles))
	}
	var split bool
	if g.Lane, g.Environment, split = strings.Cut(scope, "/"); scoped && g.Lane == "" || split && g.Environment == "" {
		return g, fmt.Errorf("%q: write ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT", text)
	}
	return g, nil
}

// ParseGrants reads grants that commas divide.
func ParseGrants(text string) ([]Grant, error) {
	var list []Grant
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		g, err := ParseGrant(part)
		if err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, nil
}

func names(roles []Role) string {
	words := make([]string, len(roles))
	for i, r := range roles {
		words[i] = string(r)
	}
	return strings.Join(words, ", ")
}

// Need is what a call asks of whoever makes it: one of some roles, for all of a
// scope. The administrator always has it.
type Need struct {
	Roles []Role
	Some  bool // a role anywhere in the scope does, as for looking at a lane
}

// looks are the roles that may read what they reach: all but the reporter,
// which is for a job that tells, and asks nothing.
var looks = []Role{Reader, Author, Releaser, Approver, Keeper, Administrator}

// Looking is the need of a call that changes nothing.
var Looking = Need{Roles: looks, Some: true}

// LookingAtAll is the need of a call that shows all lanes at once.
var LookingAtAll = Need{Roles: looks}

// By is the need of a call that some roles may make.
func By(roles ...Role) Need { return Need{Roles: roles} }

// String is "author or administrator".
func (n Need) String() string {
	if n.Some {
		return "a role that looks there (any but reporter)"
	}
	list := slices.Clone(n.Roles)
	if !slices.Contains(list, Administrator) {
		list = append(list, Administrator)
	}
	return strings.Replace(names(list), ", administrator", " or administrator", 1)
}

// Grants are all that somebody may.
type Grants []Grant

// Allow reports whether what a call asks for is granted for a scope.
func (list Grants) Allow(need Need, scope Scope) bool {
	return slices.ContainsFunc(list, func(g Grant) bool {
		if g.Role != Administrator && !slices.Contains(need.Roles, g.Role) {
			return false
		}
		if need.Some {
			return g.touches(scope)
		}
		return g.covers(scope)
	})
}

// Within reports whether no grant goes beyond a limit.
func (list Grants) Within(limit Grants) bool {
	return !slices.ContainsFunc(list, func(g Grant) bool { return !limit.Allow(By(g.Role), g.Scope) })
}

var name = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}(@[a-z0-9.-]{1,100})?$`)

// CheckName is an error unless a text can be the name of a person or a token.
func CheckName(text string) error {
	if !name.MatchString(text) {
		return fmt.Errorf(
			"%q is not a valid name; write lower-case letters, digits, dots and hyphens, as in m.kai or m.kai@nordmole.example",
			text,
		)
	}
	return nil
}

// Texts are the grants as they are written.
func (list Grants) Texts() []string {
	texts := make([]string, len(list))
	for i, g := range list {
		texts[i] = g.String()
	}
	return texts
}

// Has reports whether a grant is among them.
func (list Grants) Has(g Grant) bool { return slices.Contains(list, g) }
