package report

import (
	"fmt"
	"html"
	"regexp"
	"strings"

	"vorrang/internal/visible"
)

// parts are the pieces of SQL that are set off: a comment, a string or a body in dollars,
// a number, a keyword. What is none of them stands plain; nothing depends on it.
var parts = regexp.MustCompile(
	`(?s)(?P<c>--[^\n]*|/\*.*?\*/)|(?P<s>'(?:[^']|'')*'|\$\w*\$.*?\$\w*\$)|(?P<n>\b\d+(?:\.\d+)?\b)|(?P<k>\b(?i:` +
		strings.Join(strings.Fields(keywords), "|") + `)\b)`,
)

const keywords = `ADD ALL ALTER ANALYZE AND ANY AS ASC BEGIN BETWEEN BY CALL CASCADE
	CASE CAST CHECK COLUMN COMMENT COMMIT
	CONCURRENTLY CONSTRAINT COPY CREATE CURRENT DATABASE DEFAULT DELETE DESC DISTINCT DO DROP EACH ELSE END ENUM
	EXCEPT EXECUTE EXISTS EXPLAIN EXTENSION FALSE FIRST FOR FOREIGN FROM FULL FUNCTION GENERATED GRANT GROUP
	HAVING IDENTITY IF IN INDEX INNER INSERT INTERSECT INTO IS JOIN KEY LANGUAGE LEFT LIKE LIMIT LOCK
	MATERIALIZED MERGE NOT NULL OFFSET ON ONLY OR ORDER OUTER OVER OWNER PARTITION POLICY PRIMARY PROCEDURE
	REFERENCES REFRESH REINDEX RENAME REPLACE RESTRICT RETURNING RETURNS REVOKE RIGHT ROLLBACK ROW SCHEMA SELECT
	SEQUENCE SET TABLE THEN TO TRIGGER TRUE TRUNCATE TYPE UNION UNIQUE UPDATE USING VACUUM VALID VALIDATE VALUES
	VIEW WHEN WHERE WITH`

// mostColoured is how long a text may be to be set off, in bytes.
const mostColoured = 200_000

// highlighted writes SQL with line numbers, and with its parts set off where it is not
// too long.
func highlighted(sql string) markup {
	sql = visible.Text(strings.TrimRight(sql, "\n"))
	var b strings.Builder
	at := 0
	if len(sql) <= mostColoured {
		for _, found := range parts.FindAllStringSubmatchIndex(sql, -1) {
			b.WriteString(html.EscapeString(sql[at:found[0]]))
			for i, name := range parts.SubexpNames() {
				if name != "" && found[2*i] >= 0 {
					// a part of several lines is one in each
					text := html.EscapeString(sql[found[0]:found[1]])
					fmt.Fprintf(
						&b,
						`<span class="%s">%s</span>`,
						name,
						strings.ReplaceAll(text, "\n", "</span>\n<span class=\""+name+"\">"),
					)
				}
			}
			at = found[1]
		}
	}
	b.WriteString(html.EscapeString(sql[at:]))
	lines := strings.Split(b.String(), "\n")
	for i, line := range lines {
		lines[i] = fmt.Sprintf(`<span class="ln">%4d</span>%s`, i+1, line)
	}
	return markup("<pre>" + strings.Join(lines, "\n") + "</pre>")
}
