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
		return Rename{}, fmt.Errorf("%q is no rename: write OLD=NEW, such as harbour.vessel.name=harbour.vessel.title", text)
	}
	if !identifier.MatchString(schema.Unqualified(now)) { // it becomes a part of statements
		return Rename{}, fmt.Errorf("%q is no name: write it as the server does, quoted where it has other signs than a-z, 0-9 and _", now)
	}
	return Rename{Old: old, New: now}, nil
}

// identifier is a name as it stands in SQL: plain, or quoted.
var identifier = regexp.MustCompile(`^([a-z_][a-z0-9_$]*|"([^"\x00]|"")+")$`)

// String is "harbour.vessel.name=harbour.vessel.title".
func (r Rename) String() string { return r.Old + "=" + r.full() }

func (r Rename) full() string {
	parent := strings.TrimSuffix(r.Old, schema.Unqualified(r.Old))
	return parent + schema.Unqualified(r.New)
}

// find is what is to be renamed: a table, or a column.
func (r Rename) find(s schema.Schema) (table, col *schema.Object) {
	for i, o := range s.Objects {
		if o.Name == r.Old && (o.Kind == schema.Table || o.Kind == schema.Column) {
			if o.Kind == schema.Table {
				return &s.Objects[i], nil
			}
			return nil, &s.Objects[i]
		}
	}
	return nil, nil
}

func (r Rename) statement(s schema.Schema) (string, error) {
	table, col := r.find(s)
	switch {
	case table != nil:
		return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", r.Old, schema.Unqualified(r.New)), nil
	case col != nil:
		return fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", col.Of, col.Local(), schema.Unqualified(r.New)), nil
	}
	return "", fmt.Errorf("there is no table or column %s to rename", r.Old)
}

// undo is the statement that takes the rename back. It knows a column by its
// name having three parts, or by what the statement said.
func (r Rename) undo() string {
	parent := strings.TrimSuffix(strings.TrimSuffix(r.Old, schema.Unqualified(r.Old)), ".")
	if strings.TrimSuffix(parent, schema.Unqualified(parent)) == "" { // a schema: so it is a table
		return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", r.full(), schema.Unqualified(r.Old))
	}
	return fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", parent, schema.Unqualified(r.New), schema.Unqualified(r.Old))
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
func questions(present, wished schema.Schema, answered []Rename) []Question {
	is, should := schema.Columns(present), schema.Columns(wished)
	settled := map[string]bool{}
	tables := map[string]string{} // new name → old name
	for _, r := range answered {
		settled[r.Old], settled[r.full()] = true, true
		tables[r.full()] = r.Old
	}
	has := func(s schema.Schema, kind schema.Kind, name string) bool {
		for _, o := range s.Objects {
			if o.Kind == kind && o.Name == name {
				return true
			}
		}
		return false
	}
	var asked []Question
	for _, old := range present.Objects {
		if old.Kind != schema.Table || settled[old.Name] || has(wished, schema.Table, old.Name) {
			continue
		}
		for _, now := range wished.Objects {
			if now.Kind != schema.Table || settled[now.Name] || has(present, schema.Table, now.Name) || parent(now.Name) != parent(old.Name) {
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
			if settled[gone.Name] || find(now, gone.Local()) != nil || gone.Props["generated"] != "" || gone.Props["inherited"] != "" {
				continue
			}
			for _, come := range now {
				if !settled[come.Name] && find(is[before], come.Local()) == nil && come.Props["type"] == gone.Props["type"] && come.Props["generated"] == "" && come.Props["inherited"] == "" {
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
		return q.Kind == schema.Column && !tablesOnly[strings.TrimSuffix(parent(q.Old), ".")]
	})
	slices.SortFunc(asked, func(a, b Question) int { return cmp.Or(strings.Compare(a.Old, b.Old), strings.Compare(a.New, b.New)) })
	return asked
}

func parent(name string) string { return strings.TrimSuffix(name, schema.Unqualified(name)) }

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
		if same := find(other, c.Local()); same != nil && same.Props["type"] == c.Props["type"] {
			count++
		}
	}
	return count
}
