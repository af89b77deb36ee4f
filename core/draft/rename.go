package draft

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Rename says that something keeps what is in it under another name.
type Rename struct {
	Old string `json:"old" description:"A table, or a column with its table: harbour.vessel.name."`
	New string `json:"new" description:"Its new name, in full, or its last part."`
}

// ParseRename reads "harbour.vessel.name=harbour.vessel.title"; the new name may
// be its last part only.
func ParseRename(text string) (Rename, error) {
	old, now, is := strings.Cut(text, "=")
	if !is || old == "" || now == "" {
		return Rename{}, fmt.Errorf(
			"%q is no rename: write OLD=NEW, such as harbour.vessel.name=harbour.vessel.title",
			text,
		)
	}
	if !identifier.MatchString(schema.Unqualified(now)) { // it becomes a part of statements
		return Rename{}, fmt.Errorf(
			"%q is not a valid name: write it as the server does, quoted where it has other signs than a-z, 0-9 and _",
			now,
		)
	}
	return Rename{Old: old, New: now}, nil
}

// identifier is a name as it is in SQL: plain, or quoted.
var identifier = regexp.MustCompile(`^([a-z_][a-z0-9_$]*|"([^"\x00]|"")+")$`)

// String is "harbour.vessel.name=harbour.vessel.title".
func (r Rename) String() string { return r.Old + "=" + r.full() }

func (r Rename) full() string { return schema.Qualifier(r.Old) + schema.Unqualified(r.New) }

// table is the table of the column that is to be renamed; empty if a table itself is.
func (r Rename) table(s schema.Schema) string {
	at := slices.IndexFunc(s.Objects, func(o schema.Object) bool { return o.Kind == schema.Column && o.Name == r.Old })
	if at < 0 {
		return ""
	}
	return s.Objects[at].Of
}

// statement does the rename, of a column where of is its table, and undo takes it back.
func (r Rename) statement(of string) string { return rename(of, r.Old, r.New) }

func (r Rename) undo(of string) string { return rename(of, r.full(), r.Old) }

func rename(of, from, to string) string {
	if of != "" {
		return fmt.Sprintf(
			"ALTER TABLE %s RENAME COLUMN %s TO %s",
			of, schema.Unqualified(from), schema.Unqualified(to),
		)
	}
	return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", from, schema.Unqualified(to))
}

// isIn reports whether there is what is to be renamed.
func (r Rename) isIn(s schema.Schema) bool {
	return slices.ContainsFunc(s.Objects, func(o schema.Object) bool {
		return (o.Kind == schema.Table || o.Kind == schema.Column) && o.Name == r.Old
	})
}

// Question is something that is to go, and something like it that is to come:
// they may be the same, renamed.
type Question struct {
	Kind schema.Kind `json:"kind"`
	Old  string      `json:"old"`
	New  string      `json:"new"`
}

// questions are the pairs that may be renames: a column that goes and one of the
// same type that comes to the same table, and a table that goes and one that
// comes with at least half of its columns.
func questions(present, desired schema.Schema, answered []Rename) []Question {
	is, should := schema.Columns(present), schema.Columns(desired)
	settled := map[string]bool{}
	tables := map[string]string{} // new name → old name
	for _, r := range answered {
		settled[r.Old], settled[r.full()] = true, true
		tables[r.full()] = r.Old
	}
	has := func(s schema.Schema, table string) bool {
		return slices.ContainsFunc(
			s.Objects,
			func(o schema.Object) bool { return o.Kind == schema.Table && o.Name == table },
		)
	}
	var asked []Question
	for _, old := range present.Objects {
		if old.Kind != schema.Table || settled[old.Name] || has(desired, old.Name) {
			continue
		}
		for _, now := range desired.Objects {
			if now.Kind != schema.Table || settled[now.Name] || has(present, now.Name) ||
				schema.Qualifier(now.Name) != schema.Qualifier(old.Name) {
				continue
			}
			if 2*alike(is[old.Name], should[now.Name]) >= max(len(is[old.Name]), len(should[now.Name]), 1) {
				asked = append(asked, Question{Kind: schema.Table, Old: old.Name, New: now.Name})
			}
		}
	}
	for table, now := range should {
		before := table
		if old := tables[table]; old != "" {
			before = old
		}
		for _, gone := range is[before] {
			if settled[gone.Name] || find(now, gone.Local()) != nil || gone.Props[schema.Generated] != "" ||
				gone.Props[schema.Inherited] != "" {
				continue
			}
			for _, come := range now {
				if !settled[come.Name] && find(is[before], come.Local()) == nil &&
					come.Props[schema.DataType] == gone.Props[schema.DataType] &&
					come.Props[schema.Generated] == "" &&
					come.Props[schema.Inherited] == "" {
					asked = append(asked, Question{Kind: schema.Column, Old: gone.Name, New: come.Name})
				}
			}
		}
	}
	tablesOnly := map[string]bool{} // a view's columns are no matter of renames
	for _, o := range present.Objects {
		tablesOnly[o.Name] = tablesOnly[o.Name] || o.Kind == schema.Table
	}
	asked = slices.DeleteFunc(asked, func(q Question) bool {
		return q.Kind == schema.Column && !tablesOnly[strings.TrimSuffix(schema.Qualifier(q.Old), ".")]
	})
	slices.SortFunc(
		asked,
		func(a, b Question) int { return cmp.Or(strings.Compare(a.Old, b.Old), strings.Compare(a.New, b.New)) },
	)
	return asked
}

func find(columns []schema.Object, local string) *schema.Object {
	for i, c := range columns {
		if c.Local() == local {
			return &columns[i]
		}
	}
	return nil
}

// alike counts the columns of the same name and type.
func alike(one, other []schema.Object) int {
	count := 0
	for _, c := range one {
		if same := find(other, c.Local()); same != nil && same.Props[schema.DataType] == c.Props[schema.DataType] {
			count++
		}
	}
	return count
}
