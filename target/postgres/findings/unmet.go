package findings

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	pg "github.com/pganalyze/pg_query_go/v6"

	"vorrang/core/schema"
	"vorrang/target/postgres/grammar"
)

// unmet asks the target whether rows that are there stand in the way of a constraint.
// query gives such rows, of the table with its name as the schema has it.
func (s *script) unmet(table, near, what string, query func(table string) string) {
	o, found := s.object(schema.Table, table)
	if s.In.Count == nil || !found {
		return
	}
	text := query(o.Name)
	if text == "" {
		return
	}
	n, most, known := s.In.Count(text)
	if !known || n == 0 {
		return
	}
	count := humanize.Comma(n)
	if n >= most {
		count = "at least " + count
	}
	rows := "rows"
	if n == 1 {
		rows = "row"
	}
	s.Find("rows.unmet", "table "+table, near, fmt.Sprintf("%s %s of %s %s", count, rows, table, what), "")
}

// unmetCheck asks for rows that do not meet a check. An expression that calls what is not
// known to only compute is not asked about: the target is only read.
func (s *script) unmetCheck(table string, c *pg.Constraint) {
	if c.SkipValidation || !onlyComputes(c.RawExpr) {
		return
	}
	s.unmet(table, c.Conname, "do not meet it", func(table string) string {
		text := textOf(c.RawExpr)
		if text == "" {
			return ""
		}
		return fmt.Sprintf("SELECT 1 FROM %s WHERE NOT (%s)", table, text)
	})
}

func (s *script) unmetNotNull(table, column string) {
	s.unmet(table, column, "have none", func(table string) string {
		return fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NULL", table, quote(column))
	})
}

func (s *script) unmetUnique(table, near string, columns []string) {
	if len(columns) == 0 {
		return
	}
	s.unmet(table, near, "are there more than once", func(table string) string {
		given := make([]string, len(columns))
		for i, column := range columns {
			given[i] = quote(column) + " IS NOT NULL"
		}
		return fmt.Sprintf("SELECT 1 FROM %[1]s WHERE (%[3]s) IN (SELECT %[3]s FROM %[1]s WHERE %[2]s GROUP BY %[3]s "+
			"HAVING pg_catalog.count(*) > 1)",
			table, strings.Join(given, " AND "), quotedList(columns))
	})
}

func (s *script) unmetReference(table string, columns []string, c *pg.Constraint) {
	other, found := s.object(schema.Table, s.nameOf(c.Pktable))
	others := namesIn(c.PkAttrs)
	if len(others) == 0 && found { // the other table's key
		for _, i := range s.indexesOf(s.nameOf(c.Pktable)) {
			if key, known := s.object(schema.Constraint, other.Name+"."+i.name); known &&
				strings.HasPrefix(key.Props[schema.Definition], "PRIMARY KEY") {
				others = i.columns
			}
		}
	}
	if c.SkipValidation || !found || len(columns) == 0 || len(columns) != len(others) {
		return
	}
	s.unmet(table, c.Conname, "refer to nothing", func(table string) string {
		var given, equal []string
		for i, column := range columns {
			given = append(given, "a."+quote(column)+" IS NOT NULL")
			equal = append(equal, "b."+quote(others[i])+" = a."+quote(column))
		}
		return fmt.Sprintf("SELECT 1 FROM %s a WHERE %s AND NOT EXISTS (SELECT FROM %s b WHERE %s)",
			table, strings.Join(given, " AND "), other.Name, strings.Join(equal, " AND "))
	})
}

// plainFunctions only compute.
var plainFunctions = []string{
	"lower", "upper", "length", "char_length", "octet_length", "btrim", "ltrim", "rtrim", "abs", "round", "floor",
	"ceil", "ceiling", "trunc",
	"date_trunc", "date_part", "extract", "left", "right", "substring", "position", "strpos", "greatest", "least",
	"num_nonnulls", "num_nulls",
}

// onlyComputes reports whether an expression is made of columns, constants, operators
// and functions that only compute.
func onlyComputes(expression *pg.Node) bool {
	safe := expression != nil
	inTree(expression, func(call *pg.FuncCall) { safe = safe && slices.Contains(plainFunctions, last(call.Funcname)) })
	inTree(expression, func(*pg.SubLink) { safe = false })
	return safe
}

// textOf writes an expression; empty for one that cannot be written.
func textOf(expression *pg.Node) string {
	text := written(&pg.Node{Node: &pg.Node_SelectStmt{SelectStmt: &pg.SelectStmt{
		TargetList:  []*pg.Node{{Node: &pg.Node_ResTarget{ResTarget: &pg.ResTarget{Val: expression}}}},
		LimitOption: pg.LimitOption_LIMIT_OPTION_DEFAULT, Op: pg.SetOperation_SETOP_NONE,
	}}})
	return strings.TrimSuffix(strings.TrimPrefix(text, "SELECT "), ";")
}

// written is a statement's tree as SQL, with its semicolon; empty for one that cannot be
// written.
func written(node *pg.Node) string {
	text, err := grammar.Text(node)
	if err != nil {
		return ""
	}
	return text + ";"
}
