package drafting

import (
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
			o.Of, p[schema.OfTable],
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
	storage := slices.DeleteFunc(
		[]string{p[schema.Options], p[schema.ToastOptions]}, func(s string) bool { return s == "" },
	)
	body += with(" PARTITION BY ", p[schema.Partitioned]) + with(" SERVER ", p[schema.OnServer]) +
		around(" OPTIONS (", p[schema.ForeignTable], ")") + with(" USING ", p["access method"]) +
		around(" WITH (", strings.Join(storage, ", "), ")") + with(" TABLESPACE ", p[schema.Tablespace])
	return append([]string{strings.TrimRight(head+" "+body, " ")}, then...)
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
