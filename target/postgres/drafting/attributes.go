package drafting

import (
	"cmp"
	"fmt"
	"strings"

	"vorrang/core/schema"
	"vorrang/core/sqltext"
)

// attributeNames are the properties that attributes changes.
var attributeNames = []schema.Property{
	schema.OwnedByRole, schema.Grants, schema.Comment, "fires", "clustered", "replica identity", "row security",
	"statistics", "target",
}

// attributes turns those properties of an object from one state into another.
func (d *drafter) attributes(before, after schema.Object) []string {
	var sql []string
	say := func(format string, values ...any) { sql = append(sql, fmt.Sprintf(format, values...)) }
	was, is := before.Props, after.Props
	differs := func(key schema.Property) bool { return was[key] != is[key] }
	table := "ALTER TABLE " + after.Of + " "
	if differs("fires") {
		how := map[string]string{"": "ENABLE", "never": "DISABLE", "on replicas": "ENABLE REPLICA",
			"always": "ENABLE ALWAYS"}[is["fires"]]
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
		case after.Kind == schema.Table && is["replica identity"] == "" &&
			d.another(schema.Object{Of: after.Name}, "replica identity"):
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
