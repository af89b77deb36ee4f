package review

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// What a step changes beside schemas and rows, and may change only where the lane's
// declaration says so: with it a step reaches what its role may not, or the ledger.
const (
	Roles         = "roles"          // who may do what on the server
	EventTriggers = "event-triggers" // code that runs within other people's statements
	SessionUser   = "session-user"   // as whom the session goes on
	Settings      = "settings"       // of the server, or of what fires triggers
)

// Special are all of them.
var Special = []string{Roles, EventTriggers, SessionUser, Settings}

// notAllowed says what a statement changes that the lane does not let steps change.
func notAllowed(node *pg.Node, may []string) string {
	kind, what := special(node)
	if kind == "" || slices.Contains(may, kind) {
		return ""
	}
	instead := ""
	if kind == SessionUser {
		instead = "; role: in lane.yaml says whose the objects are"
	}
	return fmt.Sprintf("%s: this lane's steps may not change %s%s; if they should, an administrator declares it: steps-may: [%s]", what, words[kind], instead, kind)
}

var words = map[string]string{
	Roles: "roles", EventTriggers: "event triggers", SessionUser: "as whom the session goes on", Settings: "the server's settings, or what fires triggers",
}

func special(node *pg.Node) (kind, what string) {
	switch {
	case node.GetCreateRoleStmt() != nil, node.GetAlterRoleStmt() != nil, node.GetAlterRoleSetStmt() != nil, node.GetDropRoleStmt() != nil, node.GetGrantRoleStmt() != nil,
		node.GetReassignOwnedStmt() != nil, node.GetDropOwnedStmt() != nil, node.GetRenameStmt().GetRenameType() == pg.ObjectType_OBJECT_ROLE:
		return Roles, "a role is made, changed or dropped"
	case node.GetCreateEventTrigStmt() != nil, node.GetAlterEventTrigStmt() != nil, node.GetDropStmt().GetRemoveType() == pg.ObjectType_OBJECT_EVENT_TRIGGER,
		node.GetAlterOwnerStmt().GetObjectType() == pg.ObjectType_OBJECT_EVENT_TRIGGER, node.GetRenameStmt().GetRenameType() == pg.ObjectType_OBJECT_EVENT_TRIGGER:
		return EventTriggers, "an event trigger is made, changed or dropped"
	case node.GetAlterSystemStmt() != nil:
		return Settings, "a setting of the server is changed"
	case node.GetDiscardStmt().GetTarget() == pg.DiscardMode_DISCARD_ALL:
		return SessionUser, "DISCARD ALL"
	case node.GetVariableSetStmt() != nil:
		return set(node.GetVariableSetStmt())
	}
	for _, option := range append(node.GetCreateFunctionStmt().GetOptions(), node.GetAlterFunctionStmt().GetActions()...) {
		e := option.GetDefElem()
		if e.GetDefname() == "set" {
			if kind, what := set(e.GetArg().GetVariableSetStmt()); kind != "" {
				return kind, "a function with " + what
			}
		}
		for _, text := range e.GetArg().GetList().GetItems() {
			if kind, what := hidden(text.GetString_().GetSval()); kind != "" {
				return kind, what
			}
		}
	}
	return hidden(doBody(node))
}

func set(s *pg.VariableSetStmt) (kind, what string) {
	switch name := strings.ToLower(s.GetName()); name {
	case "role", "session_authorization":
		return SessionUser, "SET " + strings.ToUpper(strings.ReplaceAll(name, "_", " "))
	case "session_replication_role":
		return Settings, "SET " + name
	}
	return "", ""
}

// within finds in the body of a function or a DO block what its text says plainly,
// as a statement or as dynamic SQL. What it composes is not seen.
var within = []struct {
	kind    string
	pattern *regexp.Regexp
}{
	{Roles, regexp.MustCompile(`(?i)\b(?:CREATE|ALTER|DROP)\s+(?:ROLE|GROUP)\s+\w|\b(?:CREATE|ALTER|DROP)\s+USER\s+(?:[^Mm\s]|[Mm][^Aa])\w*|\b(?:DROP|REASSIGN)\s+OWNED\b`)},
	{EventTriggers, regexp.MustCompile(`(?i)\b(?:CREATE|ALTER|DROP)\s+EVENT\s+TRIGGER\b`)},
	{SessionUser, regexp.MustCompile(`(?i)(?:^|[;']|\b(?:BEGIN|THEN|ELSE|LOOP)\b)\s*(?:RE)?SET\s+(?:SESSION\s+|LOCAL\s+)?(?:ROLE|SESSION\s+AUTHORIZATION)\b|\bset_config\s*\(\s*'+(?:role|session_authorization)'`)},
	{Settings, regexp.MustCompile(`(?i)\bALTER\s+SYSTEM\b|\bsession_replication_role\b`)},
}

func hidden(body string) (kind, what string) {
	for _, w := range within {
		if found := w.pattern.FindString(body); found != "" {
			return w.kind, strings.Join(strings.Fields(found), " ")
		}
	}
	return "", ""
}
