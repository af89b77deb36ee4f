package sqlite

import (
	"strings"
	"unicode"

	"vorrang/target/words"
)

// rules are SQLite's. Source: https://www.sqlite.org/lang_expr.html, and tokenize.c of
// its sources.
var rules = words.Rules{Quotes: "\"`[", Texts: "'", Variables: "?:@$#", Tcl: true, BOM: true}

// plainName is how a name is written: in quotes only where it needs them.
func plainName(name string) string {
	plain := name != "" && !isKeyword(name)
	for i, r := range name {
		plain = plain && (r == '_' || unicode.IsLetter(r) || i > 0 && unicode.IsDigit(r))
	}
	if plain {
		return name
	}
	return identifier(name)
}

func identifier(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// isKeyword knows the words that cannot stand for a name.
// Source: https://www.sqlite.org/lang_keywords.html, those that parse.y has no
// fallback for.
func isKeyword(name string) bool {
	_, is := reserved[strings.ToUpper(name)]
	return is
}

var reserved = func() map[string]struct{} {
	all := map[string]struct{}{}
	for _, name := range strings.Fields(`ADD ALL ALTER AND AS AUTOINCREMENT BETWEEN CASE CHECK COLLATE COMMIT CONSTRAINT
		CREATE CROSS DEFAULT DEFERRABLE DELETE
		DISTINCT DROP ELSE ESCAPE EXISTS FOREIGN FROM FULL GROUP HAVING IN INDEX INNER INSERT INTERSECT INTO IS ISNULL
			JOIN LEFT LIMIT NATURAL NOT NOTNULL NULL
		ON OR ORDER OUTER PRIMARY REFERENCES RETURNING RIGHT SELECT SET TABLE THEN TO TRANSACTION UNION UNIQUE UPDATE USING
			VALUES WHEN WHERE EXCEPT`) {
		all[name] = struct{}{}
	}
	return all
}()
