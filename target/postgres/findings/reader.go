package findings

import (
	_ "embed"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/target/postgres/grammar"
)

//go:embed rules.yaml
var text []byte

// Rules are the findings of PostgreSQL; they are read at the first request.
var Rules = sync.OnceValue(func() *review.Rules { return review.MustReadRules(text) })

// Reader reads steps in their order.
type Reader struct {
	*review.Steps
	language review.Language
	objects  map[string]schema.Object // of the target's schema, by key
	checks   map[string]string        // "table.column" that a check keeps from NULL, by "table constraint"
	given    map[string]bool          // "table.column" that a validated one does
}

// New is a reader in a setting.
func New(in review.Setting, language review.Language) *Reader {
	r := &Reader{
		Steps: review.NewSteps(in), language: language,
		objects: map[string]schema.Object{}, checks: map[string]string{}, given: map[string]bool{},
	}
	if in.Schema != nil {
		for _, o := range in.Schema.Objects {
			r.objects[o.Key()] = o
			// what the search path finds; most of all in public
			short := schema.KeyOf(o.Kind, review.Short(o.Name))
			if _, taken := r.objects[short]; !taken || strings.HasPrefix(o.Name, "public.") {
				r.objects[short] = o
			}
		}
	}
	return r
}

// Read implements review.Reviewer.
func (r *Reader) Read(s step.Step) []review.Finding {
	opened, err := r.Script(s, Rules(), r.language)
	if err != nil {
		return nil
	}
	f := &script{
		Script: opened, reader: r, transaction: s.Options().Mode == step.Transaction,
		columns: map[string]bool{}, notValid: map[string]int{}, policies: map[string]bool{},
	}
	f.Each(f.one)
	f.whole()
	return r.End(f.Script)
}

// script is what is read of one file.
type script struct {
	*review.Script
	reader      *Reader
	transaction bool // all of it is one
	node        *pg.Node

	locked   []string        // tables in use that are locked against readers or writers
	lockedBy int             // the statement that locked the first of them
	dropped  []drop          // views and functions, that may be made again
	columns  map[string]bool // "table.column" that the script adds
	notValid map[string]int  // constraints that it adds so, by table and name
	values   grammar.NewValues
	policies map[string]bool // tables for which it makes policies
	refers   []reference
	keys     []index
	schema   bool // it changes the schema

	noTrigger bool // it drops a trigger
}

// ownStep is the head of a safe form whose statements cannot run in a transaction.
const ownStep = "-- in a step with mode: autocommit\n"

type drop struct {
	what, name string
	finding    review.Finding
}

// one reads one statement.
func (s *script) one() {
	s.node, _ = grammar.Parse(s.Statement) // what cannot be parsed is noted elsewhere
	n := s.node
	if n == nil {
		return
	}
	s.names()
	s.enumValues()
	switch {
	case n.GetCreateStmt() != nil:
		s.createTable(n.GetCreateStmt())
	case n.GetAlterTableStmt() != nil:
		s.alterTable(n.GetAlterTableStmt())
	case n.GetIndexStmt() != nil:
		s.createIndex(n.GetIndexStmt())
	case n.GetDropStmt() != nil:
		s.drop(n.GetDropStmt())
	case n.GetRenameStmt() != nil:
		s.rename(n.GetRenameStmt())
	case n.GetAlterObjectSchemaStmt() != nil:
		s.moveSchema(n.GetAlterObjectSchemaStmt())
	case n.GetViewStmt() != nil:
		s.remade("view", s.nameOf(n.GetViewStmt().View))
	case n.GetCreateTableAsStmt() != nil:
		s.createTableAs(n.GetCreateTableAsStmt())
	case n.GetCreateFunctionStmt() != nil:
		s.createFunction(n.GetCreateFunctionStmt())
	case n.GetCreateTrigStmt() != nil:
		s.createTrigger(n.GetCreateTrigStmt())
	case n.GetCreatePolicyStmt() != nil:
		s.policies[s.nameOf(n.GetCreatePolicyStmt().Table)] = true
	case n.GetGrantStmt() != nil:
		s.grant(n.GetGrantStmt())
	case n.GetAlterOwnerStmt() != nil:
		s.role(n.GetAlterOwnerStmt().Newowner)
	case n.GetVariableSetStmt() != nil:
		s.set(n.GetVariableSetStmt())
	default:
		s.work()
	}
	if !s.changesRows() && n.GetSelectStmt() == nil && n.GetVariableSetStmt() == nil {
		s.schema = true
	}
}

// work reads what changes rows, or works on whole tables.
func (s *script) work() {
	n := s.node
	switch {
	case n.GetUpdateStmt() != nil:
		s.update(n.GetUpdateStmt())
	case n.GetDeleteStmt() != nil:
		s.delete(n.GetDeleteStmt())
	case n.GetInsertStmt() != nil:
		s.changes(n.GetInsertStmt().Relation)
	case n.GetMergeStmt() != nil:
		s.changes(n.GetMergeStmt().Relation)
	case n.GetTruncateStmt() != nil:
		s.truncate(n.GetTruncateStmt())
	case n.GetVacuumStmt() != nil:
		s.vacuum(n.GetVacuumStmt())
	case n.GetClusterStmt() != nil:
		s.compacted(n.GetClusterStmt().Relation)
	case n.GetReindexStmt() != nil:
		s.reindex(n.GetReindexStmt())
	case n.GetRefreshMatViewStmt() != nil:
		s.refresh(n.GetRefreshMatViewStmt())
	case n.GetLockStmt() != nil:
		s.lockTable(n.GetLockStmt())
	}
}

// nameOf is a relation's name, quoted where the server would quote it, with its schema
// unless that is public.
func (s *script) nameOf(r *pg.RangeVar) string {
	if r == nil {
		return ""
	}
	name := quote(r.Relname)
	if r.Schemaname != "" && r.Schemaname != "public" {
		name = quote(r.Schemaname) + "." + name
	}
	return name
}

func joined(names []*pg.Node) string {
	var parts []string
	for _, name := range names {
		if part := name.GetString_().GetSval(); part != "" && !(len(parts) == 0 && part == "public" && len(names) > 1) {
			parts = append(parts, quote(part))
		}
	}
	return strings.Join(parts, ".")
}

func last(names []*pg.Node) string {
	if len(names) == 0 {
		return ""
	}
	return names[len(names)-1].GetString_().GetSval()
}

// object finds something in the target's schema, by a name that may leave its schema to the
// search path; false where it is not there, or the schema is not known.
func (s *script) object(kind schema.Kind, name string) (schema.Object, bool) {
	o, found := s.reader.objects[schema.KeyOf(kind, name)]
	return o, found
}

// ofTable lists what of a kind belongs to a table.
func (s *script) ofTable(kind schema.Kind, table string) (all []schema.Object) {
	owner, found := s.object(schema.Table, table)
	if !found {
		return nil
	}
	for _, o := range s.In.Schema.Objects {
		if o.Kind == kind && o.Of == owner.Name {
			all = append(all, o)
		}
	}
	return all
}

// usedBy names what of the target's schema needs an object.
func (s *script) usedBy(kind schema.Kind, name string) (users []string) {
	o, found := s.object(kind, name)
	if !found {
		return nil
	}
	for _, other := range s.In.Schema.Objects {
		if other.Of == o.Name || other.Of == o.Of && o.Of != "" && other.Kind == schema.Column {
			continue
		}
		if slices.Contains(other.Needs, o.Key()) || slices.Contains(other.DefaultNeeds, o.Key()) {
			users = append(users, fmt.Sprintf("%s %s", other.Kind, other.Name))
		}
	}
	return users
}

// lock notes that a table in use is locked until the transaction ends, against readers
// or writers.
func (s *script) lock(table string) {
	if table == "" || !s.InUse(table) || slices.Contains(s.locked, table) {
		return
	}
	if len(s.locked) == 0 {
		s.lockedBy = s.Index
	}
	if s.locked = append(s.locked, table); len(s.locked) == 2 && s.transaction {
		s.Find("blocks.several-tables", "table "+table, "",
			fmt.Sprintf("%s is locked while %s, which is in use too, is locked already", table, s.locked[0]), "")
	}
}

// nearEnd warns of a sequence of a table that is nearly used up.
func (s *script) nearEnd(table string) {
	const full = 0.8
	for name, used := range s.In.Figures.Sequences {
		o, found := s.object(schema.Sequence, name)
		owner := o.Props[schema.OwnedBy] + o.Props[schema.IdentityOf]
		if !found || used < full ||
			!strings.HasPrefix(strings.TrimPrefix(owner, "public."), strings.TrimPrefix(table, "public.")+".") {
			continue
		}
		if s.Once("near-end " + name) {
			s.Find("table.near-end", "sequence "+name, "",
				fmt.Sprintf("the sequence %s of %s is used up to %.0f %%", name, table, used*100), "")
		}
	}
}

// quote quotes a name where the server would.
func quote(name string) string {
	if plain.MatchString(name) && !slices.Contains(reserved, name) {
		return name
	}
	return sqltext.Identifier(name)
}

var plain = regexp.MustCompile(`^[a-z_][a-z0-9_$]*$`)

// reserved are the words that cannot be the name of a column or table without quotes.
// Source: PostgreSQL 15's manual, Appendix C.
var reserved = strings.Fields(
	`all analyse analyze and any array as asc asymmetric authorization binary both case cast check
	collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema
	current_time current_timestamp current_user default deferrable desc distinct do else end except false fetch for foreign
	freeze from full grant group having ilike in initially inner intersect into is isnull join lateral leading left like limit
	localtime localtimestamp natural not notnull null offset on only or order outer overlaps placing primary references
	returning right select session_user similar some symmetric system_user table tablesample then to trailing true union
	unique user using variadic verbose when where window with`,
)
