package findings

import (
	"fmt"
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/target/postgres/grammar"
)

// whole finds what only the whole of a script shows, and what its options bring with them.
func (s *script) whole() {
	for _, d := range s.dropped {
		if d.what == "policy" && s.policies[d.name] {
			continue
		}
		s.Breaks(d.finding)
	}
	s.references()
	s.covered()
	timeout := s.Step.Options().LockTimeout
	if timeout != nil && *timeout == 0 && (len(s.locked) > 0 || s.schema) {
		s.AtOption("blocks.waits-for-ever", "lock-timeout")
	}
}

// names finds names that the server would cut, or that have to be quoted.
func (s *script) names() {
	for _, name := range grammar.LongNames(s.Statement) {
		s.Find(
			"names.cut",
			"",
			name,
			fmt.Sprintf("%q has %d bytes; the server keeps %d", name, len(name), grammar.MostName),
			"",
		)
	}
	for _, name := range newNames(s.node) {
		if (!plain.MatchString(name) || slices.Contains(reserved, name)) && s.Once("quotes "+name) {
			s.Find("names.need-quotes", "", name, fmt.Sprintf("%q has to be quoted each time it is used", name), "")
		}
	}
}

// newNames are the names that a statement gives.
func newNames(n *pg.Node) (names []string) {
	add := func(more ...string) {
		for _, name := range more {
			if name != "" {
				names = append(names, name)
			}
		}
	}
	columns := func(list []*pg.Node) {
		for _, node := range list {
			add(node.GetColumnDef().GetColname(), node.GetConstraint().GetConname())
			for _, c := range node.GetColumnDef().GetConstraints() {
				add(c.GetConstraint().GetConname())
			}
		}
	}
	switch {
	case n.GetCreateStmt() != nil:
		add(n.GetCreateStmt().Relation.GetRelname())
		columns(n.GetCreateStmt().TableElts)
	case n.GetAlterTableStmt() != nil:
		for _, node := range n.GetAlterTableStmt().Cmds {
			columns([]*pg.Node{node.GetAlterTableCmd().GetDef()})
		}
	case n.GetIndexStmt() != nil:
		add(n.GetIndexStmt().Idxname)
	case n.GetRenameStmt() != nil:
		add(n.GetRenameStmt().Newname)
	case n.GetViewStmt() != nil:
		add(n.GetViewStmt().View.GetRelname())
	case n.GetCreateFunctionStmt() != nil:
		add(last(n.GetCreateFunctionStmt().Funcname))
	case n.GetCreateTrigStmt() != nil:
		add(n.GetCreateTrigStmt().Trigname)
	case n.GetCreateEnumStmt() != nil:
		add(last(n.GetCreateEnumStmt().TypeName))
	case n.GetCreateSchemaStmt() != nil:
		add(n.GetCreateSchemaStmt().Schemaname)
	case n.GetCreateSeqStmt() != nil:
		add(n.GetCreateSeqStmt().Sequence.GetRelname())
	}
	return names
}
