package grammar

import (
	"slices"

	"vorrang/core/sqltext"

	pg "github.com/pganalyze/pg_query_go/v6"
)

// NewValues follows the values that a script adds to enumerations: the server refuses to
// use one in the transaction that adds it, unless that made the type. The zero value has
// seen nothing.
type NewValues struct {
	added []string
	made  []string // types, without their schema
}

// Read reads the next statement, whose tree may be nil, and gives the values in it that
// were added before.
func (v *NewValues) Read(s sqltext.Statement, node *pg.Node) (used []string) {
	if create := node.GetCreateEnumStmt(); create != nil {
		v.made = append(v.made, lastName(create.TypeName))
	}
	if alter := node.GetAlterEnumStmt(); alter != nil {
		if alter.OldVal == "" && !v.Makes(alter.TypeName) {
			v.added = append(v.added, alter.NewVal)
		}
		return nil
	}
	for _, value := range v.added {
		if Mentions(s, value) {
			used = append(used, value)
		}
	}
	return used
}

// Makes reports whether the script made an enumeration before.
func (v *NewValues) Makes(name []*pg.Node) bool { return slices.Contains(v.made, lastName(name)) }

func lastName(names []*pg.Node) string {
	if len(names) == 0 {
		return ""
	}
	return names[len(names)-1].GetString_().GetSval()
}
