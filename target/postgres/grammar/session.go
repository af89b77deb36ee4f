package grammar

import (
	"regexp"
	"slices"
	"strings"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// SessionOf reads what statements that ran to their end left in their session.
// What functions and DO blocks did there is not known, but for settings that
// their text speaks of.
func SessionOf(statements []sqltext.Statement) sqltext.Session {
	var now, outside session // outside is what a ROLLBACK leads back to
	for _, s := range statements {
		switch Transaction(s) {
		case Opens:
			outside = now.copy()
			continue
		case Closes:
			if parsed(s).GetTransactionStmt().GetKind() == pg.TransactionStmtKind_TRANS_STMT_ROLLBACK {
				now = outside
			}
			continue
		case Neither:
		}
		now.run(s)
	}
	return sqltext.Session(now)
}

// session is sqltext.Session while it is read.
type session sqltext.Session

func (n session) copy() session {
	return session{slices.Clone(n.Again), slices.Clone(n.Lost)}
}

func (n *session) run(s sqltext.Statement) {
	node := parsed(s)
	switch {
	case node.GetVariableSetStmt() != nil:
		if set := node.GetVariableSetStmt(); !set.IsLocal && set.Name != "TRANSACTION" {
			n.Again = append(n.Again, s)
		}
	case node.GetListenStmt() != nil,
		node.GetUnlistenStmt() != nil, node.GetLoadStmt() != nil,
		onlySets(node.GetSelectStmt()):
		n.Again = append(n.Again, s)
	case node.GetDiscardStmt() != nil:
		n.discard(node.GetDiscardStmt().Target)
	case node.GetPrepareStmt() != nil:
		n.lose(s, "prepared statement", node.GetPrepareStmt().Name)
	case node.GetDeallocateStmt() != nil:
		n.drop("prepared statement", node.GetDeallocateStmt().Name)
	case node.GetDeclareCursorStmt() != nil:
		n.lose(s, "cursor", node.GetDeclareCursorStmt().Portalname)
	case node.GetClosePortalStmt() != nil:
		n.drop("cursor", node.GetClosePortalStmt().Portalname)
	case node.GetDropStmt() != nil:
		for _, object := range node.GetDropStmt().Objects {
			if names := object.GetList().GetItems(); len(names) > 0 {
				n.drop(temporary, names[len(names)-1].GetString_().GetSval())
			}
		}
	default:
		n.others(s, node)
	}
}

const temporary = "temporary table"

// others are the statements whose kind does not say what they leave.
func (n *session) others(s sqltext.Statement, node *pg.Node) {
	if relation := made(node); relation != nil && (relation.Relpersistence == "t" || relation.Schemaname == "pg_temp") {
		n.lose(s, temporary, relation.Relname)
		return
	}
	text := s.SQL[:min(len(s.SQL), mostParsed)]
	if temporaryObject.Match(text) {
		n.Lost = append(n.Lost, sqltext.Lost{What: "temporary object", Line: s.Line})
	}
	if setsSomething.Match(text) {
		n.Lost = append(n.Lost, sqltext.Lost{What: "setting made by set_config", Line: s.Line})
	}
	if !slices.ContainsFunc(n.Lost, func(l sqltext.Lost) bool { return l.Needs == lastValue }) {
		n.Lost = append(n.Lost, sqltext.Lost{What: "newest value of a sequence", Line: s.Line, Needs: lastValue})
	}
}

var (
	temporaryObject = regexp.MustCompile(`(?i)\bpg_temp\s*\.`)
	setsSomething   = regexp.MustCompile(`(?i)\bset_config\s*\(`)
	lastValue       = regexp.MustCompile(`(?i)\b(currval|lastval)\s*\(`)
)

// made is the relation that a statement creates; nil if it creates none.
func made(node *pg.Node) *pg.RangeVar {
	switch {
	case node.GetCreateStmt() != nil:
		return node.GetCreateStmt().Relation
	case node.GetCreateTableAsStmt() != nil:
		return node.GetCreateTableAsStmt().GetInto().GetRel()
	case node.GetViewStmt() != nil:
		return node.GetViewStmt().View
	case node.GetCreateSeqStmt() != nil:
		return node.GetCreateSeqStmt().Sequence
	case node.GetSelectStmt() != nil:
		return node.GetSelectStmt().GetIntoClause().GetRel()
	}
	return nil
}

// onlySets reports whether a query does nothing but call functions that set the
// session.
func onlySets(query *pg.SelectStmt) bool {
	if query == nil || len(query.TargetList) == 0 || len(query.FromClause) > 0 || query.WhereClause != nil ||
		query.IntoClause != nil {
		return false
	}
	for _, target := range query.TargetList {
		call := target.GetResTarget().GetVal().GetFuncCall()
		if call == nil {
			return false
		}
		name := call.Funcname[len(call.Funcname)-1].GetString_().GetSval()
		switch {
		case name == "set_config" && len(call.Args) == 3 && !call.Args[2].GetAConst().GetBoolval().GetBoolval() &&
			call.Args[2].GetAConst() != nil:
		case strings.HasPrefix(name, "pg_advisory_lock"), name == "setseed":
		default:
			return false
		}
	}
	return true
}

func (n *session) lose(s sqltext.Statement, what, name string) {
	n.Lost = append(
		n.Lost,
		sqltext.Lost{What: what, Name: name, Line: s.Line, Needs: regexp.MustCompile(`(?i)` + regexp.QuoteMeta(name))},
	)
}

// drop forgets what was lost under a name, or all of a kind.
func (n *session) drop(what, name string) {
	n.Lost = slices.DeleteFunc(
		n.Lost,
		func(l sqltext.Lost) bool { return l.What == what && (name == "" || l.Name == name) },
	)
}

func (n *session) discard(target pg.DiscardMode) {
	switch target {
	case pg.DiscardMode_DISCARD_ALL:
		*n = session{}
	case pg.DiscardMode_DISCARD_TEMP:
		n.Lost = slices.DeleteFunc(n.Lost, func(l sqltext.Lost) bool { return strings.HasPrefix(l.What, "temporary") })
	}
}
