package grammar

import "regexp"

// IsData reports whether a statement that is too long to be parsed adds rows by VALUES only, as
// far as its first words tell.
func IsData(sql []byte) bool { return insertsValues.Match(sql) }

var insertsValues = regexp.MustCompile(
	`(?is)^\s*INSERT\s+INTO\s+[^\s(]+\s*(?:\([^()]*\)\s*)?(?:OVERRIDING\s+(?:SYSTEM|USER)\s+VALUE\s+)?VALUES\s*\(`,
)
