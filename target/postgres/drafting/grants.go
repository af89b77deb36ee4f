package drafting

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// privileges are the letters of an access control list.
// Source: PostgreSQL's documentation, table "ACL privilege abbreviations".
var privileges = map[byte]string{
	'r': "SELECT",
	'a': "INSERT",
	'w': "UPDATE",
	'd': "DELETE",
	'D': "TRUNCATE",
	'x': "REFERENCES",
	't': "TRIGGER",
	'X': "EXECUTE",
	'U': "USAGE",
	'C': "CREATE",
	'c': "CONNECT",
	'T': "TEMPORARY",
	's': "SET",
	'A': "ALTER SYSTEM",
	'm': "MAINTAIN",
}

// initial is what everybody may with a new object of a kind, as letters: its
// owner, and the public.
func initial(o schema.Object) (owner, public string) {
	switch word(o) {
	case "TABLE", "FOREIGN TABLE", "VIEW", "MATERIALIZED VIEW":
		return "arwdDxt", ""
	case "SEQUENCE":
		return "rwU", ""
	case "FUNCTION", "PROCEDURE", "AGGREGATE":
		return "X", "X"
	case "TYPE", "DOMAIN":
		return "U", "U"
	case "SCHEMA":
		return "UC", ""
	case "FOREIGN DATA WRAPPER", "SERVER":
		return "U", ""
	}
	return "", ""
}

// acl is who may what, by grantee; "" is the public.
func acl(o schema.Object, owner string) map[string]string {
	may := map[string]string{}
	switch text := o.Props[schema.Grants]; text {
	case "none":
	case "":
		if o.Kind != schema.Column && o.Kind != schema.DefaultGrant {
			mine, public := initial(o)
			may[owner], may[""] = mine, public
		}
	default:
		for _, item := range schema.List(text) {
			at := 0
			if strings.HasPrefix(item, `"`) {
				at = strings.LastIndex(item[:strings.LastIndex(item, "=")+1], `"`) + 1
			}
			equals := at + strings.Index(item[at:], "=")
			letters, _, _ := strings.Cut(item[equals+1:], "/")
			may[item[:equals]] += letters
		}
	}
	return may
}

// grants are the statements that turn an object's access control list into
// another.
func (d *drafter) grants(before, after schema.Object) []string {
	if before.Props[schema.Grants] == after.Props[schema.Grants] &&
		before.Props[schema.OwnedByRole] == after.Props[schema.OwnedByRole] {
		return nil
	}
	owner := cmp.Or(after.Props[schema.OwnedByRole], after.Props[schema.ForRole])
	before.Kind, before.Name = after.Kind, after.Name
	was, is := acl(before, cmp.Or(before.Props[schema.OwnedByRole], owner)), acl(after, owner)
	if old := before.Props[schema.OwnedByRole]; old != "" && old != owner {
		was[owner] = cmp.Or(was[old], was[owner])
		delete(was, old)
	}
	onto, columns, prefix := word(after)+" "+call(after), "", ""
	switch after.Kind {
	case schema.Table, schema.View, schema.Materialized:
		onto = "TABLE " + after.Name
	case schema.Column:
		onto, columns = "TABLE "+after.Of, " ("+after.Local()+")"
	case schema.Wrapper, schema.Server:
		onto = "FOREIGN " + strings.TrimPrefix(word(after), "FOREIGN ") + " " + after.Name
	case schema.Function:
		if word(after) == "AGGREGATE" {
			onto = "FUNCTION " + after.Name
		}
	case schema.DefaultGrant:
		onto = strings.ToUpper(after.Props[schema.For])
		prefix = "ALTER DEFAULT PRIVILEGES FOR ROLE " + after.Props[schema.ForRole] + with(
			" IN SCHEMA ", after.Props[schema.InSchema],
		) + " "
	}
	everybody := maps.Clone(was)
	maps.Copy(everybody, is)
	var sql []string
	for _, who := range slices.Sorted(maps.Keys(everybody)) {
		if was[who] == is[who] {
			continue
		}
		name := cmp.Or(who, "PUBLIC")
		if was[who] != "" {
			sql = append(sql, fmt.Sprintf("%sREVOKE ALL%s ON %s FROM %s", prefix, columns, onto, name))
		}
		plain, passed := granted(is[who])
		for _, some := range []struct {
			words  []string
			option string
		}{{plain, ""}, {passed, " WITH GRANT OPTION"}} {
			if len(some.words) > 0 {
				for i := range some.words {
					some.words[i] += columns
				}
				sql = append(
					sql,
					fmt.Sprintf(
						"%sGRANT %s ON %s TO %s%s", prefix,
						strings.Join(some.words, ", "),
						onto, name, some.option,
					),
				)
			}
		}
	}
	return sql
}

// granted cuts letters into the privileges that are the grantee's, and those
// that the grantee may pass on.
func granted(letters string) (plain, passed []string) {
	for i := range len(letters) {
		if letters[i] == '*' {
			continue
		}
		if i+1 < len(letters) && letters[i+1] == '*' {
			passed = append(passed, privileges[letters[i]])
		} else {
			plain = append(plain, privileges[letters[i]])
		}
	}
	return plain, passed
}
