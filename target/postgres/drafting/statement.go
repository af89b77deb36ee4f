package drafting

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

// word is how SQL names an object's kind, as in DROP and COMMENT ON.
func word(o schema.Object) string {
	switch o.Kind {
	case schema.Table:
		if o.Props[schema.OnServer] != "" {
			return "FOREIGN TABLE"
		}
	case schema.Function:
		for _, word := range []string{"PROCEDURE", "AGGREGATE"} {
			if definition := o.Props[schema.Definition]; strings.HasPrefix(definition, "CREATE OR REPLACE "+word) ||
				strings.HasPrefix(definition, "CREATE "+word) {
				return word
			}
		}
	case schema.Type:
		if o.Props[schema.Is] == "domain" {
			return "DOMAIN"
		}
	case schema.Wrapper:
		return "FOREIGN DATA WRAPPER"
	}
	return strings.ToUpper(string(o.Kind))
}

// call is the object's name as DROP and COMMENT ON take it.
func call(o schema.Object) string {
	switch o.Kind {
	case schema.Function:
		if word(o) == "AGGREGATE" && strings.HasSuffix(o.Name, "()") {
			return strings.TrimSuffix(o.Name, ")") + "*)"
		}
	case schema.Constraint:
		if o.Props[schema.Domain] != "" {
			return o.Local() + " ON DOMAIN " + o.Of
		}
		return o.Local() + " ON " + o.Of
	case schema.Trigger, schema.Rule, schema.Policy:
		return o.Local() + " ON " + o.Of
	}
	return o.Name
}

// isForeignKey and isCheck say what a constraint is, by its definition.
func isForeignKey(o schema.Object) bool {
	return o.Kind == schema.Constraint && strings.HasPrefix(o.Props[schema.Definition], "FOREIGN KEY")
}

func isCheck(o schema.Object) bool {
	return o.Kind == schema.Constraint && strings.HasPrefix(o.Props[schema.Definition], "CHECK")
}

// alter is the beginning of a statement about a table, a foreign table, a view
// or a materialized view.
func alter(o schema.Object) string { return "ALTER " + word(o) + " " + o.Name + " " }

// create makes an object that stands alone: everything but columns. A table
// comes with its columns.
func (d *drafter) create(o schema.Object) []string {
	p := o.Props
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	switch o.Kind {
	case schema.Extension:
		say("CREATE EXTENSION %s WITH SCHEMA %s VERSION %s", o.Name, p[schema.InSchema], sqltext.Literal(p["version"]))
	case schema.Namespace:
		say("CREATE SCHEMA %s", o.Name)
	case schema.Collation:
		say("CREATE COLLATION %s (%s)", o.Name, p[schema.Options])
	case schema.Wrapper:
		say(
			"CREATE FOREIGN DATA WRAPPER %s%s%s%s",
			o.Name,
			with(" HANDLER ", p["handler"]),
			with(" VALIDATOR ", p["validator"]),
			around(" OPTIONS (", p[schema.ForeignTable], ")"),
		)
	case schema.Server:
		say(
			"CREATE SERVER %s%s%s FOREIGN DATA WRAPPER %s%s",
			o.Name,
			with(" TYPE ", literal(p[schema.DataType])),
			with(" VERSION ", literal(p["version"])),
			p["wrapper"],
			around(" OPTIONS (", p[schema.ForeignTable], ")"),
		)
	case schema.Type:
		sql = append(sql, createType(o))
	case schema.Sequence:
		if p[schema.IdentityOf] == "" {
			as, rest, _ := strings.Cut(strings.TrimPrefix(p["sequence"], "AS "), " ")
			if as != "bigint" {
				as = " AS " + as
			}
			say(
				"CREATE %sSEQUENCE %s%s%s",
				flag(p["unlogged"], "UNLOGGED "),
				o.Name,
				strings.TrimPrefix(as, "bigint"),
				with(" ", unusual(rest, strings.TrimPrefix(as, " AS "))),
			)
		}
	case schema.Table:
		sql = append(sql, d.createTable(o)...)
	case schema.View:
		say("CREATE VIEW %s%s AS\n%s", o.Name, around(" WITH (", p[schema.Options], ")"), trim(p[schema.Definition]))
	case schema.Materialized:
		say(
			"CREATE MATERIALIZED VIEW %s%s%s%s AS\n%s%s",
			o.Name,
			with(" USING ", p["access method"]),
			around(" WITH (", p[schema.Options], ")"),
			with(" TABLESPACE ", p[schema.Tablespace]),
			trim(p[schema.Definition]),
			flag(p["populated"], "\nWITH NO DATA"),
		)
	case schema.Function:
		say("%s", trim(strings.Replace(p[schema.Definition], "CREATE OR REPLACE ", "CREATE ", 1)))
	case schema.Constraint:
		sql = append(sql, d.createConstraint(o)...)
	case schema.Index:
		say("%s%s", p[schema.Definition], with(" TABLESPACE ", p[schema.Tablespace]))
	case schema.Trigger, schema.Rule, schema.Statistics:
		say("%s", trim(p[schema.Definition]))
	case schema.Policy:
		say(
			"CREATE POLICY %s%s FOR %s TO %s%s%s",
			call(o),
			flag(p["restrictive"], " AS RESTRICTIVE"),
			strings.ToUpper(p[schema.For]),
			p["to"],
			around(" USING (", p["using"], ")"),
			around(" WITH CHECK (", p[schema.Check], ")"),
		)
	case schema.EventTrigger:
		say(
			"CREATE EVENT TRIGGER %s ON %s%s EXECUTE FUNCTION %s()",
			o.Name,
			p["on"],
			around(" WHEN TAG IN (", p["tags"], ")"),
			p["calls"],
		)
	case schema.Publication:
		say(
			"CREATE PUBLICATION %s%s WITH (publish = %s%s)",
			o.Name,
			flag(p["all tables"], " FOR ALL TABLES"),
			sqltext.Literal(p["publishes"]),
			flag(p["via root"], ", publish_via_partition_root = true"),
		)
	case schema.Published:
		say(
			"ALTER PUBLICATION %s ADD TABLE ONLY %s%s%s",
			o.Of,
			p[schema.OfTable],
			around(" (", p["columns"], ")"),
			around(" WHERE (", p["where"], ")"),
		)
	case schema.PublishedAll:
		say("ALTER PUBLICATION %s ADD TABLES IN SCHEMA %s", o.Of, p[schema.InSchema])
	case schema.DefaultGrant: // its grants are all of it
	}
	bare := schema.Object{Kind: o.Kind, Name: o.Name, Of: o.Of}
	if o.Kind == schema.Extension { // its comment comes with it
		bare.Props = schema.Props{schema.Comment: p[schema.Comment]}
	}
	return append(sql, d.attributes(bare, o)...)
}

// attributeNames are the properties that attributes changes.
var attributeNames = []schema.Property{
	schema.OwnedByRole,
	schema.Grants,
	schema.Comment,
	"fires",
	"clustered",
	"replica identity",
	"row security",
	"statistics",
	"target",
}

// attributes turns those properties of an object from one state into another.
func (d *drafter) attributes(before, after schema.Object) []string {
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	was, is := before.Props, after.Props
	differs := func(key schema.Property) bool { return was[key] != is[key] }
	table := "ALTER TABLE " + after.Of + " "
	if differs("fires") {
		how := map[string]string{"": "ENABLE", "never": "DISABLE", "on replicas": "ENABLE REPLICA", "always": "ENABLE ALWAYS"}[is["fires"]]
		if after.Kind == schema.EventTrigger {
			say("ALTER EVENT TRIGGER %s %s", after.Name, how)
		} else {
			say("%s%s %s %s", table, how, word(after), after.Local())
		}
	}
	if differs("clustered") {
		if is["clustered"] != "" {
			say("%sCLUSTER ON %s", table, indexLocal(after))
		} else if !d.another(after, "clustered") {
			say("%sSET WITHOUT CLUSTER", table)
		}
	}
	if differs("replica identity") {
		switch {
		case after.Kind == schema.Table && is["replica identity"] == "" && d.another(schema.Object{Of: after.Name}, "replica identity"):
		case after.Kind == schema.Table:
			say(
				"ALTER TABLE %s REPLICA IDENTITY %s",
				after.Name,
				strings.ToUpper(cmp.Or(is["replica identity"], "default")),
			)
		case is["replica identity"] != "":
			say("%sREPLICA IDENTITY USING INDEX %s", table, indexLocal(after))
		case !d.another(after, "replica identity"):
			say("%sREPLICA IDENTITY DEFAULT", table)
		}
	}
	if differs("row security") {
		enable, force := "DISABLE", "NO FORCE"
		if state := is["row security"]; state == "enabled" || state == "forced" {
			enable = "ENABLE"
		}
		if strings.HasPrefix(is["row security"], "forced") {
			force = "FORCE"
		}
		say("ALTER TABLE %s %s ROW LEVEL SECURITY, %s ROW LEVEL SECURITY", after.Name, enable, force)
	}
	if after.Kind == schema.Index && differs("statistics") {
		for _, one := range schema.List(is["statistics"]) {
			number, target, _ := strings.Cut(one, " ")
			say("ALTER INDEX %s ALTER COLUMN %s SET STATISTICS %s", after.Name, number, target)
		}
	}
	if differs("target") {
		say("ALTER STATISTICS %s SET STATISTICS %s", after.Name, cmp.Or(is["target"], "-1"))
	}
	if differs(schema.Comment) {
		text := "NULL"
		if is[schema.Comment] != "" {
			text = sqltext.Literal(is[schema.Comment])
		}
		say("COMMENT ON %s %s IS %s", word(after), call(after), text)
	}
	if d.Owners {
		if is[schema.OwnedByRole] != "" && differs(schema.OwnedByRole) {
			say("ALTER %s %s OWNER TO %s", word(after), call(after), is[schema.OwnedByRole])
		}
		sql = append(sql, d.grants(before, after)...)
	}
	return sql
}

// another reports whether an index, a constraint or the table that an object
// belongs to has a property that only one of them can have.
func (d *drafter) another(o schema.Object, property schema.Property) bool {
	for _, other := range d.to.Objects {
		if (other.Of == o.Of || other.Kind == schema.Table && other.Name == o.Of) && other.Name != o.Name &&
			other.Props[property] != "" {
			return true
		}
	}
	return false
}

func tableKey(o schema.Object) string { return schema.KeyOf(schema.Table, o.Of) }

// indexLocal is the name of an index or a constraint without its schema.
func indexLocal(o schema.Object) string {
	if o.Kind == schema.Index {
		return schema.Unqualified(o.Name)
	}
	return o.Local()
}

func createType(o schema.Object) string {
	p := o.Props
	switch p[schema.Is] {
	case "enum":
		return fmt.Sprintf("CREATE TYPE %s AS ENUM (%s)", o.Name, p[schema.Labels])
	case "composite":
		return fmt.Sprintf("CREATE TYPE %s AS (%s)", o.Name, p[schema.Attributes])
	case "range":
		return fmt.Sprintf("CREATE TYPE %s AS RANGE (%s)", o.Name, p["range"])
	}
	return fmt.Sprintf(
		"CREATE DOMAIN %s AS %s%s%s%s",
		o.Name,
		p["base"],
		with(" COLLATE ", p[schema.Collated]),
		with(" DEFAULT ", p[schema.Default]),
		flag(p[schema.Null], " NOT NULL"),
	)
}

// createTable makes a table with its columns. A partition is attached later.
func (d *drafter) createTable(o schema.Object) []string {
	p := o.Props
	var lines, then []string
	typed := p["of type"] != ""
	for _, c := range d.columns[o.Name] {
		inherited := c.Props[schema.Inherited] == "yes" && p[schema.Partition] == ""
		switch {
		case typed:
			if text := columnOptions(c); text != "" {
				lines = append(lines, c.Local()+" WITH OPTIONS"+text)
			}
		case !inherited:
			lines = append(lines, d.column(c))
		}
		bare := schema.Object{Kind: schema.Column, Name: c.Name, Of: c.Of}
		if inherited || typed {
			bare.Props = inheritable(c, d.inheritedFrom(o, c.Local()))
		} else {
			bare.Props = inheritable(c, schema.Object{Props: schema.Props{}})
			for _, key := range inline {
				set(bare.Props, key, c.Props[key])
			}
		}
		then = append(then, d.columnAttributes(bare, c, "ONLY ")...)
	}
	head := "CREATE " + flag(p["unlogged"], "UNLOGGED ") + word(o) + " " + o.Name
	body := "()"
	if len(lines) > 0 {
		body = "(\n    " + strings.Join(lines, ",\n    ") + "\n)"
	}
	if typed {
		if len(lines) == 0 {
			body = ""
		}
		head += " OF " + p["of type"]
	}
	if inherits := p[schema.Inherits]; inherits != "" && p[schema.Partition] == "" {
		body += " INHERITS (" + inherits + ")"
	}
	body += with(" PARTITION BY ", p[schema.Partitioned]) + with(
		" SERVER ",
		p[schema.OnServer],
	) + around(" OPTIONS (", p[schema.ForeignTable], ")") + with(" USING ", p["access method"]) +
		around(
			" WITH (",
			strings.Join(
				slices.DeleteFunc(
					[]string{p[schema.Options], p[schema.ToastOptions]},
					func(s string) bool { return s == "" },
				),
				", ",
			),
			")",
		) + with(
		" TABLESPACE ",
		p[schema.Tablespace],
	)
	return append([]string{strings.TrimRight(head+" "+body, " ")}, then...)
}

// inline are the properties of a column that CREATE TABLE and ADD COLUMN set.
var inline = []schema.Property{
	schema.Null,
	schema.Generated,
	schema.Identity,
	"sequence",
	"compression",
	schema.Default,
	schema.ForeignTable,
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
		"integer",
		"bigint",
		"real",
		"double precision",
		"boolean",
		"date",
		"uuid",
		"oid",
		"name",
		`"char"`,
		"interval",
		"money",
		"macaddr",
		"time without time zone",
		"time with time zone",
		"timestamp without time zone",
		"timestamp with time zone",
		"point",
		"box",
		"circle",
		"line",
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
				was[schema.Options],
				is[schema.Options],
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
			if _, old, _ := strings.Cut(strings.TrimPrefix(was["sequence"], "SEQUENCE NAME "), " "); differs(
				"sequence",
			) {
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

func (d *drafter) createConstraint(o schema.Object) []string {
	p := o.Props
	definition := p[schema.Definition]
	if p[schema.Domain] != "" {
		return []string{fmt.Sprintf("ALTER DOMAIN %s ADD CONSTRAINT %s %s", o.Of, o.Local(), definition)}
	}
	if p[schema.Options] != "" || p[schema.Tablespace] != "" {
		definition = withIndexOptions(
			definition,
			around(" WITH (", p[schema.Options], ")")+with(" USING INDEX TABLESPACE ", p[schema.Tablespace]),
		)
	}
	only := ""
	if t := d.after[tableKey(o)]; t.Props[schema.Partitioned] != "" && !isForeignKey(o) && !isCheck(o) {
		only = "ONLY "
	}
	return []string{fmt.Sprintf("ALTER TABLE %s%s ADD CONSTRAINT %s %s", only, o.Of, o.Local(), definition)}
}

var deferral = regexp.MustCompile(`( WHERE \(.*\))?( DEFERRABLE( INITIALLY DEFERRED)?)?$`)

// withIndexOptions puts options of its index into a constraint's definition:
// before a predicate and before what is said about deferral.
func withIndexOptions(definition, options string) string {
	at := deferral.FindStringIndex(definition)[0]
	return definition[:at] + options + definition[at:]
}

// drop removes an object.
func drop(o schema.Object) string {
	switch o.Kind {
	case schema.Constraint:
		if o.Props[schema.Domain] != "" {
			return fmt.Sprintf("ALTER DOMAIN %s DROP CONSTRAINT %s", o.Of, o.Local())
		}
		return fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", o.Of, o.Local())
	case schema.Column:
		return fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", o.Of, o.Local())
	case schema.Published:
		return fmt.Sprintf("ALTER PUBLICATION %s DROP TABLE ONLY %s", o.Of, o.Props[schema.OfTable])
	case schema.PublishedAll:
		return fmt.Sprintf("ALTER PUBLICATION %s DROP TABLES IN SCHEMA %s", o.Of, o.Props[schema.InSchema])
	}
	return "DROP " + word(o) + " " + call(o)
}

// options are the statements that turn storage options into others.
func options(alter, before, after string) []string {
	was, is := schema.List(before), schema.List(after)
	var reset, put, sql []string
	for _, one := range was {
		name, _, _ := strings.Cut(one, "=")
		if !slices.ContainsFunc(is, func(other string) bool { return strings.HasPrefix(other, name+"=") }) {
			reset = append(reset, name)
		}
	}
	for _, one := range is {
		if !slices.Contains(was, one) {
			put = append(put, one)
		}
	}
	if len(reset) > 0 {
		sql = append(sql, alter+" RESET ("+strings.Join(reset, ", ")+")")
	}
	if len(put) > 0 {
		sql = append(sql, alter+" SET ("+strings.Join(put, ", ")+")")
	}
	return sql
}

func foreignOptions(before, after string) string {
	var parts []string
	name := func(one string) string { head, _, _ := strings.Cut(one, " "); return head }
	was, is := schema.List(before), schema.List(after)
	for _, one := range was {
		if !slices.ContainsFunc(is, func(other string) bool { return name(other) == name(one) }) {
			parts = append(parts, "DROP "+name(one))
		}
	}
	for _, one := range is {
		switch {
		case slices.Contains(was, one):
		case slices.ContainsFunc(was, func(other string) bool { return name(other) == name(one) }):
			parts = append(parts, "SET "+one)
		default:
			parts = append(parts, "ADD "+one)
		}
	}
	return strings.Join(parts, ", ")
}

func trim(definition string) string { return strings.TrimRight(definition, "; \n") }

func with(prefix, text string) string { return around(prefix, text, "") }

func around(prefix, text, suffix string) string {
	if text == "" {
		return ""
	}
	return prefix + text + suffix
}

func flag(set, text string) string {
	if set == "" {
		return ""
	}
	return text
}

func literal(text string) string {
	if text == "" {
		return ""
	}
	return sqltext.Literal(text)
}

func set(props schema.Props, key schema.Property, value string) {
	if value == "" {
		delete(props, key)
	} else {
		props[key] = value
	}
}
