package findings

import (
	"fmt"
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/step"
)

// changesRows reports whether the statement changes rows.
func (s *script) changesRows() bool {
	n := s.node
	return n.GetUpdateStmt() != nil || n.GetDeleteStmt() != nil || n.GetInsertStmt() != nil || n.GetMergeStmt() != nil ||
		n.GetTruncateStmt() != nil ||
		n.GetCopyStmt() != nil
}

// changes reads what all changes of rows of a table in use have in common.
func (s *script) changes(relation *pg.RangeVar) {
	table := s.nameOf(relation)
	if !s.InUse(table) || !s.transaction {
		return
	}
	if s.schema && s.Once("mixed") {
		s.Find("rows.with-schema", "table "+table, relation.GetRelname(), "", "")
	}
	if len(s.locked) > 0 && s.node.GetInsertStmt() == nil && s.Once("held") {
		s.FindOn("blocks.held-on", s.locked[0], relation.GetRelname(), fmt.Sprintf(
			"%s stays locked, since statement %d, while rows of %s are changed", s.locked[0], s.lockedBy+1, table), "")
	}
}

func (s *script) update(u *pg.UpdateStmt) {
	s.changes(u.Relation)
	table := s.nameOf(u.Relation)
	if u.WhereClause != nil || !s.InUse(table) || s.Step.Options().Mode == step.Batches {
		return
	}
	s.FindOn("rows.all-at-once", table, u.Relation.Relname, "", s.batched(u, table))
}

// batched is an update in batches, of the rows that have another value yet.
func (s *script) batched(u *pg.UpdateStmt, table string) string {
	if len(u.FromClause) > 0 || len(u.TargetList) != 1 || u.TargetList[0].GetResTarget().GetVal() == nil {
		return ""
	}
	target := u.TargetList[0].GetResTarget()
	value := textOf(target.Val)
	if value == "" {
		return ""
	}
	return fmt.Sprintf(
		"-- in a step of its own, with mode: batches\nUPDATE %[1]s SET %[2]s = %[3]s\n"+
			"WHERE ctid = ANY (ARRAY(SELECT ctid FROM %[1]s WHERE %[2]s IS DISTINCT FROM %[3]s LIMIT :batch));",
		table, quote(target.Name), value,
	)
}

func (s *script) delete(d *pg.DeleteStmt) {
	s.changes(d.Relation)
	if table := s.nameOf(d.Relation); d.WhereClause == nil && s.InUse(table) {
		s.Find("loses.all-rows", "table "+table, d.Relation.Relname, "", "")
	}
}

func (s *script) truncate(t *pg.TruncateStmt) {
	for _, node := range t.Relations {
		table := s.nameOf(node.GetRangeVar())
		if !s.InUse(table) {
			continue
		}
		s.lock(table)
		s.Find("loses.truncate", "table "+table, node.GetRangeVar().GetRelname(), "", "")
	}
}

func (s *script) vacuum(v *pg.VacuumStmt) {
	full := slices.ContainsFunc(v.Options, func(o *pg.Node) bool {
		return o.GetDefElem().GetDefname() == "full" && o.GetDefElem().GetArg() == nil
	})
	for _, node := range v.Rels {
		if full {
			s.compacted(node.GetVacuumRelation().GetRelation())
		}
	}
}

func (s *script) compacted(relation *pg.RangeVar) {
	if table := s.nameOf(relation); relation != nil && s.InUse(table) {
		s.FindOn("rewrites.compacted", table, relation.Relname, "", "VACUUM "+table+";")
	}
}

func (s *script) reindex(r *pg.ReindexStmt) {
	if r.Relation == nil ||
		slices.ContainsFunc(r.Params, func(o *pg.Node) bool { return o.GetDefElem().GetDefname() == "concurrently" }) {
		return
	}
	name := s.nameOf(r.Relation)
	kind := "INDEX"
	if r.Kind == pg.ReindexObjectType_REINDEX_OBJECT_TABLE {
		kind = "TABLE"
		if !s.InUse(name) {
			return
		}
	}
	s.Find("blocks.reindex", name, r.Relation.Relname, "",
		ownStep+"REINDEX "+kind+" CONCURRENTLY "+name+";")
}

func (s *script) refresh(r *pg.RefreshMatViewStmt) {
	if r.Concurrent || r.SkipData {
		return
	}
	name := s.nameOf(r.Relation)
	s.Find(
		"blocks.refresh",
		"materialized view "+name,
		r.Relation.Relname,
		"",
		"REFRESH MATERIALIZED VIEW CONCURRENTLY "+name+";",
	)
}

func (s *script) lockTable(l *pg.LockStmt) {
	const rowExclusive = 3 // the modes up to it let readers and writers pass; source: lockdefs.h
	for _, node := range l.Relations {
		if table := s.nameOf(node.GetRangeVar()); l.Mode > rowExclusive && s.InUse(table) {
			s.lock(table)
			s.Find("blocks.lock-table", "table "+table, node.GetRangeVar().GetRelname(), "", "")
		}
	}
}
