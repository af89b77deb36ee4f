package drafting

import (
	"cmp"
	"fmt"
	"strings"

	"vorrang/core/schema"
)

// inline are the properties of a column that CREATE TABLE and ADD COLUMN set.
var inline = []schema.Property{
	schema.Null, schema.Generated, schema.Identity, "sequence", "compression", schema.Default, schema.ForeignTable,
}

// inheritable is what a column has from its parent, with what it has of its own
// put beside for comparison.
func inheritable(c, parent schema.Object) schema.Props {
	props := schema.Props{
		schema.DataType:  c.Props[schema.DataType],
		schema.Collated:  c.Props[schema.Collated],
		schema.Inherited: c.Props[schema.Inherited],
	}
	for _, key := range []schema.Property{schema.Null, schema.Default, schema.Generated, "storage", "compression"} {
		set(props, key, parent.Props[key])
	}
	return props
}

// column is a column as CREATE TABLE and ADD COLUMN take it.
func (d *drafter) column(c schema.Object) string {
	p := c.Props
	text := c.Local() + " " + p[schema.DataType] + around(" OPTIONS (", p[schema.ForeignTable], ")") + with(
		" COMPRESSION ",
		p["compression"],
	) + with(" COLLATE ", p[schema.Collated]) + columnOptions(c)
	return text
}

func columnOptions(c schema.Object) string {
	p := c.Props
	text := flag(p[schema.Null], " NOT NULL")
	if len(c.DefaultNeeds) == 0 {
		text = with(" DEFAULT ", p[schema.Default]) + text
	}
	text += around(" GENERATED ALWAYS AS (", p[schema.Generated], ") STORED")
	if p[schema.Identity] != "" {
		usual := fmt.Sprintf("SEQUENCE NAME %s_%s_seq ", c.Of, c.Local())
		text += " GENERATED " + strings.ToUpper(p[schema.Identity]) + " AS IDENTITY" + around(
			" (",
			unusual(strings.TrimPrefix(p["sequence"], usual), p[schema.DataType]),
			")",
		)
	}
	return text
}

// usualStorage is how a type's values are stored unless something else is said.
// Only PostgreSQL 16 and newer know SET STORAGE DEFAULT.
// Source: PostgreSQL's catalog pg_type, typstorage.
func usualStorage(of string) string {
	base, _, _ := strings.Cut(of, "(")
	switch base {
	case "smallint",
		"integer", "bigint", "real", "double precision", "boolean", "date", "uuid", "oid", "name",
		`"char"`,
		"interval", "money", "macaddr", "time without time zone", "time with time zone",
		"timestamp without time zone",
		"timestamp with time zone", "point", "box", "circle", "line",
		"lseg":
		return "plain"
	case "numeric", "cidr", "inet":
		return "main"
	}
	return "extended"
}

// most is the largest value of the types that a sequence can have.
var most = map[string]string{"smallint": "32767", "integer": "2147483647", "bigint": "9223372036854775807"}

// unusual leaves a sequence's options out that every new sequence of a type has.
func unusual(options, of string) string {
	rest, is := strings.CutSuffix(options+" ", "START 1 INCREMENT 1 MINVALUE 1 MAXVALUE "+most[of]+" CACHE 1 ")
	if !is {
		return options
	}
	return strings.TrimSpace(rest)
}

// columnAttributes turns the properties of a column that do not need a look at
// its rows from one state into another.
func (d *drafter) columnAttributes(before, after schema.Object, only string) []string {
	var sql []string
	was, is := before.Props, after.Props
	kind := "TABLE"
	if t, known := d.after[tableKey(after)]; known {
		kind = word(t)
	} else if _, isView := d.after[schema.KeyOf(schema.View, after.Of)]; isView {
		kind, only = "VIEW", ""
	} else {
		kind, only = "MATERIALIZED VIEW", ""
	}
	say := func(format string, values ...any) {
		sql = append(
			sql,
			"ALTER "+kind+" "+only+after.Of+" ALTER COLUMN "+after.Local()+" "+fmt.Sprintf(format, values...),
		)
	}
	differs := func(key schema.Property) bool { return was[key] != is[key] }
	if differs(schema.Default) && len(after.DefaultNeeds) == 0 && is[schema.Generated] == "" {
		if is[schema.Default] != "" {
			say("SET DEFAULT %s", is[schema.Default])
		} else {
			say("DROP DEFAULT")
		}
	}
	if differs("storage") {
		say("SET STORAGE %s", strings.ToUpper(cmp.Or(is["storage"], usualStorage(is[schema.DataType]))))
	}
	if differs("compression") {
		say("SET COMPRESSION %s", cmp.Or(is["compression"], "default"))
	}
	if differs("statistics") {
		say("SET STATISTICS %s", cmp.Or(is["statistics"], "-1"))
	}
	if differs(schema.Options) {
		sql = append(
			sql,
			options(
				"ALTER "+kind+" "+only+after.Of+" ALTER COLUMN "+after.Local(),
				was[schema.Options], is[schema.Options],
			)...)
	}
	if differs(schema.ForeignTable) {
		say("OPTIONS (%s)", foreignOptions(was[schema.ForeignTable], is[schema.ForeignTable]))
	}
	if was[schema.Identity] != is[schema.Identity] || differs("sequence") {
		switch {
		case is[schema.Identity] == "":
			say("DROP IDENTITY")
		case was[schema.Identity] == "":
			say("ADD GENERATED %s AS IDENTITY (%s)", strings.ToUpper(is[schema.Identity]), is["sequence"])
		default:
			if differs(schema.Identity) {
				say("SET GENERATED %s", strings.ToUpper(is[schema.Identity]))
			}
			_, old, _ := strings.Cut(strings.TrimPrefix(was["sequence"], "SEQUENCE NAME "), " ")
			if differs("sequence") {
				name, now, _ := strings.Cut(strings.TrimPrefix(is["sequence"], "SEQUENCE NAME "), " START")
				before, _, _ := strings.Cut(strings.TrimPrefix(was["sequence"], "SEQUENCE NAME "), " START")
				if name != before {
					sql = append(sql, fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", before, schema.Unqualified(name)))
				}
				if "START"+now != old {
					sql = append(sql, fmt.Sprintf("ALTER SEQUENCE %s START%s", name, noCycle(now)))
				}
			}
		}
	}
	return append(sql, d.attributes(schema.Object{Kind: schema.Column, Props: was}, after)...)
}

func noCycle(options string) string {
	if !strings.Contains(options, "CYCLE") {
		options += " NO CYCLE"
	}
	return options
}
