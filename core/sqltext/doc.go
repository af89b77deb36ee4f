// Package sqltext cuts SQL text into statements and knows where each began.
//
// The text of one file goes in; Statements come out, in order, each with its
// line and column. Tokens come from the PostgreSQL server's own scanner, so
// that strings, dollar quotes, nested comments and BEGIN ATOMIC bodies end
// where the server says. The package runs nothing and changes no byte.
package sqltext
