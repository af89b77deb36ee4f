package schematest

import (
	_ "embed"
	"fmt"
	"strings"
)

// Statements make the schema, in a database that has none of it.
func (s *Schema) Statements() string {
	var b strings.Builder
	say := func(format string, values ...any) { fmt.Fprintf(&b, format+";\n", values...) }
	note := func(what, comment string) {
		if comment != "" {
			say("COMMENT ON %s IS '%s'", what, strings.ReplaceAll(comment, "'", "''"))
		}
	}
	say("CREATE SCHEMA port")
	say("CREATE FUNCTION port.touch() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'")
	for _, e := range s.enums {
		say("CREATE TYPE port.%s AS ENUM ('%s')", e.name, strings.Join(e.labels, "', '"))
	}
	for _, d := range s.domains {
		say("CREATE DOMAIN port.%s AS %s", d.name, d.text)
	}
	for _, q := range s.sequences {
		say("CREATE SEQUENCE port.%s %s", q.name, q.text)
	}
	for _, t := range s.tables {
		s.writeTable(t, say, note)
	}
	for _, t := range s.tables {
		for _, c := range t.constraints {
			if strings.HasPrefix(c.text, "FOREIGN KEY") {
				say("ALTER TABLE port.%s ADD CONSTRAINT %s %s", t.name, c.name, c.text)
			}
		}
	}
	for _, v := range s.views {
		word, from := "VIEW", "port."+v.of.name+" t"
		if v.materialized {
			word = "MATERIALIZED VIEW"
		}
		if v.over != nil {
			from += ", port." + v.over.name + " o"
		}
		say("CREATE %s port.%s AS SELECT t.%s FROM %s", word, v.name, strings.Join(v.columns, ", t."), from)
		note(word+" port."+v.name, v.comment)
	}
	for _, f := range s.functions {
		body := "AS '" + strings.ReplaceAll(f.body, "'", "''") + "'"
		if f.atomic {
			body = "BEGIN ATOMIC " + f.body + "; END"
		}
		say(
			"CREATE FUNCTION port.%s(%s) RETURNS %s LANGUAGE sql %s %s",
			f.name, f.arguments, f.result, f.volatility, body,
		)
	}
	return b.String()
}

func (s *Schema) writeTable(t *table, say func(string, ...any), note func(string, string)) {
	var lines []string
	for _, c := range t.columns {
		text := c.name + " " + c.kind
		if c.fallback != "" {
			text += " DEFAULT " + c.fallback
		}
		if c.required {
			text += " NOT NULL"
		}
		if c.generated != "" {
			text += " GENERATED ALWAYS AS (" + c.generated + ") STORED"
		}
		if c.identity != "" {
			text += " GENERATED " + c.identity + " AS IDENTITY"
		}
		lines = append(lines, text)
	}
	head, tail := "CREATE TABLE", ""
	if t.unlogged {
		head = "CREATE UNLOGGED TABLE"
	}
	if t.parent != "" {
		tail += " INHERITS (port." + t.parent + ")"
	}
	if len(t.parts) > 0 {
		tail += " PARTITION BY HASH (id)"
	}
	if t.options != "" {
		tail += " WITH (" + t.options + ")"
	}
	say("%s port.%s (%s)%s", head, t.name, strings.Join(lines, ", "), tail)
	note("TABLE port."+t.name, t.comment)
	for _, c := range t.columns {
		note("COLUMN port."+t.name+"."+c.name, c.comment)
		if c.storage != "" {
			say("ALTER TABLE port.%s ALTER COLUMN %s SET STORAGE %s", t.name, c.name, c.storage)
		}
	}
	for i, part := range t.parts {
		say(
			"CREATE TABLE port.%s PARTITION OF port.%s FOR VALUES WITH (MODULUS %d, REMAINDER %d)",
			part, t.name, len(t.parts), i,
		)
	}
	for _, c := range t.constraints {
		if !strings.HasPrefix(c.text, "FOREIGN KEY") {
			say("ALTER TABLE port.%s ADD CONSTRAINT %s %s", t.name, c.name, c.text)
			note("CONSTRAINT "+c.name+" ON port."+t.name, c.comment)
		}
	}
	for _, x := range t.indexes {
		text := x.text
		if !strings.HasPrefix(text, "USING") {
			text = "USING btree " + text
		}
		say("CREATE INDEX %s ON port.%s %s", x.name, t.name, text)
	}
	for _, g := range t.triggers {
		say("CREATE TRIGGER %s %s ON port.%s FOR EACH ROW EXECUTE FUNCTION port.touch()", g.name, g.text, t.name)
	}
	if t.secured {
		say("ALTER TABLE port.%s ENABLE ROW LEVEL SECURITY", t.name)
	}
	for _, p := range t.policies {
		say("CREATE POLICY %s ON port.%s %s", p.name, t.name, p.text)
	}
}
