package rehearsal

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"vorrang/core/engine"
	"vorrang/core/schema"
	"vorrang/internal/plural"
)

// RowDifference is how the rows of one table differ from what they were.
type RowDifference struct {
	Table   string   `json:"table"`
	Before  int64    `json:"before" description:"How many rows it had."`
	After   int64    `json:"after" description:"How many it has."`
	Columns []string `json:"columns,omitempty" description:"Whose values are not the same ones."`
	Message string   `json:"message" description:"The same in words."`
}

// message is such as "harbour.berth: 3 of 40 rows are gone".
func (d RowDifference) message() string {
	switch {
	case d.After < d.Before:
		return fmt.Sprintf("%s: %d of %s are gone", d.Table, d.Before-d.After, plural.Of(int(d.Before), "row"))
	case d.After > d.Before:
		return fmt.Sprintf("%s: %s more than the %d that were there", d.Table, plural.Of(int(d.After-d.Before), "row"),
			d.Before)
	case len(d.Columns) > 0:
		return fmt.Sprintf("%s: values of %s are not what they were", d.Table, strings.Join(d.Columns, ", "))
	}
	return d.Table + ": values are in other rows than they did"
}

// With says which rows the copy had, in words.
func (r Result) With() string {
	switch {
	case r.Cloned:
		return "all rows of its clone"
	case len(r.Copied) > 0:
		return CopiedRows(r.Copied)
	}
	return "no rows"
}

// CopiedRows is such as "1,200 rows of 14 tables".
func CopiedRows(list []engine.Sampled) string {
	var rows int64
	for _, one := range list {
		rows += one.Rows
	}
	return fmt.Sprintf("%s rows of %s", humanize.Comma(rows), plural.Of(len(list), "table"))
}

// ofBoth is a schema without the tables and columns that another one has not: what steps
// put into what they made is not what was there.
func ofBoth(now, start schema.Schema) schema.Schema {
	there := schema.ByKey(start)
	both := now
	both.Objects = slices.DeleteFunc(slices.Clone(now.Objects), func(o schema.Object) bool {
		_, known := there[o.Key()]
		return (o.Kind == schema.Table || o.Kind == schema.Column) && !known
	})
	return both
}

// compareRows says which tables do not hold what they held. Both are of one schema.
func compareRows(before, after engine.Contents) (list []RowDifference) {
	for _, table := range slices.Sorted(maps.Keys(before)) {
		was, is := before[table], after[table]
		d := RowDifference{Table: table, Before: was.Rows, After: is.Rows}
		for _, column := range slices.Sorted(maps.Keys(was.Columns)) {
			if was.Rows == is.Rows && was.Columns[column] != is.Columns[column] {
				d.Columns = append(d.Columns, column)
			}
		}
		if was.Rows != is.Rows || was.Sum != is.Sum {
			d.Message = d.message()
			list = append(list, d)
		}
	}
	return list
}

func rowSummary(list []RowDifference, most int) string {
	var parts []string
	for _, d := range list[:min(len(list), most)] {
		parts = append(parts, d.Message)
	}
	if more := len(list) - most; more > 0 {
		parts = append(parts, fmt.Sprintf("and %s more", plural.Of(more, "table")))
	}
	return strings.Join(parts, "; ")
}
