package review

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// notAllowed says what a statement changes that the lane does not let steps change.
func notAllowed(s sqltext.Statement, node *pg.Node, may []string) string {
	kind, what := byCall(s.SQL)
	if kind == "" {
		kind, what = special(node)
	}
	if kind == "" || slices.Contains(may, kind) {
		return ""
	}
	instead := ""
	if kind == step.SessionUser {
		instead = "; role: in lane.yaml says whose the objects are"
	}
	return fmt.Sprintf(
		"%s: this lane's steps may not change %s%s; if they should, an administrator declares it: steps-may: [%s]",
		what, words[kind], instead, kind,
	)
}

var words = map[string]string{
	step.Roles: "roles", step.EventTriggers: "event triggers", step.SessionUser: "as whom the session goes on",
	step.Settings: "the server's settings, or what fires triggers",
}

// calls finds settings that are made by a function, wherever a statement calls it.
var calls = regexp.MustCompile(
	`(?i)\bset_config\s*\(\s*(?:setting_name\s*(?:=>|:=)\s*)?[EN]?'+(role|session_authorization|session_replication_role)'`,
)

// view finds settings that are made by the view of all of them, whichever they are.
var view = regexp.MustCompile(`(?i)\bUPDATE\s+(?:ONLY\s+)?(?:"?pg_catalog"?\s*\.\s*)?"?pg_settings\b`)

func byCall(sql []byte) (kind, what string) {
	if found := view.Find(sql); found != nil {
		return step.SessionUser, strings.Join(strings.Fields(string(found)), " ")
	}
	found := calls.FindSubmatch(sql)
	if found == nil {
		return "", ""
	}
	kind, _ = setting(&pg.VariableSetStmt{Name: string(found[1])})
	return kind, strings.TrimSpace(string(found[0]))
}

func special(node *pg.Node) (kind, what string) {
	switch {
	case changesRole(node), node.GetRenameStmt().GetRenameType() == pg.ObjectType_OBJECT_ROLE:
		return step.Roles, "a role is made, changed or dropped"
	case node.GetCreateEventTrigStmt() != nil,
		node.GetAlterEventTrigStmt() != nil, node.GetDropStmt().GetRemoveType() == pg.ObjectType_OBJECT_EVENT_TRIGGER,
		node.GetAlterOwnerStmt().
			GetObjectType() ==
			pg.ObjectType_OBJECT_EVENT_TRIGGER,
		node.GetRenameStmt().GetRenameType() == pg.ObjectType_OBJECT_EVENT_TRIGGER:
		return step.EventTriggers, "an event trigger is made, changed or dropped"
	case node.GetAlterSystemStmt() != nil:
		return step.Settings, "a setting of the server is changed"
	case node.GetDiscardStmt().GetTarget() == pg.DiscardMode_DISCARD_ALL:
		return step.SessionUser, "DISCARD ALL"
	case node.GetVariableSetStmt() != nil:
		return setting(node.GetVariableSetStmt())
	}
	for _, option := range append(node.GetCreateFunctionStmt().GetOptions(), node.GetAlterFunctionStmt().GetActions()...) {
		e := option.GetDefElem()
		if e.GetDefname() == "set" {
			if kind, what := setting(e.GetArg().GetVariableSetStmt()); kind != "" {
				return kind, "a function with " + what
			}
		}
		for _, text := range e.GetArg().GetList().GetItems() {
			if kind, what := inBody(text.GetString_().GetSval()); kind != "" {
				return kind, what
			}
		}
	}
	return inBody(doBody(node))
}

func setting(s *pg.VariableSetStmt) (kind, what string) {
	switch name := strings.ToLower(s.GetName()); name {
	case "role", "session_authorization":
		return step.SessionUser, "SET " + strings.ToUpper(strings.ReplaceAll(name, "_", " "))
	case "session_replication_role":
		return step.Settings, "SET " + name
	}
	return "", ""
}

// within finds in the body of a function or a DO block what its text says plainly,
// as a statement or as dynamic SQL. What it composes is not seen.
var within = []struct {
	kind    string
	pattern *regexp.Regexp
}{
	{
		step.Roles,
		regexp.MustCompile(
			`(?i)\b(?:CREATE|ALTER|DROP)\s+(?:ROLE|GROUP)\s+\w|\b(?:CREATE|ALTER|DROP)\s+USER\s+(?:[^Mm\s]|[Mm][^Aa])\w*|\b(?:DROP|REASSIGN)\s+OWNED\b`,
		),
	},
	{step.EventTriggers, regexp.MustCompile(`(?i)\b(?:CREATE|ALTER|DROP)\s+EVENT\s+TRIGGER\b`)},
	{
		step.SessionUser,
		regexp.MustCompile(
			`(?i)(?:^|[;']|\b(?:BEGIN|THEN|ELSE|LOOP)\b)\s*(?:RE)?SET\s+(?:SESSION\s+|LOCAL\s+)?(?:ROLE|SESSION\s+AUTHORIZATION)\b`,
		),
	},
	{step.Settings, regexp.MustCompile(`(?i)\bALTER\s+SYSTEM\b|\bsession_replication_role\b`)},
}

func inBody(body string) (kind, what string) {
	for _, w := range within {
		if found := w.pattern.FindString(body); found != "" {
			return w.kind, strings.Join(strings.Fields(found), " ")
		}
	}
	return "", ""
}
