package sqltext

import (
	"strings"
)

// Literal quotes a text so that it means the same whatever the session's
// standard_conforming_strings.
func Literal(text string) string {
	quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if strings.Contains(text, `\`) {
		return "E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

// Identifier quotes a name.
func Identifier(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}
