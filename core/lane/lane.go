package lane

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"vorrang/core/plan"
)

// Lane is one logical database and its environments, in the order of promotion.
type Lane struct {
	Name         string        `json:"lane"`
	About        string        `json:"about,omitempty"`
	Engine       string        `json:"engine"`
	OnFailure    plan.Policy   `json:"on_failure,omitempty" enum:"stop,back-out" description:"What becomes of a deployment's earlier steps when one fails; stop if absent."`
	StepsMay     []string      `json:"steps_may,omitempty" description:"What steps may change beside schemas and rows: roles, event-triggers, session-user, settings."`
	Environments []Environment `json:"environments"`
}

// Environment is a stop in a lane.
type Environment struct {
	Name       string   `json:"name"`
	Target     string   `json:"target,omitempty" description:"A reference that the service resolves: env:NAME or file:PATH. Absent for a fleet."`
	Fleet      *Fleet   `json:"fleet,omitempty" description:"The targets of an environment that has more than one."`
	Disposable bool     `json:"disposable,omitempty" description:"May be rebuilt from nothing."`
	Scratch    string   `json:"scratch,omitempty" description:"A reference to where scratch databases are made: its user makes and owns them. The target's own reference says that the target's user may."`
	RehearseOn string   `json:"rehearse_on,omitempty" description:"A reference to a clone of the target with its rows, such as a restored backup: rehearsals are on copies of it."`
	Rehearse   bool     `json:"rehearse_on_cut,omitempty" description:"A release is rehearsed as soon as it is cut."`
	Mask       []string `json:"mask,omitempty" description:"Columns, such as harbour.pilot.name, that get made-up values where rows are copied to rehearse with."`
	Role       string   `json:"role,omitempty" description:"Taken with SET ROLE, so that objects get the right owner."`
	LedgerRole string   `json:"ledger_role,omitempty" description:"Owns the ledger, and nobody else writes to it; the target's user owns it, if absent."`
	LedgerKey  string   `json:"ledger_key,omitempty" description:"A reference to the key with which entries are proved to the ledger's owner."`
	Schemas    []string `json:"schemas,omitempty" description:"The application's schemas; none means all but the system's and Vorrang's."`

	OnFailure        plan.Policy    `json:"on_failure,omitempty" enum:"stop,back-out" description:"The lane's, if absent."`
	Gate             *Gate          `json:"gate,omitempty" description:"What it asks of a promotion; what is usual for its name, if absent."`
	BlockAtMost      time.Duration  `json:"block_at_most_ns,omitempty" description:"Nanoseconds: how long others may wait because of a step before it gives way; 0 for as long as it takes."`
	LockTimeout      *time.Duration `json:"lock_timeout_ns,omitempty" description:"Nanoseconds; for steps that give none."`
	StatementTimeout *time.Duration `json:"statement_timeout_ns,omitempty" description:"Nanoseconds; for steps that give none."`
	LookForDrift     time.Duration  `json:"look_for_drift_ns,omitempty" description:"How often the service looks whether the schema has drifted; nanoseconds, 0 for never."`
}

// Environment returns the environment with a name, and false if there is none.
func (l Lane) Environment(name string) (Environment, bool) {
	for _, e := range l.Environments {
		if e.Name == name {
			return e, true
		}
	}
	return Environment{}, false
}

// Reference is what an environment refers to, with the key of the lane file under which it
// stands.
type Reference struct{ Key, Value string }

// References are those that an environment has.
func (e Environment) References() (list []Reference) {
	if e.Fleet != nil {
		list = append(list, Reference{"targets", e.Fleet.From})
		for _, t := range e.Fleet.Targets {
			list = append(list, Reference{"targets", t.Reference})
		}
		list = slices.DeleteFunc(list, func(one Reference) bool {
			_, _, listed := PartOf(one.Value)
			return one.Value == "" || listed
		})
	}
	for _, one := range []Reference{
		{"target", e.Target}, {"scratch", e.Scratch}, {"rehearse-on", e.RehearseOn}, {"ledger-key", e.LedgerKey},
	} {
		if one.Value != "" {
			list = append(list, one)
		}
	}
	return list
}

// Before is the environment before another one, or before a target of a fleet, in the order of
// promotion; empty for the first.
func (l Lane) Before(name string) string {
	name = EnvironmentOf(name)
	for i, e := range l.Environments {
		if e.Name == name && i > 0 {
			return l.Environments[i-1].Name
		}
	}
	return ""
}

// Policy is what becomes of a deployment's earlier steps on an environment when
// one fails, where the promotion itself does not say.
func (l Lane) Policy(e Environment) plan.Policy {
	return cmp.Or(e.OnFailure, l.OnFailure, plan.Stop)
}

// Names are the environments' names in order.
func (l Lane) Names() []string {
	names := make([]string, len(l.Environments))
	for i, e := range l.Environments {
		names[i] = e.Name
	}
	return names
}

var (
	rolePattern   = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)
	namePattern   = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	envPattern    = regexp.MustCompile(`^env:[A-Za-z_][A-Za-z0-9_]*$`)
	secretPattern = regexp.MustCompile(`(?i)^[a-z][a-z0-9+.-]*://|password\s*=|host\s*=`)
)

// IsReference reports whether a text is env:NAME or file:PATH.
func IsReference(text string) bool {
	return envPattern.MatchString(text) || strings.HasPrefix(text, "file:/") && len(text) > len("file:/")
}

// checkTarget says what is wrong with a target reference, and never repeats
// it, since it may hold a password.
func checkTarget(target string) error {
	switch {
	case secretPattern.MatchString(target):
		return fmt.Errorf("this is a connection URL; no credential may be in this file: " +
			"put the URL into the service's environment and write env:NAME, or into a file and write file:PATH")
	case IsReference(target):
		return nil
	}
	return fmt.Errorf(
		"a target is a reference: env:NAME for a variable of the service's environment, or file:/PATH for a file on " +
			"its machine",
	)
}
